"""Marks of runs that somebody has looked at since they ended; kept beside the drafts of the site."""

import json
from contextlib import suppress

from lazy_quarry.app.shared.kept_files import KeptFiles
from lazy_quarry.views.job_view import JobView

MOST = 5_000
"""Numbers that are kept; older ones count as looked at."""


class LookedAt:
    """Runs that ended before the first visit count as looked at."""

    def __init__(self, kept: KeptFiles, name: str) -> None:
        self.kept, self.file = kept, f"looked-at-{name}.json"
        self.since: int | None = None
        self._jobs: dict[int, None] = {}
        self._begun = False
        with suppress(ValueError, TypeError, KeyError):
            known = json.loads(kept.text(self.file) or "")
            self.since, self._jobs = int(known["since"]), dict.fromkeys(map(int, known["jobs"]))

    def begin(self, now_ms: int, anew: bool) -> None:
        """The first visit, unless there was one. A rehearsal begins ``anew`` each time, with the same numbers."""
        if self._begun:
            return
        self._begun = True
        if self.since is None or anew:
            self.since, self._jobs = now_ms, {}
            self._keep()

    def is_new(self, view: JobView) -> bool:
        """True when a run has ended and nobody has looked at it."""
        ended = view.ended_ms if view.phase.final else None
        return self.since is not None and ended is not None and ended > self.since and view.job not in self._jobs

    def look(self, view: JobView) -> bool:
        """Somebody looks at it now; True when that is new."""
        if not self.is_new(view):
            return False
        self._jobs[view.job] = None
        while len(self._jobs) > MOST:
            del self._jobs[next(iter(self._jobs))]
        self._keep()
        return True

    def _keep(self) -> None:
        self.kept.put(self.file, json.dumps({"since": self.since, "jobs": list(self._jobs)}))
