"""What kind of file something is by its content, and whether it is whole: what was promised may be there, and empty or cut short.

PDF (ISO 32000), PNG (ISO 15948), gzip (RFC 1952), HDF5 (file format specification, superblock), NetCDF classic (its first
bytes), JSON (RFC 8259), CSV (RFC 4180).
"""

import os
from dataclasses import dataclass
from itertools import islice

MOST_READ = 32 << 20
"""Larger files are not read through; only their beginning and end are looked at."""
_ROWS = 10_000


@dataclass(frozen=True, slots=True)
class FileFound:
    """A file: its size, when it was written, what it is by its content, and what is wrong with it, if anything."""

    path: str
    size: int = 0
    written_ms: int = 0
    kind: str = ""
    problem: str = ""


def file_found(path: str) -> FileFound:
    """Look at a file. Never raises."""
    try:
        found = os.stat(path)
        at = found.st_mtime_ns // 1_000_000
        if os.path.isdir(path):
            return FileFound(path, 0, at, "folder")
        if not os.path.isfile(path):
            return FileFound(path, found.st_size, at, "no file")
        if found.st_size == 0:
            return FileFound(path, 0, at, "", "empty")
        with open(path, "rb") as file:
            head = file.read(512)
            file.seek(max(0, found.st_size - 2048))
            tail = file.read(2048)
        kind, problem = _looked_at(path, found.st_size, head, tail)
        return FileFound(path, found.st_size, at, kind, problem)
    except FileNotFoundError:
        return FileFound(path, problem="not there")
    except OSError as fault:
        return FileFound(path, problem=f"not readable: {fault.strerror}")


def _looked_at(path: str, size: int, head: bytes, tail: bytes) -> tuple[str, str]:
    name = path.lower()
    if head.startswith(b"%PDF-"):
        return "PDF", "" if b"%%EOF" in tail else "cut short: its end is missing"
    if head.startswith(b"\x89PNG\r\n\x1a\n"):
        return "PNG", "" if tail.endswith(b"\x00\x00\x00\x00IEND\xaeB`\x82") else "cut short: its end is missing"
    if head.startswith(b"\x1f\x8b"):
        return "gzip", _gzip(path, size)
    if head.startswith(b"\x89HDF\r\n\x1a\n"):
        return "HDF5", _hdf5(head, size)
    if head[:3] == b"CDF" and head[3:4] in (b"\x01", b"\x02", b"\x05"):
        return "NetCDF", "" if size >= 32 else "cut short: it ends in its header"
    if name.endswith((".json", ".geojson")):
        return "JSON", _json(path, size)
    if name.endswith((".csv", ".tsv")):
        return "CSV", _csv(path, size, tail, "\t" if name.endswith(".tsv") else ",")
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


def _gzip(path: str, size: int) -> str:
    import gzip
    import zlib

    if size > MOST_READ:
        return ""
    try:
        with gzip.open(path, "rb") as file:
            while file.read(1 << 20):
                pass
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


def _json(path: str, size: int) -> str:
    import json

    if size > MOST_READ:
        return ""
    try:
        with open(path, encoding="utf-8") as file:
            json.load(file)
    except json.JSONDecodeError as fault:
        return f"no JSON from line {fault.lineno} on: {fault.msg[:1].lower()}{fault.msg[1:]}"
    except (ValueError, RecursionError):
        return "no JSON: it is not text, or too deep"
    return ""


def _csv(path: str, size: int, tail: bytes, mark: str) -> str:
    import csv

    try:
        with open(path, encoding="utf-8", errors="replace", newline="") as file:
            width = 0
            for number, row in enumerate(islice(csv.reader(file, delimiter=mark), _ROWS), 1):
                if row and width and len(row) != width:
                    if number * 40 > size and not tail.endswith(b"\n"):
                        return "cut short: its last row is not whole"
                    return (
                        f"row {number} has {len(row)} {'cell' if len(row) == 1 else 'cells'}, the first one has {width}"
                    )
                width = width or len(row)
    except csv.Error as fault:
        return f"no CSV: {fault}"
    return "" if tail.endswith((b"\n", b"\r")) else "its last row has no end; it may be cut short"
