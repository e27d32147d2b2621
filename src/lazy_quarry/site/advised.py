"""What to ask for next time, for a name: from all comparable runs, with its reason, what it saves and how much sooner it starts."""

from collections.abc import Callable, Sequence
from dataclasses import replace

from lazy_quarry.core.advice.next_time import MISS, Bound, NextTime, PastRun, next_time
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.units import exact_duration, exact_size, format_duration, format_size, plural
from lazy_quarry.errors import NoSuchJob, Refused
from lazy_quarry.site.advice_view import FEW, Advised
from lazy_quarry.site.drafts import Drafts
from lazy_quarry.site.present import Present
from lazy_quarry.store.codec import text_key
from lazy_quarry.store.journal import EndedFilter

MOST_RUNS = 200
"""So many of the newest runs are looked at."""
MOST_AHEAD = 10_000
"""Tasks of an array that the advice is for."""


class Advice:
    """Gives advice from the runs of a site."""

    def __init__(self, present: Present, drafts: Drafts) -> None:
        self.present, self.drafts = present, drafts

    def advise(self, name: str) -> Advised:
        """Advice for a name, or for the job of a number. Raises :class:`NoSuchJob`, and :class:`Refused` without any run."""
        present = self.present
        with present.lock:
            job = self._job(name)
            known = self._comparable(job)
            runs = [run for one in known if (run := past_run(one)) is not None]
            found = next_time(runs, _ahead(job))
            if found is None:
                raise Refused(
                    f"no run of {job.request.name} has come to its end yet, so there is nothing to learn from"
                )
            newest = next(one for one in known if past_run(one) is not None)
            alone = all(one.request.name == job.request.name for one in known)
            return self._advised(job, newest, found, alone)

    def _comparable(self, job: Job) -> list[Job]:
        """The newest runs of the name, and those of the very script under other names."""
        ended = self.present.journal.ended
        found = ended(EndedFilter(user=job.user, name=job.request.name, limit=MOST_RUNS))
        if key := text_key(job.origin.script):
            found += ended(EndedFilter(user=job.user, script=key, limit=MOST_RUNS))
        runs = {one.number: one for one in found if one.request.array is None}
        return sorted(runs.values(), key=lambda one: (one.ended_ms or 0, one.number), reverse=True)[:MOST_RUNS]

    def _job(self, name: str) -> Job:
        if name.isdecimal():
            return self.present.find(int(name))
        live = [
            job for job in self.present.engine.state.jobs.values() if job.request.name == name and job.parent is None
        ]
        ended = self.present.journal.ended(EndedFilter(user=self.present.user, name=name, limit=1))
        found = next((job for job in [*reversed(live), *ended] if job.user == self.present.user), None)
        if found is None:
            raise NoSuchJob(f'no job of yours is called "{name}"')
        return found if found.parent is None else self.present.find(found.parent)

    def _advised(self, job: Job, newest: Job, found: NextTime, alone: bool) -> Advised:
        cores = max(1, newest.cores_allocated)
        asked_mib = sum(one.memory_mib for one in newest.allocations) // cores
        seconds = (
            found.walltime_s if found.walltime_s and abs(found.walltime_s - job.request.walltime_s) >= 60 else None
        )
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
            reason=reason_of(job.request.name if alone else f"{job.request.name} and of its script", found),
            settings=tuple(settings),
        )
        if not settings:
            return advised
        return replace(advised, starts_ms=self._start(job, ()), starts_then_ms=self._start(job, settings))

    def _start(self, job: Job, settings: Sequence[tuple[str, str]]) -> int | None:
        """When it would start if it were submitted now with these settings."""
        pairs = [f"{key}={value}" for key, value in settings]
        origin = job.origin
        overrides = (*origin.overrides, *pairs)
        draft = Submission(origin.script, origin.path, origin.directory, overrides, environment=origin.environment)
        return self.drafts.check(draft).place.start_ms


def past_run(job: Job) -> PastRun | None:
    """A run to learn from; None for one that says nothing of what it needs: it failed, was cancelled, lost, or never ran."""
    if job.phase not in (Phase.DONE, Phase.OVERTIME, Phase.OVERMEMORY) or job.started_ms is None or not job.allocations:
        return None
    took, cores = max(1.0, job.attempt_ms(0) / 1000), max(1, job.cores_allocated)
    return PastRun(
        took,
        job.use.memory_peak_mib / cores,
        cores,
        job.use.cpu_ms / 1000 / took,
        job.request.walltime_s,
        sum(one.memory_mib for one in job.allocations) / cores,
        late=job.phase is Phase.OVERTIME,
        full=job.phase is Phase.OVERMEMORY,
        parameters=job.request.parameters,
    )


def _ahead(job: Job) -> tuple[tuple[tuple[str, str], ...], ...]:
    """The parameters that the next one will have: of a task its own, of an array those of all its tasks."""
    array = job.request.array
    if array is None:
        return (job.request.parameters,) if job.request.parameters else ()
    return tuple(tuple(array.values(index).items()) for index in range(min(array.count, MOST_AHEAD)))


def reason_of(name: str, found: NextTime) -> str:
    """Why, in a sentence or three."""
    runs = plural(found.runs, "run")
    told = []
    if found.walltime is not None:
        verb = f"{'were' if found.runs > 1 else 'was'} not done within" if found.walltime.only_failed else "took"
        told.append(f"{verb} {_span(found.walltime, format_duration)}{_grown(found.walltime)}")
    if found.memory is not None and found.memory.most > 0.5:
        verb = "had too little with" if found.memory.only_failed else "used"
        told.append(f"{verb} {_span(found.memory, format_size)} for each core{_grown(found.memory)}")
    which = f"The last {runs}" if found.runs > 1 else "The only run"
    words = f"{which} of {name} {' and '.join(told)}." if told else ""
    if any(bound is not None and bound.above_failed for bound in (found.walltime, found.memory)):
        words += " It is this much because of runs for which less was not enough."
    if found.runs < FEW:
        return f"{words} So few say little: a further one may well need more.".strip()
    return f"{words} At most one further run in {round(1 / MISS)} should need more.".strip()


def _span(bound: Bound, show: Callable[[float], str]) -> str:
    least, most = show(bound.least), show(bound.most)
    return f"{most}" if least == most else f"{least} to {most}"


def _grown(bound: Bound) -> str:
    if bound.growth is None:
        return ""
    one = bound.growth
    return (
        f" (it grows about as {one.parameter} to the power of {one.power:.1f}; this is for {one.parameter}={one.at:g})"
    )
