"""The number of the newest event, noted outside of the journal: without it, nobody could tell that its end is missing."""

import os
from pathlib import Path

from lazy_quarry.files import ours
from lazy_quarry.store.checks import row_check

SIZE = 96


class Head:
    """The file ``journal.head``: the journal's identity and the number of its newest event, with a checksum.

    It is written in place after every transaction and never waited for. After a power cut it may be behind the journal, which
    says nothing; one that is ahead of it says that events are gone.
    """

    def __init__(self, folder: Path) -> None:
        self.path = folder / "journal.head"
        self._fd: int | None = None
        self.identity, self.number = "", 0
        try:
            identity, number, check = ours.read(self.path, 4096).decode("ascii", "replace").split()
            if row_check(identity, number).hex() == check:
                self.identity, self.number = identity, int(number)
        except (OSError, ValueError):
            pass

    def close(self) -> None:
        """Close the file."""
        if self._fd is not None:
            os.close(self._fd)
            self._fd = None

    def note(self, identity: str, number: int) -> None:
        """Note the newest event. A full disk keeps nobody from working."""
        line = f"{identity} {number} {row_check(identity, number).hex()}".ljust(SIZE - 1) + "\n"
        try:
            if self._fd is None:
                self._fd = ours.opened(self.path, os.O_WRONLY | os.O_CREAT)
            os.pwrite(self._fd, line.encode(), 0)
        except OSError:
            pass
