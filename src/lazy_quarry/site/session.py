"""The common ground of a site's parts: its state, the plan, the clock, and the only way to change anything."""

import threading
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, tzinfo

from lazy_quarry.core.engine.commands import ReadMeters
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.events import Ended, Event, Started
from lazy_quarry.core.engine.meters import lines_of
from lazy_quarry.core.engine.task_numbers import label_of, unstarted
from lazy_quarry.core.explain.explainer import Explainer
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.job.rates import charge_of
from lazy_quarry.core.ledger.accounts import AccountLine
from lazy_quarry.core.ledger.budgets import needed, unread, with_members
from lazy_quarry.core.plan.plan import Plan
from lazy_quarry.core.plan.waiting import Unplaced
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.core.values import replace
from lazy_quarry.errors import NoSuchJob, StateFolderError
from lazy_quarry.run.runner import Runner
from lazy_quarry.store.journal import EndedFilter, Journal
from lazy_quarry.views.board import ClockView
from lazy_quarry.views.job_view import StartRange

RECENT_MS = 12 * HOUR_MS
"""Jobs that ended within this time stay on the board."""
MOST_RECENT = 2000
SLICE_S, SLICE_JOBS = 0.05, 25
"""The plan is worked out so long at a time, and the clock looked at after so many jobs."""


