"""Keeps what the board shows, and tells each reader what of it has changed since it last looked.

It is kept once, for all who look: what differs from one person to another is put in when it is handed out.
A look costs what has changed, not what there is or runs, and no look takes long: of much that has changed, as at the first look,
each goes on with a part, and says that it is one. Forecasts follow: the plan is worked out for a twentieth of a second at each
look, and until all of it is there, what was forecast before stays. What running jobs use is read of a few at each look.
"""

import time
from collections.abc import Iterable, Sequence
from itertools import islice
from secrets import token_hex
from typing import Any

from lazy_quarry import __version__
from lazy_quarry.core.explain.explainer import Explainer
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.ledger.accounts import AccountLine
from lazy_quarry.core.plan.plan import Plan
from lazy_quarry.core.units import MINUTE_MS
from lazy_quarry.run.runner import HostState
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.dependent_forecasts import BlockedInSight
from lazy_quarry.site.job_views import Expected, JobViews, Seen, seen_by
from lazy_quarry.site.session import RECENT_MS, Session
from lazy_quarry.site.versioned_table import Stamped
from lazy_quarry.views.board import (
    BoardChange,
    BoardMark,
    LimitView,
    NodeView,
    Occupant,
    PersonView,
    ShareView,
    SiteView,
)
from lazy_quarry.views.job_view import JobView

RENEW_MS, MOST_RENEWED = 30_000, 40
"""Time (ms) after which a running job's use is read again, and jobs read at a look; those in sight always are."""
SLICE_S = 0.025
"""Time for showing anew what has changed, at each look."""
BOOKS_S = 1.0
"""Seconds between two sums of what runs for each account, though it grows all the time."""


