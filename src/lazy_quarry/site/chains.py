"""Chains as they are read: checked and rehearsed before they are submitted, and as they stand afterwards."""

from collections.abc import Mapping, Sequence
from statistics import median

from lazy_quarry.core.advice.forward_draws import SupposedJob
from lazy_quarry.core.chain.chain import Chain, ChainJob
from lazy_quarry.core.chain.chain_check import ChainChecked, check_chain
from lazy_quarry.core.chain.chain_file import read_chain
from lazy_quarry.core.chain.graph import ordered
from lazy_quarry.core.chain.rehearsal import ChainRehearsal, Rehearsing, Supposed, Waits, live_times
from lazy_quarry.core.header.check import Checked
from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.chain_record import ChainRecord
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.paths import within
from lazy_quarry.core.values import replace
from lazy_quarry.errors import NoSuchJob, Refused
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.drafts import Drafts
from lazy_quarry.site.job_views import seen_by
from lazy_quarry.site.queries import Queries
from lazy_quarry.site.session import Session
from lazy_quarry.views.chain_views import ChainReport, ChainSource, ChainView, PartView
from lazy_quarry.views.expanded import Expanded, expanded

MOST_LISTED = 200
"""Chains that are listed."""
EARLIER_RUNS = 10
"""Newest runs of a part of a chain whose charges tell what it will probably cost."""
MOST_LIKELY = 100
"""Number of jobs whose earlier runs are looked up: each takes a reading of the journal."""


