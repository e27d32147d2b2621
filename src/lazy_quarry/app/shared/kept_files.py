"""The application's own small files, and a thread for all that it does with files: its loop never waits for a disk."""

import atexit
import threading
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from pathlib import Path
from queue import SimpleQueue

from lazy_quarry.files import ours

KINDS = ("draft-*.json", "chain-*.json", "looked-at-*.json", "notices.json", "*-columns.json")
LEAVE_S = 5.0
"""For so long the end of the application waits for what is still to be written."""


class Aside:
    """A thread that does one thing after the other, in the order in which they were given."""

    def __init__(self) -> None:
        self._given = SimpleQueue[Callable[[], object]]()
        self._thread: threading.Thread | None = None
        self._lock = threading.Lock()
        self._left = 0

    @property
    def idle(self) -> bool:
        """True when all that was given is done."""
        return self._left == 0

    def do(self, work: Callable[[], object]) -> None:
        """Do this when all that was given before is done; it raises nothing."""
        with self._lock:
            self._left += 1
            self._given.put(work)
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, daemon=True, name="files")
                self._thread.start()

    def _run(self) -> None:
        while True:
            self._given.get()()
            with self._lock:
                self._left -= 1

    def finish(self, most_s: float = LEAVE_S) -> bool:
        """Wait until all that was given is done, for so long at most; True when it is."""
        if self.idle:
            return True
        done = threading.Event()
        self.do(done.set)
        return done.wait(most_s)


class KeptFiles:
    """The application's files from one visit to the next, in a folder: read when this is made, written by a thread.

    Of a file that is put several times, what was put last is written.
    """

    def __init__(self, folder: Path) -> None:
        self.folder, self.problem = folder, ""
        """Why the last one could not be written, or empty."""
        self.aside = Aside()
        self._texts: dict[str, str] = {}
        self._unwritten = set[str]()
        for kind in KINDS:
            for path in folder.glob(kind):
                with suppress(OSError, ValueError):
                    self._texts[path.name] = ours.read(path).decode()
        atexit.register(self.aside.finish)

    def text(self, name: str) -> str | None:
        """The text that a file has, or will have; None for none."""
        return self._texts.get(name)

    def put(self, name: str, text: str) -> None:
        """Have a file with this text."""
        self._texts[name] = text
        if name not in self._unwritten:
            self._unwritten.add(name)
            self.aside.do(partial(self._write, name))

    def _write(self, name: str) -> None:
        self._unwritten.discard(name)
        try:
            self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            ours.write_whole(self.folder / name, self._texts[name], durable=False)
            self.problem = ""
        except OSError as fault:
            self.problem = f"{name} cannot be kept in {self.folder}: {fault.strerror}"
