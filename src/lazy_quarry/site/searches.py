"""Searches of all that ever ran: the index of what has ended is kept up, and what runs or waits is looked at as it is."""

import time
from contextlib import suppress

from lazy_quarry.core.job.job import Job, Origin, Phase
from lazy_quarry.core.search.facts import facts_of
from lazy_quarry.core.search.query import Order, Query, meets, of_user, parse_order, parse_query
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.core.values import replace
from lazy_quarry.errors import QuarryError, StateFolderError
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.job_views import JobViews, seen_by
from lazy_quarry.site.session import Session
from lazy_quarry.store.codec import text_key
from lazy_quarry.store.search_index import IndexEntry, SearchIndex
from lazy_quarry.store.sqlite.search_index import SqlSearchIndex
from lazy_quarry.views.outcomes import Found

AT_ONCE = 200
"""Number of ended jobs that are put into the index together."""
FRESH_MS = 24 * HOUR_MS
"""Time (ms) since its end in which a job's output is kept: later, its file may be another run's."""
PRINTED = -2048
"""Bytes of the end of an output that are kept; of a task that was done, nothing."""
MOST = 1_000


class Searches:
    """Finds jobs. The index follows the journal a little later, so that ends are recorded no slower for it."""

    def __init__(self, session: Session, views: JobViews) -> None:
        self.session, self.views = session, views
        self._kept: SearchIndex | None = None
        self._ends, self._past, self._made_anew = -1, session.past, 0
        self._array = (0, Origin(""))
        """The array whose tasks were met last, with its script."""

    @property
    def index(self) -> SearchIndex:
        """The index; opened when it is needed. Raises :class:`StateFolderError`."""
        if self._kept is None:
            self._kept = SqlSearchIndex(self.session.journal.folder, self.session.journal.identity)
        return self._kept

    def search(
        self, caller: Caller, where: str, ended: bool, everyone: bool, sort: str, limit: int, offset: int
    ) -> Found:
        """Jobs that meet a search; see :meth:`SiteClient.search`. Raises :class:`BadValue` for one that can't be read."""
        session = self.session
        query = parse_query(where, session.now(), session.zone)
        order = parse_order(sort) if sort else None
        named = {term.field.name for term in query.terms if term.field is not None}
        if "argument" in named:  # what others gave their scripts is theirs
            query, everyone = of_user(query, caller.user), True
        if not everyone and all(term.field is None or term.field.name != "user" for term in query.terms):
            query = of_user(query, caller.user)
        with session.lock:
            if not ended:
                return self._live(caller, query, order, limit, offset)
            behind = not self.catch_up(1.0)
            most = max(1, min(limit, MOST))
            numbers = self.index.find(query, order, most + 1, max(0, offset))
            if self.index.made_anew != self._made_anew:  # it was damaged
                behind = not self.catch_up(1.0)
                numbers = self.index.find(query, order, most + 1, max(0, offset))
            jobs = session.journal.ended_jobs(numbers[:most])
            found = tuple(seen_by(caller, self.views.view(jobs[number])) for number in numbers[:most] if number in jobs)
            return Found(found, len(numbers) > most, behind)

    def _live(self, caller: Caller, query: Query, order: Order | None, limit: int, offset: int) -> Found:
        session, now = self.session, self.session.now()
        found = list[tuple[Job, float | str]]()
        for job in session.engine.state.jobs.values():
            if query.tasks is (job.request.task is None):
                continue
            live = (
                session.runner.files.live(job, now)
                if job.phase is Phase.RUNNING and job.request.array is None
                else None
            )
            facts = facts_of(replace(job, use=live[0]) if live else job, now)
            if meets(query, facts, job.origin.script):
                value = getattr(facts, order.field.kept) if order else job.number
                found.append((job, value if value is not None else -1))
        found.sort(key=lambda one: (one[1], one[0].number), reverse=order is not None and order.down)
        shown = found[offset : offset + limit]
        return Found(
            tuple(seen_by(caller, self.views.view(job)) for job, _ in shown), len(found) > offset + limit, False
        )

    # -- keeping the index up ----------------------------------------------------------------------

    def catch_up(self, most_s: float) -> bool:
        """Put what has ended into the index, for so long at most; True when all is in it."""
        session = self.session
        if self.index.made_anew != self._made_anew:
            self._ends, self._made_anew = -1, self.index.made_anew
        if session.ends == self._ends and session.past == self._past:
            return True
        until, ends, past = time.monotonic() + most_s, session.ends, session.past
        if past != self._past:
            self.index.go_back(0)  # jobs that ended long ago were added
            self._past = past
        mark, last = self.index.mark(), -1
        while True:
            jobs = session.journal.ended_after(mark, max(last, 0), AT_ONCE)
            if not jobs:
                self._ends = ends
                return True
            missing = self.index.missing([job.number for job in jobs])
            mark, last = jobs[-1].ended_ms or mark, jobs[-1].number
            # Arrays go in after their tasks, though they end at the same instant as the last of these and have lower numbers.
            new = sorted((job for job in jobs if job.number in missing), key=lambda job: job.request.array is not None)
            self.index.add([self._entry(job) for job in new], mark)
            if time.monotonic() >= until:
                return False

    def keep_up(self) -> None:
        """Go on a little; what goes wrong is told by the next search."""
        with suppress(QuarryError), self.session.lock:
            self.catch_up(0.05)

    def forget_printed(self, before_ms: int) -> None:
        """Drop the ends of what was printed by jobs that ended before an instant."""
        with suppress(StateFolderError):
            self.index.forget_printed(before_ms)

    def _entry(self, job: Job) -> IndexEntry:
        origin = job.origin
        if job.parent is not None and not origin.script:  # it is kept once, with the array
            if self._array[0] != job.parent:
                self._array = job.parent, self.session.find(job.parent).origin
            origin = self._array[1]
        return IndexEntry(facts_of(job, job.ended_ms or 0), text_key(origin.script), origin.script, self._printed(job))

    def _printed(self, job: Job) -> str:
        """The end of what it printed."""
        session, now = self.session, self.session.now()
        rehearsed = session.clock_view.kind == "rehearsal"  # whose output is what its seed says, at any time
        old = now - (job.ended_ms or 0) > (7 if rehearsed else 1) * FRESH_MS
        if old or job.started_ms is None or job.request.array is not None:
            return ""
        if job.parent is not None and job.phase is Phase.DONE:
            return ""
        paths = dict.fromkeys((job.paths.errors, job.paths.output))
        return "\n".join(session.runner.files.output(job, path, PRINTED, now).text for path in paths)
