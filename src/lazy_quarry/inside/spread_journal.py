"""The journal of a spread: a line of JSON a finished task, so that what is done is not done again (JSON Lines)."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
from collections.abc import Sequence

from lazy_quarry.inside.helper import Refused
from lazy_quarry.inside.tasks import Tasks


class SpreadJournal:
    """One open journal, which no other spread has open. What it has of other commands is left alone."""

    def __init__(self, path: str, command: Sequence[str]) -> None:
        self.path = path
        self.mark = hashlib.sha256("\0".join(command).encode(errors="surrogateescape")).hexdigest()[:12]
        try:
            if os.path.dirname(path):
                os.makedirs(os.path.dirname(path), exist_ok=True)
            self.fd = os.open(path, os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o640)
        except OSError as fault:
            raise Refused(f"the journal {path} cannot be written: {fault.strerror}") from None
        try:
            fcntl.flock(self.fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise Refused(f"another spread has the journal {path} open; name another with --journal") from None

    def done(self, tasks: Tasks) -> bytearray:
        """For each task 1 where it is recorded as done, with the same parameters and the same command."""
        found = bytearray(tasks.count)
        moved: dict[str, list[int]] | None = None
        for line in self._lines():
            try:
                entry = json.loads(line)
                if entry["outcome"] != "done" or entry.get("command", self.mark) != self.mark:
                    continue
                parameters, place = entry["parameters"], entry["task"] - 1
                if 0 <= place < tasks.count and tasks.values(place) == parameters:
                    found[place] = 1
                    continue
                if moved is None:  # the parameters are in another order, or there are others, than at that time
                    moved = {}
                    for at in range(tasks.count):
                        moved.setdefault(json.dumps(tasks.values(at), sort_keys=True), []).append(at)
                places = moved.get(json.dumps(parameters, sort_keys=True))
                if places:
                    found[places[0]] = 1
            except (ValueError, KeyError, TypeError):
                continue  # half a line, of a spread that was killed: its task runs again
        return found

    def _lines(self):  # type: ignore[no-untyped-def]
        whole = True
        with open(self.path, encoding="utf-8", errors="surrogateescape") as file:
            for line in file:
                whole = line.endswith("\n")
                yield line
        if not whole:
            self._write("\n")

    def note(self, entry: dict[str, object]) -> None:
        """Record the end of a task. Raises :class:`Refused` when that can't be done."""
        self._write(json.dumps({**entry, "command": self.mark}) + "\n")

    def _write(self, text: str) -> None:
        left = text.encode(errors="surrogateescape")
        try:
            while left:
                left = left[os.write(self.fd, left) :]
        except OSError as fault:
            raise Refused(f"the journal {self.path} cannot be written: {fault.strerror}") from None
