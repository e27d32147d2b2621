"""Kinds of files in words, and the fault of a path that leads to no file."""

from __future__ import annotations

import errno
import os
import stat

_KINDS = (
    (stat.S_ISDIR, "a folder"),
    (stat.S_ISFIFO, "a pipe"),
    (stat.S_ISSOCK, "a socket"),
    (stat.S_ISLNK, "a link"),
    (stat.S_ISCHR, "a device"),
    (stat.S_ISBLK, "a device"),
)
_NULL = os.makedev(1, 3)
"""Linux: Documentation/admin-guide/devices.txt."""


class NotAFile(OSError):
    """A path that leads to something else than a file; ``strerror`` says to what."""

    def __init__(self, what: str, path: str) -> None:
        super().__init__(errno.EINVAL, f"it is {what}, not a file", path)


_LACKS = {
    errno.EMFILE: "this process has no file descriptors left",
    errno.ENFILE: "this machine has no file descriptors left",
    errno.EAGAIN: "no more processes can be started",
    errno.ENOMEM: "there is no memory left",
    errno.ENOSPC: "the disk is full",
    errno.EDQUOT: "the quota of this disk is used up",
    errno.EROFS: "the file system is read-only",
}


def lack_of(fault: BaseException) -> str:
    """The state of the machine behind a fault, in words: nothing is wrong with the program then. Empty for other faults."""
    return _LACKS.get(fault.errno or 0, "") if isinstance(fault, OSError) else ""


def words_of(fault: OSError) -> str:
    """Why a system call failed, in words."""
    return lack_of(fault) or fault.strerror or str(fault)


def kind_of(found: os.stat_result) -> str:
    """The kind of something: "a pipe", "a folder"; empty for a regular file."""
    return next((words for is_one, words in _KINDS if is_one(found.st_mode)), "")


def is_null(found: os.stat_result) -> bool:
    """True for /dev/null."""
    return stat.S_ISCHR(found.st_mode) and found.st_rdev == _NULL
