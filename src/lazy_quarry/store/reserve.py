"""Room on the disk that is kept for the journal, and given up when the disk is full."""

import os
from pathlib import Path

from lazy_quarry.files import ours

SIZE = 512 * 1024
"""Enough for the ends of some thousand jobs."""


class Reserve:
    """A file of zeros beside the journal. While it is given up, the next write that succeeds makes it again."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / "journal.reserve"
        self._kept = self.path.exists()

    def give_up(self) -> bool:
        """Free the room; False when that has been done already."""
        self._kept = False
        try:
            self.path.unlink()
        except OSError:
            return False
        return True

    def keep(self) -> None:
        """Take the room, if there is enough for it and for as much again."""
        if self._kept:
            return
        try:
            disk = os.statvfs(self.path.parent)
            if disk.f_bavail * disk.f_frsize < 4 * SIZE:
                return
            fd = ours.opened(self.path, os.O_WRONLY | os.O_CREAT)
            try:
                os.posix_fallocate(fd, 0, SIZE)
            finally:
                os.close(fd)
        except OSError:
            self.path.unlink(missing_ok=True)
            return
        self._kept = True
