"""Telling the person in their terminal when a job ends: by its bell, or by a notice (OSC 9, OSC 777); off by default."""

import json
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress

from lazy_quarry.app.shared.kept_files import KeptFiles
from lazy_quarry.core.plain_text import plain
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import outcome_words

FILE = "notices.json"
WAYS = {
    "off": "off",
    "bell": "the terminal's bell",
    "osc9": "a notice, OSC 9",
    "osc777": "a notice, OSC 777",
}
"""Ways of telling, each with its words."""


class Ring:
    """Jobs whose ends are told, and how; the way is kept beside the drafts, the jobs only while the application is open."""

    def __init__(self, kept: KeptFiles, write: Callable[[str], object]) -> None:
        self.kept, self.write = kept, write
        self.jobs: dict[int, str] = {}
        """By number, what to call it."""
        self.way = "off"
        with suppress(ValueError, TypeError, KeyError):
            way = json.loads(kept.text(FILE) or "")["way"]
            self.way = way if way in WAYS else "off"

    def turn(self) -> str:
        """The next way of telling; returns its words."""
        ways = list(WAYS)
        self.way = ways[(ways.index(self.way) + 1) % len(ways)]
        self.kept.put(FILE, json.dumps({"way": self.way}))
        return WAYS[self.way]

    def mark(self, view: JobView) -> str:
        """Tell of this job when it ends, or no longer; returns what that means, in a sentence."""
        if view.phase.final:
            return f"{view.label} {view.name} has ended already."
        if self.jobs.pop(view.job, None):
            return f"You will not be told when {view.label} {view.name} ends."
        self.jobs[view.job] = f"{view.label} {view.name}"
        if self.way == "off":
            return f"{view.label} is marked, but notices are off: ctrl+p and “notices” turns them on."
        return f"You will be told when {view.label} {view.name} ends, by {WAYS[self.way]}."

    def look(self, views: Iterable[JobView]) -> Iterator[str]:
        """Ring for marked jobs that have ended, or are not on the board any more. Yields what was told."""
        if not self.jobs:
            return
        known = {view.job: view for view in views if view.job in self.jobs}
        for job, name in list(self.jobs.items()):
            view = known.get(job)
            if view is not None and not view.phase.final:
                continue
            del self.jobs[job]
            words = f"{name}: {view.phase}, {outcome_words(view)}" if view is not None else f"{name} has ended"
            self._ring(words)
            yield words

    def _ring(self, words: str) -> None:
        told = plain(words).replace(";", ",")[:200]
        sequence = {"bell": "\a", "osc9": f"\x1b]9;{told}\x1b\\", "osc777": f"\x1b]777;notify;Lazy Quarry;{told}\x1b\\"}
        if self.way in sequence:
            self.write(sequence[self.way])