class BoardKeeper:
    """The board of one site in use. Called with the site's lock held."""

    def __init__(self, session: Session, views: JobViews) -> None:
        self.session, self.views = session, views
        self._epoch, self._stamp = token_hex(4), 0
        self._jobs = Stamped[int, JobView]()
        self._nodes = Stamped[str, NodeView]()
        self._past = -1
        """The past that was read; see :attr:`Session.past`."""
        self._ended_lately: dict[int, Job] = {}
        """Jobs that ended lately, the newest first."""
        self._due: dict[int, None] = {}
        self._due_nodes: dict[str, None] = {}
        """Jobs and nodes that are to be shown anew."""
        self._occupants: dict[str, dict[int, Occupant]] = {}
        self._closures: dict[str, str] = {}
        self._quiet: dict[str, int] = {}
        self._hosts: tuple[float, tuple[HostState, ...]] = (-BOOKS_S, ())
        self._renewed: dict[int, int] = {}
        """When what each running job uses was read last, the oldest first."""
        self._seen: dict[int, Seen] = {}
        """Each running job as it was read then."""
        self._unread: dict[int, None] = {}
        """Running jobs of which nothing was read yet."""
        self._expected: dict[int, Expected] = {}
        self._forecast_of: tuple[Plan, int] | None = None
        """The plan that the forecasts are from, and how many it had tried."""
        self._ranges = session.ranges
        """The ranges that the views have."""
        self._blocked = BlockedInSight(session)
        self._explainer: tuple[tuple[object, ...], Explainer] | None = None
        self._whys: dict[int, tuple[Job, str]] = {}
        """The reasons of jobs in sight, as that explainer says."""
        self._persons: dict[str, tuple[int, PersonView]] = {}
        """By user: the person as they were at a version of the site."""
        self._accounts: tuple[tuple[dict[Any, Any], ...], float, tuple[AccountLine, ...]] | None = None
        self._others = (-BOOKS_S, 0.0)
        self._site: tuple[int, SiteView] | None = None
        site = session.site
        self._order = {node.name: place for place, node in enumerate(site.nodes)}
        self._queues: dict[str, list[str]] = {}
        for queue in site.queues:
            for name in queue.nodes:
                self._queues.setdefault(name, []).append(queue.name)

    # -- a look ------------------------------------------------------------------------------------

    def change(
        self, caller: Caller, since: BoardMark | None, sight: Sequence[int], *, whole: bool = False
    ) -> BoardChange:
        """Tell what has changed for a person since a mark, or all. ``sight`` are jobs that are looked at: these are up to date.

        With ``whole`` all forecasts are worked out, however long that takes.
        """
        session, now = self.session, self.session.now()
        settled = self._bring_up_to_date(now, sight, whole)
        known = since is not None and since.epoch == self._epoch
        after = since.stamp if since is not None and known else -1
        # What was dropped before the floor isn't remembered any more, so a mark from before it can't be told what has gone.
        if after < max(self._jobs.floor, self._nodes.floor):
            after, known = -1, False
        jobs = list(self._jobs.since(after)) if known else list(self._jobs.values)
        nodes = sorted(self._nodes.since(after) if known else self._nodes.values, key=self._order.__getitem__)
        site = self._site_at(now)
        return BoardChange(
            mark=BoardMark(self._epoch, self._stamp),
            whole=not known,
            settled=settled,
            partial=bool(self._due),
            version=session.version,
            now_ms=now,
            clock=session.clock_view,
            site=site[1] if site[0] > after else None,
            person=self._person_now(caller),
            nodes=tuple(self._nodes.values[name] for name in nodes),
            jobs=tuple(seen_by(caller, self._jobs.values[number]) for number in jobs if number in self._jobs.values),
            gone=tuple(number for number in jobs if number not in self._jobs.values),
            accounts=self._accounts_now(),
            notices=self.notices(),
            others_busy=self._others_now(),
            hosts=self._hosts_now(),
        )

    def live(self, caller: Caller, numbers: Sequence[int]) -> list[JobView]:
        """Live jobs with everything that a person is told of them."""
        self._bring_up_to_date(self.session.now(), numbers, whole=True)
        return [seen_by(caller, self._jobs.values[number]) for number in numbers]

    def _bring_up_to_date(self, now: int, sight: Sequence[int], whole: bool) -> bool:
        """Follow the site; True when all forecasts are there."""
        self._stamp += 1
        self._note_changes(now)
        if not self._catch_up(sight, whole):
            return False
        settled = self._forecast(whole)
        self._renew(sight, now, settled)
        while whole and self._unread:
            self._read_more()
        return settled and not self._unread

    def notices(self) -> tuple[str, ...]:
        """Obstacles of the site or of certain jobs now, in sentences."""
        session = self.session
        closed = session.obstacle()
        told = [session.damage, session.unwritable, session.step_note, session.site_note, session.mail_note]
        told += [closed.words if closed is not None else "", *session.half_chains(), *session.runner.notices()]
        return tuple(dict.fromkeys(notice for notice in told if notice))

    # -- jobs --------------------------------------------------------------------------------------

    def _note_changes(self, now: int) -> None:
        """Note what has changed of the state since the last look, and what must be shown anew for it."""
        state = self.session.engine.state
        touched = state.jobs.take_touched() | (self.views.take_chained() & state.jobs.keys())
        if self._past < 0:  # the first look
            touched = set(state.jobs)
            self._due_nodes |= dict.fromkeys(node.name for node in self.session.site.nodes)
        touched |= {job.parent for number in touched if (job := state.jobs.get(number)) and job.parent is not None}
        # What a job waits for is in its row, so it changes with the jobs that it waits for.
        for number in list(touched):
            touched |= state.followers.get(number, set())
        self._due |= dict.fromkeys(sorted(touched))
        self._note_ended(now)
        closures = state.closures
        if closures != self._closures:
            self._due_nodes |= dict.fromkeys((*closures, *self._closures))
            self._closures = dict(closures)
        if state.quiet != self._quiet:
            changed = {name for name in {*state.quiet, *self._quiet} if state.quiet.get(name) != self._quiet.get(name)}
            self._due_nodes |= dict.fromkeys(sorted(changed))
            self._due |= dict.fromkeys(number for name in changed for number in self._occupants.get(name, ()))
            self._quiet = dict(state.quiet)

    def _catch_up(self, sight: Iterable[int], whole: bool) -> bool:
        """Show anew what is due, for a moment; True when all of it is shown. What is in sight comes first."""
        # The caller holds the site's lock. With 100,000 jobs a first look takes seconds, and submissions must go on meanwhile.
        until = time.monotonic() + SLICE_S
        for number in [*(number for number in sight if number in self._due), *self._due]:
            if self._due.pop(number, 0) is None:
                self._follow(number)
            if not whole and time.monotonic() >= until:
                return False
        for name in list(self._due_nodes):
            del self._due_nodes[name]
            self._show_node(name)
            if not whole and time.monotonic() >= until:
                return not self._due_nodes
        return True

    def _follow(self, number: int) -> None:
        """Bring one job up to date, with the nodes that it has or had."""
        job = self.session.engine.state.jobs.get(number)
        self._due_nodes |= dict.fromkeys(self._occupy(number, job))
        if job is not None:
            self._show(job)
        elif number in self._ended_lately:
            self._jobs.put(number, self.views.view(self._ended_lately[number]), self._stamp)
        else:
            self._jobs.drop(number, self._stamp)
        if job is None:
            for kept in (self._renewed, self._expected, self._seen, self._unread):
                kept.pop(number, None)

    def _show(self, job: Job, why: str = "", read: bool = False) -> None:
        if job.phase not in (Phase.WAITING, Phase.BLOCKED):
            self._expected.pop(job.number, None)
        self._renewed.pop(job.number, None)
        seen = Seen()
        if job.phase is Phase.RUNNING and job.request.array is None:
            seen = self._seen_of(job, read)
        plan = self._forecast_of[0] if self._forecast_of else None
        unplaced = plan.unplaced_so_far(job.number) if plan is not None else None
        view = self.views.shown(job, self._expected.get(job.number), unplaced, why, seen)
        self._jobs.put(job.number, view, self._stamp)

    def _seen_of(self, job: Job, read: bool) -> Seen:
        """A running job as it was read last, or is now: reading all that run would take long."""
        known = self._seen.get(job.number)
        if not read and (known is None or known.attempt != job.attempt):
            self._unread[job.number] = None
            return Seen()
        if known is None or read:
            known = self._seen[job.number] = self.views.read(job)
            self._unread.pop(job.number, None)
        self._renewed[job.number] = self.session.now()
        return known

    def _note_ended(self, now: int) -> None:
        """Note which jobs have ended lately, and which did so too long ago to be shown."""
        again = self._past != self.session.past
        self._past = self.session.past
        known = {} if again else self._ended_lately
        fresh = dict[int, Job]()
        for job in self.session.recently_ended():
            if job.number in known:
                break
            fresh[job.number] = job
        if again:
            self._due |= dict.fromkeys(self._ended_lately.keys() - fresh.keys())
        self._due |= dict.fromkeys(fresh)
        self._ended_lately = fresh | known
        while self._ended_lately:
            number, oldest = next(reversed(self._ended_lately.items()))
            if (oldest.ended_ms or 0) >= now - RECENT_MS:
                break
            del self._ended_lately[number]
            self._due[number] = None

    def _forecast(self, whole: bool) -> bool:
        """Work the plan out a little further; when all of it is there, take the forecasts from it."""
        plan = self.session.plan()
        if whole:
            plan.finish()
        elif not self.session.work_out():
            return False
        same = self._forecast_of is not None and self._forecast_of[0] is plan
        known = self._forecast_of[1] if self._forecast_of is not None and same else 0
        if not same or known != len(plan.tried):
            live, until = self.session.engine.state.jobs, time.monotonic() + SLICE_S
            for place, number in enumerate(islice(plan.tried, known, None), known + 1):
                self._forecast_of = plan, place
                job = live.get(number)
                if job is not None and job.phase is Phase.WAITING and self._expect(job, plan):
                    self._show(job)
                if not whole and time.monotonic() >= until:
                    return False
            self._forecast_of = plan, len(plan.tried)
        self._take_in_ranges()
        return True

    def _take_in_ranges(self) -> None:
        before, self._ranges = self._ranges, self.session.ranges
        if before is self._ranges:  # they are published whole, so most looks end here
            return
        live = self.session.engine.state.jobs
        for number in before.keys() | self._ranges.keys():
            view, job = self._jobs.values.get(number), live.get(number)
            if job is not None and view is not None and view.range != self._ranges.get(number):
                self._show(job, view.why)

    def _expect(self, job: Job, plan: Plan) -> bool:
        """Note what the plan says of a job; True when it is something else than before."""
        expected = self.views.expected(job, plan)
        before = self._expected.get(job.number)
        self._expected[job.number] = expected
        told = self._jobs.values.get(job.number)
        warned = self.views.hopeless(job, plan.unplaced_so_far(job.number))
        return before != expected or told is None or told.warning != warned

    def _renew(self, sight: Sequence[int], now: int, settled: bool) -> None:
        """Bring up to date what is in sight, and a few of those that weren't for long."""
        live = self.session.engine.state.jobs
        if settled:
            seen = [live[number] for number in sight if number in live]
            self._expected |= self._blocked.of([job for job in seen if job.phase is Phase.BLOCKED])
        for number in sight:
            job = live.get(number)
            if job is not None and job.phase is Phase.WAITING:
                why = self._why(job, now) if settled else ""
                if job.request.array is not None or self._jobs.values[number].why != why:
                    self._show(job, why)
            elif job is not None:
                self._show(job, read=True)
        self._read_more()
        old = list[int]()
        for number, at in self._renewed.items():
            if len(old) == MOST_RENEWED or now - at < RENEW_MS:
                break
            old.append(number)
        for number in old:
            self._show(live[number], read=True)

    def _read_more(self) -> None:
        """Read what those do of which nothing was read yet, for a moment."""
        live, until = self.session.engine.state.jobs, time.monotonic() + SLICE_S
        for number in list(self._unread):
            del self._unread[number]
            if (job := live.get(number)) is not None and job.phase is Phase.RUNNING:
                self._show(job, read=True)
            if time.monotonic() >= until:
                return

    def _explained(self, now: int) -> Explainer:
        """Answers from the present plan, made once a minute at the most for the same."""
        running, notices = len(self.session.engine.state.jobs.running), tuple(self.session.runner.notices())
        key = (self.session.plan(), running, now // MINUTE_MS, notices)
        if self._explainer is None or self._explainer[0] != key:
            self._explainer, self._whys = (key, self.session.explainer()), {}
        return self._explainer[1]

    def _why(self, job: Job, now: int) -> str:
        explainer = self._explained(now)
        known = self._whys.get(job.number)
        if known is None or known[0] is not job:
            known = self._whys[job.number] = job, self.views.why(job, explainer)
        return known[1]

    # -- nodes -------------------------------------------------------------------------------------

    def _occupy(self, number: int, job: Job | None) -> set[str]:
        """A job may have other cores than before, or none; returns the nodes that this is about."""
        before = self._jobs.values.get(number)
        names = set(before.nodes) if before is not None else set()
        found: dict[str, Occupant] = {}
        if job is not None and job.phase is Phase.RUNNING:
            found = dict(self._occupied(job))
        for name in names | set(found):
            there = self._occupants.setdefault(name, {})
            if name in found:
                there[number] = found[name]
            else:
                there.pop(number, None)
        return names | set(found)

    def _show_node(self, name: str) -> None:
        node = self.session.site.node.get(name)
        if node is None or not node.runs_jobs:
            return
        state = self.session.engine.state
        view = NodeView(
            name=name,
            queues=tuple(self._queues.get(name, ())),
            cores=node.cores,
            memory_mib=node.memory_mib,
            gpus=node.gpus,
            scratch_mib=node.scratch_mib,
            traits=node.traits,
            closed=state.closures.get(name, ""),
            closed_since_ms=state.closed_ms.get(name),
            host=node.way.host if node.way is not None else "",
            quiet_since_ms=state.quiet.get(name),
            occupants=tuple(one for _, one in sorted(self._occupants.get(name, {}).items())),
        )
        self._nodes.put(name, view, self._stamp)

    def _occupied(self, job: Job) -> Iterable[tuple[str, Occupant]]:
        """A running job's part of each of its nodes."""
        for allocation in job.allocations:
            yield (
                allocation.node,
                Occupant(
                    job=job.number,
                    label=job.label,
                    name=job.request.name,
                    user=job.user,
                    account=job.request.account,
                    cores=allocation.cores,
                    memory_mib=allocation.memory_mib,
                    gpus=len(allocation.gpus),
                    until_ms=job.end_limit_ms or 0,
                ),
            )

    # -- the rest ----------------------------------------------------------------------------------

    def _accounts_now(self) -> tuple[AccountLine, ...]:
        state, at, known = self.session.engine.state, time.monotonic(), self._accounts
        books = (state.tallies, state.grants, state.meters, state.member_changes)
        adding = known is not None and any(line.adding_up for line in known[2])
        if known is None or known[0] != books or adding or at - known[1] > BOOKS_S:
            self._accounts = known = tuple(dict(one) for one in books), at, self.session.account_lines()
        return known[2]

    def _others_now(self) -> float:
        """Cores that others keep busy, looked at now and then: it changes all the time."""
        at = time.monotonic()
        if at - self._others[0] > BOOKS_S:
            busy = sum(one.live[1] for one in self._seen.values() if one.live is not None)
            self._others = at, self.session.others_busy(busy)
        return self._others[1]

    def _hosts_now(self) -> tuple[HostState, ...]:
        """The hosts, looked at now and then: what they keep busy changes all the time."""
        at = time.monotonic()
        if self.session.site.apart and at - self._hosts[0] > BOOKS_S:
            self._hosts = at, tuple(self.session.runner.hosts())
        return self._hosts[1]

    def _person_now(self, caller: Caller) -> PersonView:
        known, version = self._persons.get(caller.user), self.session.version
        if known is None or known[0] != version:
            self._persons[caller.user] = known = version, self._person_view(caller)
        return known[1]

    def _person_view(self, caller: Caller) -> PersonView:
        site, user = self.session.site, caller.user
        accounts = site.accounts_of(user)
        tiers = [tier.name for tier in site.tiers if not tier.users or user in tier.users]
        owners = [("user", user), *(("account", name) for name in accounts), *(("tier", name) for name in tiers)]
        limits = tuple(LimitView(*one) for one in self.session.engine.limit_use.in_use(owners))
        use = self.session.engine.plans.recent_use(self.session.now())
        shares = tuple(ShareView(name, *use.of_account(name)) for name in accounts)
        default = site.default_account(user) or ""
        led = () if caller.operator else caller.leads
        return PersonView(user, default, accounts, limits, shares, caller.operator, led)

    def _site_at(self, now: int) -> tuple[int, SiteView]:
        """The site's view, and the stamp since when it is so."""
        windows = tuple(window for window in self.session.engine.plans.windows if window.ends_ms > now)
        if self._site is None or self._site[1].windows != windows:
            site = self.session.site
            view = SiteView(
                name=site.name,
                host=site.host,
                version=__version__,
                since_ms=self.session.began_ms,
                head=site.head,
                contact=site.contact,
                queues=site.queues,
                tiers=site.tiers,
                default_queue=site.default_queue,
                default_tier=site.default_tier,
                trial=site.trial,
                software=site.software,
                storage=site.storage,
                login_nodes=tuple(node for node in site.nodes if not node.runs_jobs),
                examples=site.examples,
                windows=windows,
            )
            self._site = self._stamp, view
        return self._site