class Session:
    """The engine of one site with its journal and its runner, now.

    ``clock`` gives the present instant in milliseconds; ``look_up`` adds what is known of files and programs to a
    submission that comes without; ``others_busy`` tells how many cores are busy beside those that our jobs keep so; ``folders_of``
    in which folders a submission works, by header key.
    ``lock`` lets one call in at a time, so that none sees another's half-done work; every public call of the parts takes it.
    """

    def __init__(
        self,
        site: Site,
        journal: Journal,
        runner: Runner,
        *,
        clock: Callable[[], int],
        zone: tzinfo = UTC,
        look_up: Callable[[Submission], Submission] = lambda submission: submission,
        others_busy: Callable[[float], float] = lambda own: 0.0,
        folders_of: Callable[[Submission], dict[str, str]] = lambda submission: {},
    ) -> None:
        self._site, self.journal, self.runner = site, journal, runner
        self.clock, self.zone, self.look_up = clock, zone, look_up
        self.others_busy, self.folders_of = others_busy, folders_of
        self.lock = threading.RLock()
        self.engine = Engine(site, journal.load())
        self._members: tuple[int, Site] | None = None
        self.began_ms = clock()
        """Since when it is in use without a pause."""
        self.version = 0
        """Grows with every change."""
        self.clock_view = ClockView("wall")
        self.unwritable = ""
        """Why the journal could not be written last time, or empty."""
        self.step_note = ""
        """Words for what goes wrong in the engine's own steps, or empty."""
        self.site_note = ""
        """Words on what is wrong with the site file, or has changed in it, or empty."""
        self.mail_note = ""
        """Why mail waits or was refused, or empty."""
        self.halves: list[int] = []
        """Chains of which only a part was taken in, as an earlier version did when it was killed or the disk was full."""
        self.heard: list[Callable[[int, list[Event], list[Job]], None]] = []
        """Who is told of events when they are in the journal: the number of the first, all of them, jobs that ended by them."""
        self.damage = ""
        """Words on what was found when all of a large journal was read and compared, or empty."""
        self.ends = 0
        """Grows when attempts have ended, or such were added: what was read of them before may be out of date."""
        self.past = 0
        """Grows when jobs that ended earlier are added to the journal."""
        self.adding_past = False
        """True while jobs that ended earlier are still to be added."""
        self.ranges: dict[int, StartRange] = {}
        """When jobs start, by number, where that was worked out; replaced as a whole."""
        self._changed = threading.Condition(self.lock)
        self._ahead: list[Event] | None = None
        """Events to be committed together, while they are gathered."""
        self._recently_ended: list[Job] | None = None

    def now(self) -> int:
        """The present instant; it never runs backwards."""
        return max(self.clock(), self.engine.state.at_ms)

    def commit(self, events: list[Event]) -> None:
        """Write events to disk, then apply them. Raises :class:`StateFolderError`, and then nothing has changed."""
        if not events:
            return
        with self.lock:
            if self._ahead is not None:
                self._ahead += events
                self.engine.apply(events)
                return
            try:
                self.journal.append(events, self.engine.state)
            except StateFolderError as fault:
                self.say_unwritable(str(fault))
                raise
            self.unwritable = ""
            self._happened(self.journal.number - len(events) + 1, events)

    def _happened(self, first: int, events: list[Event]) -> None:
        """Events are in the journal, the first with this number: they are applied, and whoever listens is told."""
        ended = self.engine.apply(events)
        for hear in self.heard:
            try:
                hear(first, events, ended)
            except Exception as fault:  # what follows an event never undoes it, nor fails the call that made it
                traceback.print_exception(fault, limit=-20)
                self.step_note = f"what follows an event failed: {fault}; the event itself is kept"
        self.ends += sum(isinstance(event, Ended) for event in events)
        if ended and self._recently_ended is not None:
            self._recently_ended = [*reversed(ended), *self._recently_ended]
        self._tell()

    def follow(self) -> None:
        """Take in what the engine has written, where the journal is open for reading only."""
        with self.lock:
            self.journal.follow(self.engine.state, self._happened)

    @property
    def gathering(self) -> bool:
        """True while what is committed is written later, together with more."""
        return self._ahead is not None

    @contextmanager
    def together(self) -> Iterator[None]:
        """Make one transaction of all that is committed within: all of it is on disk in the end, or nothing has changed.

        Decisions are made on a state that runs ahead. Where anything is raised within, nothing is kept.
        """
        with self.lock:
            real, self.engine, self._ahead = self.engine, Engine(self._site, self.engine.state.copy()), list[Event]()
            try:
                yield
                events = self._ahead
            finally:
                self.engine, self._ahead = real, None
            self.commit(events)

    def say_unwritable(self, why: str) -> None:
        """Nothing can be written at present; whoever listens is told."""
        with self.lock:
            if self.unwritable != why:
                self.unwritable = why
                self._tell()

    def say_of_steps(self, why: str) -> None:
        """Say what goes wrong in the engine's own steps; whoever listens is told."""
        with self.lock:
            if self.step_note != why:
                self.step_note = why
                self._tell()

    @property
    def site(self) -> Site:
        """The site, with those who may charge its accounts now."""
        changes = self.engine.state.member_changes
        count = sum(map(len, changes.values()))
        if self._members is None or self._members[0] != count:
            self._members = count, with_members(self._site, changes)
        return self._members[1]

    def say_of_site(self, note: str) -> None:
        """Change the words on the site file; whoever listens is told."""
        if self.site_note != note:
            with self.lock:
                self.site_note = note
                self._tell()

    def say_of_mail(self, note: str) -> None:
        """Change the words on mail; whoever listens is told."""
        with self.lock:
            self.mail_note = note
            self._tell()

    def say_foreseen(self, ranges: dict[int, StartRange], anew: bool = False) -> None:
        """Ranges were worked out anew; whoever listens is told, also of the same ones where another answer is there ``anew``."""
        with self.lock:
            told, self.ranges = anew or self.ranges != ranges, ranges
            if told:
                self._tell()

    def _tell(self) -> None:
        self.version += 1
        self._changed.notify_all()

    def wait_change(self, since: int, timeout_s: float) -> int:
        """The version, as soon as it is past ``since`` or the time is over."""
        with self._changed:
            self._changed.wait_for(lambda: self.version > since, timeout_s)
            return self.version

    # -- reading -----------------------------------------------------------------------------------

    def plan(self) -> Plan:
        """The one plan for this instant."""
        return self.engine.plans.plan(self.now())

    def work_out(self, job: int | None = None) -> bool:
        """Work the plan out a little further; True when all of it is there, or the place of a job was looked for.

        It takes a twentieth of a second at most, so that nobody waits for the plan of a large site.
        """
        plan, until = self.plan(), time.monotonic() + SLICE_S
        while not plan.work(SLICE_JOBS):
            if job in plan.tried:
                return True
            if time.monotonic() >= until:
                return False
        return True

    def obstacle(self) -> Unplaced | None:
        """The reason why nothing at all can start here at present; None where nothing is known to be in the way."""
        words = self.runner.obstacle()
        return Unplaced("cores", words) if words else None

    def half_chains(self) -> list[str]:
        """Sentences on chains of which only a part was taken in, as long as something of it is left."""
        told, state = list[str](), self.engine.state
        for record in (state.chains[number] for number in self.halves if number in state.chains):
            if record.missing and any(part.job in state.jobs for part in record.parts if part.job):
                names = f"{', '.join(record.missing[:5])}{' and others' if len(record.missing) > 5 else ''}"
                told.append(
                    f"chain {record.number} {record.name} was taken in by halves: {names} of it were never submitted; "
                    f"lq chain {record.number} --cancel ends the rest, --continue submits what is missing"
                )
        return told

    def explainer(self) -> Explainer:
        """Answers about waiting jobs, from that plan."""
        return Explainer(self.engine, self.now(), self.zone)

    def find(self, number: int) -> Job:
        """One job: live, ended, or a task that has not started. Raises :class:`NoSuchJob`."""
        state = self.engine.state
        job = state.jobs.get(number) or unstarted(state, number) or self.journal.ended_job(number)
        if job is None:
            raise NoSuchJob.of(label_of(state, number))
        return job

    def first_start_ms(self, job: Job) -> int | None:
        """When the first attempt of a job started; of an array, its first task. None where none has."""
        starts = [event.at_ms for event in self.journal.events_of(job.number) if isinstance(event, Started)]
        return min([*starts, *([job.started_ms] if job.started_ms is not None else [])], default=None)

    def tasks_of(self, number: int) -> list[Job]:
        """The live tasks of an array."""
        return [self.engine.state.jobs[task] for task in self.engine.state.tasks.get(number, ())]

    def account_lines(self) -> tuple[AccountLine, ...]:
        """The books of all accounts."""
        state = self.engine.state
        lines = lines_of(self.site, state, self.now())
        return tuple(replace(line, adding_up=True) for line in lines) if self.adding_past else lines

    def recently_ended(self) -> list[Job]:
        """Jobs that ended within the last hours, newest first."""
        since = self.now() - RECENT_MS
        if self._recently_ended is None:
            self._recently_ended = self.journal.ended(EndedFilter(since_ms=since, limit=MOST_RECENT))
        while self._recently_ended and (self._recently_ended[-1].ended_ms or 0) < since:
            self._recently_ended.pop()
        return self._recently_ended

    def read_meters(self, again: bool = False) -> None:
        """Record what accounts had been charged when terms began of which nobody knew then; ``again``: also of others."""
        state, now = self.engine.state, self.now()
        ever = {name: tally.charged_core_ms for name, tally in state.tallies.items()}
        for begin in needed(self._site, now) if again else unread(self._site, state.meters, now):
            if begin > state.at_ms and not again:
                continue  # nothing has happened since
            since = self.journal.charged(begin)
            had = {name: amount - int(since.get(name, 0)) for name, amount in ever.items()}
            for job in state.running():
                if job.started_ms is not None and job.started_ms < begin:
                    account = job.request.account
                    had[account] = had.get(account, 0) + charge_of(self._site, job, begin - job.started_ms)
            self.commit(self.engine.decide(ReadMeters(now, begin, tuple(sorted(had.items())))))

    def past_was_added(self) -> None:
        """Jobs that ended earlier were added to the journal, so what was read of it before is read again."""
        with self.lock:
            self.read_meters(again=True)
            self._recently_ended = None
            self.adding_past = False
            self.past += 1
            self.ends += 1
            self._tell()
