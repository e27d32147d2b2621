"""The kind of file system that a folder is on."""

from __future__ import annotations

import os

from lazy_quarry.files import system

NETWORK = ("nfs", "cifs", "smb", "fuse.sshfs", "lustre", "gpfs", "beegfs", "ceph", "glusterfs", "afs", "9p", "orangefs")
"""Beginnings of the names of file systems that several machines share."""


def file_system(folder: str | os.PathLike[str], table: str = "/proc/self/mountinfo") -> str:
    """The kind of file system that a folder is on, as proc(5) tells it; empty when that is unknown."""
    best, kind = "", ""
    path = f"{os.path.realpath(folder)}/"
    try:
        lines = system.read_text(table).splitlines()
    except OSError:
        return ""
    for line in lines:
        left, _, right = line.partition(" - ")
        at = left.split()[4].encode().decode("unicode_escape").rstrip("/") + "/"
        if path.startswith(at) and len(at) >= len(best):
            best, kind = at, right.split()[0]
    return kind


def is_shared(folder: str | os.PathLike[str]) -> bool:
    """True for a folder that several machines may see: its locks can't be relied on."""
    return is_of_network(file_system(folder))


def is_of_network(kind: str) -> bool:
    """True for the name of a kind of file system that several machines share."""
    return kind.startswith(NETWORK)
