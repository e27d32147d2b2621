"""Files of the kernel in /proc and /sys: small, of any owner, and made when they are read."""

from __future__ import annotations

import os


def read(path: str) -> bytes:
    """All that a file of the kernel holds. Raises :class:`OSError`."""
    fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
    try:
        pieces = list[bytes]()
        while piece := os.read(fd, 1 << 16):
            pieces.append(piece)
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)
    finally:
        os.close(fd)


def read_text(path: str) -> str:
    """The text of a file of the kernel. Raises :class:`OSError`."""
    return read(path).decode(errors="replace")