class Chains:
    """The reports on chains."""

    def __init__(self, session: Session, drafts: Drafts, queries: Queries) -> None:
        self.session, self.drafts, self.queries = session, drafts, queries
        self._over: dict[int, tuple[ChainRecord, ChainView]] = {}
        """Chains of which nothing is left, as they ended: they are worked out once."""

    # -- before it is submitted --------------------------------------------------------------------

    def report_chain(
        self, caller: Caller, source: ChainSource, fails: list[str], slower: dict[str, float]
    ) -> ChainReport:
        """Check a chain file and, where nothing must change, rehearse it: supposing that these fail or take longer."""
        checked = self.checked(caller, source)
        with self.session.lock:
            if checked.chain is None or checked.refused:
                return ChainReport(checked.findings, None, self._sketch(caller, source, checked))
            chain, now = checked.chain, self.session.now()
            waits = {job.name: job.inside for job in chain.jobs}
            for name in (*fails, *slower):
                if name not in waits:
                    raise Refused(
                        f'there is no job "{name}" in {chain.name}{nearest(name, [one.name for one in chain.jobs])}'
                    )
            supposed = Supposed(frozenset(fails), tuple(slower.items()))
            rehearsing = Rehearsing(self.session.engine, now, caller.user, waits, checked.requests, None, supposed)
            view = self._rehearsed(caller, chain, checked.requests, rehearsing.rehearse())
            if supposed == Supposed():
                view = self._with_ranges(caller, view, waits, checked.requests)
            return ChainReport(checked.findings, view)

    def chain_tasks(self, caller: Caller, source: ChainSource, name: str) -> Expanded:
        """The tasks of an array of a chain file, as they will run. Raises :class:`Refused` where there are none."""
        with self.session.lock:
            checked = self.checked(caller, source)
        sent, request = checked.submissions.get(name), checked.requests.get(name)
        if sent is None:
            raise Refused(f'there is no job "{name}" that can be read')
        return expanded(sent.script, request)

    def _sketch(self, caller: Caller, source: ChainSource, checked: ChainChecked) -> ChainView | None:
        parts = []
        for name, after in checked.waits.items():
            request = checked.requests.get(name)
            parts.append(
                PartView(
                    name=name,
                    after=after,
                    reason="something must change first",
                    cores=self._cores(caller.user, request) if request else 0,
                    tasks=request.array.count if request and request.array else 0,
                    walltime_s=request.walltime_s if request else 0,
                )
            )
        name = checked.chain.name if checked.chain else source.name
        now, user = self.session.now(), caller.user
        return ChainView(number=0, name=name, user=user, now_ms=now, parts=tuple(parts)) if parts else None

    def checked(self, caller: Caller, source: ChainSource) -> ChainChecked:
        """A chain file and all of its scripts, checked."""
        folder = source.folder

        def submission(job: ChainJob) -> Submission:
            path = within(folder, job.path) if job.path else ""
            return Submission(job.script, path, folder, job.overrides, job.arguments, source.environment)

        read = read_chain(source.text, source.scripts, source.settings, source.name)
        compared = read.chain is not None and len(read.chain.jobs) <= MOST_LIKELY

        def check(sent: Submission) -> Checked:
            with self.session.lock:  # one by one, so that others are answered in between
                return self.drafts.checked(caller, sent, compared)

        return check_chain(read, submission, check)

    def _rehearsed(
        self, caller: Caller, chain: Chain, requests: Mapping[str, Request], found: ChainRehearsal
    ) -> ChainView:
        times = {one.name: one for one in found.jobs}
        parts = []
        for job in chain.jobs:
            one, request = times[job.name], requests[job.name]
            parts.append(
                PartView(
                    name=job.name,
                    after=job.after,
                    starts_ms=one.starts_ms,
                    ends_ms=one.ends_ms,
                    slack_ms=one.slack_ms if one.ends_ms is not None else None,
                    critical=one.critical,
                    reason=one.reason,
                    cores=self._cores(caller.user, request),
                    tasks=request.array.count if request.array else 0,
                    walltime_s=request.walltime_s,
                )
            )
        return ChainView(
            number=0,
            name=chain.name,
            user=caller.user,
            now_ms=self.session.now(),
            parts=tuple(parts),
            ends_ms=found.ends_ms,
            most_core_ms=found.most_core_ms,
            likely_core_ms=self._likely(
                caller.user, chain.name, [one.name for one in parts if one.ends_ms is not None]
            ),
        )

    def _with_ranges(self, caller: Caller, view: ChainView, waits: Waits, requests: Mapping[str, Request]) -> ChainView:
        """The same with what is expected of its jobs, where that is known by now."""
        told = {one.name for one in view.parts if one.starts_ms is not None}
        jobs = tuple(SupposedJob(name, requests[name], waits[name]) for name in ordered(waits) if name in told)
        found = self.drafts.foreseen(caller.user, jobs) if jobs and len(jobs) <= MOST_LIKELY else None
        if found is None:
            return view
        parts = tuple(replace(one, range=found.ranges.get(one.name)) for one in view.parts)
        return replace(view, parts=parts, likely_end_ms=found.ends_ms)

    def _likely(self, user: str, chain: str, names: Sequence[str]) -> int | None:
        """The sum of what the middle one of the last runs of each of these parts of a chain was charged."""
        total = 0
        if len(names) > MOST_LIKELY:
            return None
        for name in names:
            kind = self.drafts.alike.kind(name, "", "", chain)
            alike = self.drafts.alike.of(kind, user)
            charges = [job.charge_core_ms for job, _ in alike if job.phase is Phase.DONE][:EARLIER_RUNS]
            if not charges:
                return None
            total += round(median(charges))
        return total

    def _cores(self, user: str, request: Request) -> int:
        need = next(iter(self.session.engine.plans.planner.needs(request, user)), None)
        return need.cores if need else 0

    # -- one that was submitted --------------------------------------------------------------------

    def record(self, number: int) -> ChainRecord:
        """The record of a chain. Raises :class:`NoSuchJob` for none."""
        record = self.session.engine.state.chains.get(number)
        if record is None:
            raise NoSuchJob.of_chain(number)
        return record

    def chain(self, caller: Caller, number: int) -> ChainView:
        """A chain as it stands. Raises :class:`NoSuchJob` for none."""
        with self.session.lock:
            return self._view(caller, self.record(number))

    def chains(self, caller: Caller) -> list[ChainView]:
        """The newest chains, the last one first."""
        with self.session.lock:
            records = self.session.engine.state.chains
            return [self._view(caller, records[number]) for number in sorted(records, reverse=True)[:MOST_LISTED]]

    def chain_source(self, caller: Caller, number: int) -> tuple[str, str, str]:
        """The file of a chain as it was submitted, its path and its folder."""
        with self.session.lock:
            record = self.record(number)
            return record.source, record.path, record.folder

    def _view(self, caller: Caller, record: ChainRecord) -> ChainView:
        view = self._viewed(record)
        parts = tuple(replace(one, view=seen_by(caller, one.view)) if one.view else one for one in view.parts)
        return view if record.user == caller.user else replace(view, parts=parts)

    def _viewed(self, record: ChainRecord) -> ChainView:
        known = self._over.get(record.number)
        if known is not None and known[0] is record:
            return replace(known[1], now_ms=self.session.now())
        view = self._worked_out(record)
        if not view.left:
            self._over[record.number] = record, view
        return view

    def _worked_out(self, record: ChainRecord) -> ChainView:
        session, now = self.session, self.session.now()
        jobs: dict[str, Job] = {}
        for part in record.parts:
            if part.job:
                try:
                    jobs[part.name] = session.find(part.job)
                except NoSuchJob:
                    continue  # it ended so long ago that the site keeps no more of it
        known: dict[str, tuple[int, int]] = {}
        live = live_times(session.engine, now, [job.number for job in jobs.values() if not job.phase.final])
        for name, job in jobs.items():
            if job.phase.final and job.started_ms is not None:
                known[name] = job.started_ms, job.ended_ms or now
            elif job.number in live:
                known[name] = live[job.number]
        open_ = {name: job.request for name, job in jobs.items() if not job.phase.final and name not in known}
        lost = [name for name in open_ if jobs[name].phase in (Phase.WAITING, Phase.HELD)]
        out = {name for name, job in jobs.items() if job.phase.final and job.phase is not Phase.DONE}
        waits = {name: after for name, after in record.waits.items() if name in known or name in open_}
        inside = {name: tuple(one for one in after if one[0] in waits) for name, after in waits.items()}
        rehearsal = Rehearsing(
            session.engine, now, record.user, inside, open_, known, Supposed(fails=frozenset(out)), lost
        ).rehearse()
        times = {one.name: one for one in rehearsal.jobs}
        parts = []
        for part in record.parts:
            known_job, one = jobs.get(part.name), times.get(part.name)
            view = self.queries.views.view(known_job, session.explainer()) if known_job else None
            request = known_job.request if known_job else None
            final = known_job is not None and known_job.phase.final
            parts.append(
                PartView(
                    name=part.name,
                    after=part.after,
                    job=part.job,
                    phase=view.phase if view else None,
                    starts_ms=one.starts_ms if one else None,
                    ends_ms=one.ends_ms if one else known_job.ended_ms if known_job else None,
                    slack_ms=one.slack_ms if one and one.ends_ms is not None and not final else None,
                    critical=bool(one and one.critical and not final),
                    reason=(view.reason or view.why if view else "") or (one.reason if one else ""),
                    cores=view.cores if view else 0,
                    tasks=request.array.count if request and request.array else 0,
                    done_tasks=dict(view.counts).get("done", 0) if view else 0,
                    walltime_s=request.walltime_s if request else 0,
                    view=view,
                    range=view.range if view else None,
                )
            )
        live_left = any(one.phase is None or not one.phase.final for one in parts)
        ends = rehearsal.ends_ms if live_left else max((one.ends_ms or 0 for one in parts), default=None)
        return ChainView(
            number=record.number,
            name=record.name,
            user=record.user,
            now_ms=now,
            parts=tuple(parts),
            submitted_ms=record.at_ms,
            ends_ms=ends,
            most_core_ms=rehearsal.most_core_ms,
        )
