"""Advice on the next request of a name: from all comparable runs, with its reason, what it saves and how much sooner it starts."""

from collections.abc import Iterator, Sequence

from lazy_quarry.core.advice.next_time import MISS, NextTime, next_time, round_memory, round_time
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.units import exact_duration, exact_size
from lazy_quarry.core.values import replace
from lazy_quarry.errors import NoSuchJob, Refused
from lazy_quarry.site.alike_runs import past_run
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.drafts import Drafts
from lazy_quarry.site.session import Session
from lazy_quarry.store.journal import EndedFilter
from lazy_quarry.views.advice_view import Advised, ShorterAsk
from lazy_quarry.wording.advice_words import doubt_words, reason_of, stop_costs

MOST_AHEAD = 10_000
"""Tasks of an array that the advice is for."""


class Advice:
    """Gives advice from the runs of a site."""

    def __init__(self, session: Session, drafts: Drafts) -> None:
        self.session, self.drafts, self.alike = session, drafts, drafts.alike

    def like(self, caller: Caller, number: int) -> list[int]:
        """The ended runs that are alike to a job: of the same commands, or of its name in its folder or chain."""
        with self.session.lock:
            return [job.number for job, _ in self.alike.like_job(self.session.find(number))]

    def advise(self, caller: Caller, name: str) -> Advised:
        """Advice for a name, or for the job of a number. Raises :class:`NoSuchJob`, and :class:`Refused` without any run."""
        session = self.session
        with session.lock:
            job = self._job(caller.user, name)
            alike = self.alike.like_job(job)
            known = [one for one, _ in alike]
            runs = [run for one in known if (run := past_run(one)) is not None]
            found = next_time(runs, _ahead(job))
            if found is None:
                raise Refused(
                    f"no run of {job.request.name} has come to its end yet, so there is nothing to learn from"
                )
            newest = next(one for one in known if past_run(one) is not None)
            source = self.alike.kind_of(job).source(kind for one, kind in alike if past_run(one) is not None)
            return self._advised(caller, job, newest, found, source)

    def _job(self, user: str, name: str) -> Job:
        if name.isdecimal():
            return self.session.find(int(name))
        live = [
            job for job in self.session.engine.state.jobs.values() if job.request.name == name and job.parent is None
        ]
        ended = self.session.journal.ended(EndedFilter(user=user, name=name, limit=1))
        found = next((job for job in [*reversed(live), *ended] if job.user == user), None)
        if found is None:
            raise NoSuchJob(f'no job of yours is called "{name}"; lq jobs --ended lists what ran')
        return found if found.parent is None else self.session.find(found.parent)

    def _advised(self, caller: Caller, job: Job, newest: Job, found: NextTime, source: str) -> Advised:
        cores = max(1, newest.cores_allocated)
        asked_mib = sum(one.memory_mib for one in newest.allocations) // cores
        asked_s = job.request.walltime_s
        # More is advised however little it is, for without it the next run is stopped too; less only where that saves something.
        differs = found.walltime_s is not None and (found.walltime_s > asked_s or asked_s - found.walltime_s >= 60)
        seconds = found.walltime_s if differs else None
        mib = found.memory_mib if found.memory_mib and not 0.8 < found.memory_mib / max(1, asked_mib) <= 1.0 else None
        settings = [("walltime", exact_duration(seconds))] if seconds else []
        settings += [("memory", f"{exact_size(mib)}/core")] if mib else []
        advised = Advised(
            name=job.request.name,
            job=newest.parent or newest.number,
            runs=found.runs,
            requested_s=job.request.walltime_s,
            requested_mib=asked_mib,
            cores=cores,
            walltime_s=seconds,
            memory_mib=mib,
            busy=found.busy,
            saved_core_hours=max(0.0, found.saved_core_hours) if seconds else 0.0,
            starts_ms=None,
            starts_then_ms=None,
            reason=reason_of(source, found, self.session.zone),
            settings=tuple(settings),
            promise=None if found.doubts else MISS,
            doubt=doubt_words(found),
            shorter=tuple(self._shorter(caller, job, found, dict(settings))),
        )
        if not settings and not advised.shorter:
            return advised
        return replace(
            advised,
            starts_ms=self._start(caller, job, ()),
            starts_then_ms=self._start(caller, job, settings) if settings else None,
        )

    def _shorter(self, caller: Caller, job: Job, found: NextTime, settings: dict[str, str]) -> Iterator[ShorterAsk]:
        """An amount that would do for most runs, where that is less than one that would do for all."""
        for key, bound in (("walltime", found.walltime), ("memory", found.memory)):
            most = bound.for_most if bound is not None else None
            if bound is None or most is None:
                continue
            if key == "walltime":
                less, value = round_time(most.value) < round_time(bound.value), exact_duration(round_time(most.value))
            else:
                less = round_memory(most.value) < round_memory(bound.value)
                value = f"{exact_size(round_memory(most.value))}/core"
            if not less:
                continue
            starts_ms = self._start(caller, job, [*(settings | {key: value}).items()])
            yield ShorterAsk(
                key=key,
                setting=value,
                count=most.count,
                runs=most.runs,
                costs=stop_costs(job.request, key),
                starts_ms=starts_ms,
            )

    def _start(self, caller: Caller, job: Job, settings: Sequence[tuple[str, str]]) -> int | None:
        """When it would start if it were submitted now with these settings."""
        pairs = [f"{key}={value}" for key, value in settings]
        origin = job.origin
        overrides = (*origin.overrides, *pairs)
        draft = Submission(origin.script, origin.path, origin.directory, overrides, environment=origin.environment)
        return self.drafts.check(caller, draft).place.start_ms


def _ahead(job: Job) -> tuple[tuple[tuple[str, str], ...], ...]:
    """The parameters that the next one will have: of a task its own, of an array those of all its tasks."""
    array = job.request.array
    if array is None:
        return (job.request.parameters,) if job.request.parameters else ()
    return tuple(tuple(array.values(index).items()) for index in range(min(array.count, MOST_AHEAD)))
