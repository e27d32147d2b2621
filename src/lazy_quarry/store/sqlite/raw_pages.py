"""Rows read straight from the pages of an SQLite file, whatever the rest of the file is like.

A leaf of a table is a page of type 13 with an array of offsets to its cells; a cell is a payload's size, a row number and the
payload, whose end may be on a chain of overflow pages ("Database File Format", sqlite.org/fileformat2.html). Pages stand in the
file itself and, newer ones, in its write-ahead log. Whatever cannot be read as that is passed over: who reads must know rows
that are whole by their checksums.
"""

import shutil
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from lazy_quarry.files import ours

PAGE = 4096
_USABLE = PAGE
_MOST = 1 << 40
_LOCAL_MOST = _USABLE - 35
_LOCAL_LEAST = (_USABLE - 12) * 32 // 255 - 23
_LEAF = 13
_WAL_HEADER, _FRAME_HEADER = 32, 24
Value = int | float | str | bytes | None


def saved_log(folder: Path) -> Path:
    """Where the write-ahead log is kept while it is not known whether the journal is whole.

    SQLite reads the log as far as its checksums go, and removes it when the file is closed, with all that lies behind.
    """
    return folder / "journal.db-wal.saved"


def save_log(folder: Path, name: str) -> None:
    """Keep the write-ahead log that an engine left which didn't end by itself, until the journal is known to be whole."""
    log = folder / name
    with suppress(OSError):
        if log.exists() and log.stat().st_size and not saved_log(folder).exists():
            shutil.copyfile(log, saved_log(folder))
            saved_log(folder).chmod(0o600)


class RawPages:
    """The pages of a journal's file and of its write-ahead log."""

    def __init__(self, file: Path) -> None:
        data = ours.read(file, _MOST) if file.exists() else b""
        self.pages = [data[at : at + PAGE] for at in range(0, len(data), PAGE)]
        self.newer: dict[int, list[bytes]] = {}
        """Images in the write-ahead log, by page number, the newest last."""
        for log in (file.with_name(f"{file.name}-wal"), saved_log(file.parent)):
            frames = ours.read(log, _MOST) if log.exists() else b""
            for at in range(_WAL_HEADER, len(frames) - PAGE, PAGE + _FRAME_HEADER):
                number = int.from_bytes(frames[at : at + 4], "big")
                image = frames[at + _FRAME_HEADER : at + _FRAME_HEADER + PAGE]
                self.newer.setdefault(number, []).append(image)

    def rows(self) -> Iterator[tuple[int, list[Value]]]:
        """Row number and values of every cell that can be read, some of them several times."""
        for number, page in enumerate(self.pages, 1):
            yield from self._cells(page, 100 if number == 1 else 0)
        for images in self.newer.values():
            for page in images:
                yield from self._cells(page, 0)

    def _cells(self, page: bytes, header: int) -> Iterator[tuple[int, list[Value]]]:
        if len(page) < PAGE or page[header] != _LEAF:
            return
        count = int.from_bytes(page[header + 3 : header + 5], "big")
        for place in range(min(count, PAGE // 4)):
            at = int.from_bytes(page[header + 8 + 2 * place : header + 10 + 2 * place], "big")
            if not header + 8 <= at < PAGE - 2:
                continue
            try:
                size, at = _varint(page, at)
                row, at = _varint(page, at)
            except IndexError:
                continue
            for payload in self._payloads(page, at, size):
                values = _record(payload)
                if values is not None:
                    yield row, values

    def _payloads(self, page: bytes, at: int, size: int) -> Iterator[bytes]:
        """The contents of a cell; with overflow pages, as the newest pages have it and as the file has it."""
        if size <= _LOCAL_MOST:
            yield page[at : at + size]
            return
        if size > 2**30:
            return
        local = _LOCAL_LEAST + (size - _LOCAL_LEAST) % (_USABLE - 4)
        local = local if local <= _LOCAL_MOST else _LOCAL_LEAST
        first = int.from_bytes(page[at + local : at + local + 4], "big")
        for newest in (True, False):
            payload, number, seen = page[at : at + local], first, set[int]()
            while number and len(payload) < size and number not in seen:
                seen.add(number)
                image = self._page(number, newest)
                payload += image[4:]
                number = int.from_bytes(image[:4], "big")
            if len(payload) >= size:
                yield payload[:size]

    def _page(self, number: int, newest: bool) -> bytes:
        if newest and number in self.newer:
            return self.newer[number][-1]
        return self.pages[number - 1] if 0 < number <= len(self.pages) else b""


def _varint(data: bytes, at: int) -> tuple[int, int]:
    value = 0
    for place in range(9):
        byte = data[at + place]
        if place == 8:
            return (value << 8) | byte, at + 9
        value = (value << 7) | (byte & 0x7F)
        if byte < 0x80:
            return value, at + place + 1
    raise IndexError


def _record(payload: bytes) -> list[Value] | None:
    """The values of a record, or None when it can't be one."""
    try:
        size, at = _varint(payload, 0)
        kinds = []
        while at < size:
            kind, at = _varint(payload, at)
            kinds.append(kind)
        values: list[Value] = []
        for kind in kinds:
            length = _LENGTHS[kind] if kind < 10 else (kind - 12) // 2
            part = payload[at : at + length]
            if len(part) < length or kind in (10, 11):
                return None
            at += length
            if kind == 0:
                values.append(None)
            elif kind <= 6:
                values.append(int.from_bytes(part, "big", signed=True))
            elif kind == 7:
                values.append(0.0)
            elif kind <= 9:
                values.append(kind - 8)
            else:
                values.append(part if kind % 2 == 0 else part.decode())
        return values
    except (IndexError, UnicodeDecodeError):
        return None


_LENGTHS = (0, 1, 2, 3, 4, 6, 8, 8, 0, 0)
