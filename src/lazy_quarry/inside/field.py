"""The states of a spread's tasks, a byte a task, in a file that others read while it runs."""

from __future__ import annotations

import os

from lazy_quarry.inside.helper import record

WAITS, RUNS, DONE, FAILED, STOPPED = b".", b"r", b"d", b"f", b"s"


class Field:
    """The field of one spread. Outside of a job, or on a full disk, there is none, and nothing else changes."""

    def __init__(self, name: str, done: bytearray) -> None:
        self.part, self._fd = "", -1
        folder = record.folder()
        if folder is None:
            return
        self.part = record.begin(name, "spread")
        try:
            self._fd = os.open(os.path.join(folder, f"field-{self.part}"), os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
            os.write(self._fd, bytes(done).translate(bytes([WAITS[0], DONE[0]]) + bytes(254)))
        except OSError:
            self._fd = -1

    def mark(self, place: int, state: bytes) -> None:
        """A task stands otherwise."""
        if self._fd >= 0:
            try:
                os.pwrite(self._fd, state, place)
            except OSError:
                self._fd = -1
