"""The kind of a file by its content, and whether it is whole: a promised file may be there, and empty or cut short.

PDF (ISO 32000), PNG (ISO 15948), gzip (RFC 1952), HDF5 (file format specification, superblock), NetCDF classic (its first
bytes), JSON (RFC 8259), CSV (RFC 4180).
"""

from __future__ import annotations

import os
from io import BufferedReader, TextIOWrapper
from itertools import islice
from typing import NamedTuple

from lazy_quarry.files import given
from lazy_quarry.files.kinds import NotAFile, kind_of

MOST_READ = 32 << 20
"""Larger files are not read through; only their beginning and end are looked at."""
MOST_UNPACKED = 512 << 20
_ROWS = 10_000


class FileFound(NamedTuple):
    """A file: its size, when it was written, what it is by its content, and what is wrong with it, if anything."""

    path: str
    size: int = 0
    written_ms: int = 0
    kind: str = ""
    problem: str = ""


def file_found(path: str) -> FileFound:
    """Look at a file. Never raises."""
    try:
        fd = given.opened(path, os.O_RDONLY | os.O_NONBLOCK)
    except NotAFile:
        return _no_file(path)
    except FileNotFoundError:
        return FileFound(path, problem="not there")
    except OSError as fault:
        return FileFound(path, problem=f"not readable: {fault.strerror}")
    with open(fd, "rb") as file:
        found = os.fstat(fd)
        at = found.st_mtime_ns // 1_000_000
        try:
            if kind_of(found):
                return _no_file(path)
            if found.st_size == 0:
                return FileFound(path, 0, at, "", "empty")
            kind, problem = _looked_at(path, found.st_size, file)
        except OSError as fault:
            return FileFound(path, found.st_size, at, problem=f"not readable: {fault.strerror}")
        return FileFound(path, found.st_size, at, kind, problem)


def _no_file(path: str) -> FileFound:
    try:
        found = os.stat(path)
    except OSError as fault:
        return FileFound(path, problem=f"not readable: {fault.strerror}")
    what = kind_of(found).removeprefix("a ")
    at = found.st_mtime_ns // 1_000_000
    return FileFound(path, 0, at, "folder") if what == "folder" else FileFound(path, 0, at, what, "no file")


def _looked_at(path: str, size: int, file: BufferedReader) -> tuple[str, str]:
    name, fd = path.lower(), file.fileno()
    head, tail = given.read_range(fd, 512), given.read_range(fd, 2048, max(0, size - 2048))
    if head.startswith(b"%PDF-"):
        return "PDF", "" if b"%%EOF" in tail else "cut short: its end is missing"
    if head.startswith(b"\x89PNG\r\n\x1a\n"):
        return "PNG", "" if tail.endswith(b"\x00\x00\x00\x00IEND\xaeB`\x82") else "cut short: its end is missing"
    if head.startswith(b"\x1f\x8b"):
        return "gzip", _gzip(file, size)
    if head.startswith(b"\x89HDF\r\n\x1a\n"):
        return "HDF5", _hdf5(head, size)
    if head[:3] == b"CDF" and head[3:4] in (b"\x01", b"\x02", b"\x05"):
        return "NetCDF", "" if size >= 32 else "cut short: it ends in its header"
    if name.endswith((".json", ".geojson")):
        return "JSON", _json(file, size)
    if name.endswith((".csv", ".tsv")):
        return "CSV", _csv(file, size, tail, "\t" if name.endswith(".tsv") else ",")
    for suffix, what in (
        (".pdf", "PDF"),
        (".png", "PNG"),
        (".gz", "gzip"),
        (".h5", "HDF5"),
        (".hdf5", "HDF5"),
        (".nc", "NetCDF"),
    ):
        if name.endswith(suffix):
            return "text" if b"\0" not in head else "data", f"by its name a {what} file, by its content none"
    return ("data" if b"\0" in head else "text"), ""


def _gzip(file: BufferedReader, size: int) -> str:
    import gzip
    import zlib

    if size > MOST_READ:
        return ""
    try:
        with gzip.GzipFile(fileobj=file, mode="rb") as text:
            for _ in range(MOST_UNPACKED >> 20):
                if not text.read(1 << 20):
                    break
    except EOFError:
        return "cut short: it ends in the middle"
    except (OSError, zlib.error) as fault:
        return f"broken: {fault}"
    return ""


def _hdf5(head: bytes, size: int) -> str:
    """The superblock says where the file ends (versions 0 to 3)."""
    version = head[8] if len(head) > 8 else 255
    width = head[13 if version < 2 else 9] if len(head) > 13 else 0
    if version > 3 or width not in (2, 4, 8):
        return "" if version > 3 else "broken: its first block makes no sense"
    # version 0: 24 bytes, version 1: 28, then base, free space, end; versions 2 and 3: 12 bytes, then base, extension, end
    begin = {0: 24, 1: 28}.get(version, 12) + 2 * width
    end = int.from_bytes(head[begin : begin + width], "little")
    if len(head) < begin + width or end > size:
        return f"cut short: {size:,} of {end:,} bytes"
    return ""


def _json(file: BufferedReader, size: int) -> str:
    import json

    if size > MOST_READ:
        return ""
    try:
        json.loads(given.read_range(file.fileno(), MOST_READ).decode())
    except json.JSONDecodeError as fault:
        return f"no JSON from line {fault.lineno} on: {fault.msg[:1].lower()}{fault.msg[1:]}"
    except (ValueError, RecursionError):
        return "no JSON: it is not text, or too deep"
    return ""


def _csv(file: BufferedReader, size: int, tail: bytes, mark: str) -> str:
    import csv

    lines = TextIOWrapper(file, encoding="utf-8", errors="replace", newline="")
    try:
        width = 0
        for number, row in enumerate(islice(csv.reader(lines, delimiter=mark), _ROWS), 1):
            if row and width and len(row) != width:
                if number * 40 > size and not tail.endswith(b"\n"):
                    return "cut short: its last row is not whole"
                return f"row {number} has {len(row)} {'cell' if len(row) == 1 else 'cells'}, the first one has {width}"
            width = width or len(row)
    except csv.Error as fault:
        return f"no CSV: {fault}"
    return "" if tail.endswith((b"\n", b"\r")) else "its last row has no end; it may be cut short"
