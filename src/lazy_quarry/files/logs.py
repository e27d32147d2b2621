"""Logs of ours: appended to, and turned over when they have grown, so that three of a size are kept."""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path

from lazy_quarry.files import ours

MOST_BYTES = 2**20
KEPT = 3


def opened_log(path: Path) -> int:
    """Open a log for appending; what stands there is moved to ``NAME.1`` when it is long, and that to ``NAME.2``.

    Raises :class:`OSError`.
    """
    flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND
    fd = ours.opened(path, flags)
    if os.fstat(fd).st_size < MOST_BYTES:
        return fd
    os.close(fd)
    names = [str(path), *(f"{path}.{number}" for number in range(1, KEPT))]
    for older, newer in reversed(list(zip(names[1:], names, strict=False))):
        with suppress(FileNotFoundError):
            os.rename(newer, older)
    return ours.opened(path, flags)


def keep_short(path: Path) -> None:
    """Turn this process's log over, its standard error, when it has grown."""
    with suppress(OSError):
        if os.fstat(2).st_size < MOST_BYTES or not os.path.samestat(os.fstat(2), os.stat(path)):
            return
        fd = opened_log(path)
        for told in (1, 2):
            os.dup2(fd, told)
        os.close(fd)
