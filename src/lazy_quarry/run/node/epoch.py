"""The highest epoch that an agent has taken up, kept in its spool: an engine of a lower one is not listened to any more."""

from __future__ import annotations

import json
from contextlib import suppress
from pathlib import Path

from lazy_quarry.files import ours


class Epoch:
    """The engine that an agent listens to: its journal, and the number of its start in it."""

    def __init__(self, spool: Path) -> None:
        self.path = spool / "epoch.json"
        found = ours.read_json(str(self.path))
        known = found if isinstance(found, dict) else {}
        journal, highest = known.get("journal"), known.get("epoch")
        self.journal = journal if isinstance(journal, str) else ""
        self.highest = highest if type(highest) is int else 0
        self._written = True

    def allows(self, journal: str, epoch: int) -> bool:
        """False for an engine of a lower epoch of the same journal."""
        return journal != self.journal or epoch >= self.highest

    def take(self, journal: str, epoch: int) -> bool:
        """Take up an engine; False for one that is not allowed."""
        if not self.allows(journal, epoch):
            return False
        if (journal, epoch) != (self.journal, self.highest):
            self.journal, self.highest, self._written = journal, epoch, False
            self.keep()
        return True

    def keep(self) -> None:
        """Have on disk what is known here, unless it is. A full disk keeps nobody from working: it is tried again."""
        if not self._written:
            with suppress(OSError):
                ours.write_whole(self.path, json.dumps({"journal": self.journal, "epoch": self.highest}))
                self._written = True
