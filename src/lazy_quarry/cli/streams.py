"""Standard streams that may be closed: a command without output has still done what it did."""

import os
import sys

_closed: set[str] = set()


def hold_streams() -> None:
    """Open /dev/null where a standard stream is closed: else the next file or socket would be taken for it."""
    for fd, name, mode in ((0, "stdin", "r"), (1, "stdout", "w"), (2, "stderr", "w")):
        try:
            os.fstat(fd)
        except OSError:
            _closed.add(name)
            os.open(os.devnull, os.O_RDWR)  # takes the lowest number that is free, and so this one
            setattr(sys, name, open(fd, mode, closefd=False))


def has_output() -> bool:
    """True when standard output was open at the start."""
    return "stdout" not in _closed


def drop_output() -> None:
    """Write nothing more to standard output: nobody can read it."""
    null = os.open(os.devnull, os.O_WRONLY)
    os.dup2(null, sys.stdout.fileno())
    os.close(null)
