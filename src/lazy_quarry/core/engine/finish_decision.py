"""The events that follow from the end of an attempt."""

from lazy_quarry.core.engine.commands import Finish
from lazy_quarry.core.engine.events import Ended, Event, Held
from lazy_quarry.core.engine.job_changes import job_after
from lazy_quarry.core.engine.situation import Situation
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.inside import STUCK
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.job.rates import charge_of, is_free
from lazy_quarry.core.units import SECOND_MS


def finish(now: Situation, report: Finish) -> list[Event]:
    """An attempt has ended. A runner may report it twice; it counts once."""
    job = now.state.jobs.get(report.job)
    if job is None or job.phase is not Phase.RUNNING or (job.attempt, job.mark) != (report.attempt, report.mark):
        return []
    phase, reason = _outcome(job, report)
    held_ms = report.held_ms
    if held_ms is None:
        held_ms = max(0, now.at_ms - (now.at_ms if job.started_ms is None else job.started_ms))
        if phase is Phase.LOST:  # nobody saw it since; longer than this it can't have lasted
            held_ms = min(held_ms, (job.request.walltime_s + job.request.grace_s) * SECOND_MS)
    again = _runs_again(job, phase, report)
    goes_on = phase is Phase.OVERTIME and job.request.again_at_overtime
    free = is_free(now.site, phase, again and not goes_on, _gave_way(job, report))
    ended = Ended(
        at_ms=now.at_ms,
        job=job.number,
        attempt=job.attempt,
        phase=phase,
        again=again,
        exit=report.exit,
        signal=report.signal,
        reason=reason,
        use=report.use,
        allocated_core_ms=job.cores_allocated * held_ms,
        charge_core_ms=0 if free else charge_of(now.site, job, held_ms),
        held_ms=held_ms,
        inside=report.inside,
        curve=report.curve,
        host=report.host,
        printed=report.printed,
        parts=report.parts,
    )
    if ended.again and not _gave_way(job, report) and job_after(job, ended).stuck + 1 >= STUCK:
        return [ended, Held(now.at_ms, job.number, By(why=f"this site, for {STUCK} attempts in a row got no further"))]
    return [ended]


def _outcome(job: Job, report: Finish) -> tuple[Phase, str]:
    """The state that an attempt ended in, and why. The first cause to stop it decides, whatever it exits with."""
    if _gave_way(job, report):
        return Phase.CANCELLED, "it gave way to a job of another tier"
    cause, reason = report.cause, report.reason
    if job.stopping == "lost" and cause not in ("overtime", "overmemory"):
        cause, reason = "lost", report.reason or "its node went"
    if cause is None:
        return (Phase.DONE if report.exit == 0 else Phase.FAILED), reason
    if cause == "gave-way" or (cause == "lost" and job.stopping == "cancelled"):
        return Phase.CANCELLED, reason
    return Phase(cause), reason


def _gave_way(job: Job, report: Finish) -> bool:
    return job.stopping == "gave-way" and report.cause in ("gave-way", "cancelled", "lost")


def _runs_again(job: Job, phase: Phase, report: Finish) -> bool:
    """True when the job waits for another attempt."""
    request = job.request
    if _gave_way(job, report):
        return True
    if job.stopping is not None and not (phase is Phase.LOST and job.stopping == "lost"):
        return False
    if phase is Phase.OVERTIME and request.again_at_overtime:
        return True
    return phase in request.retries.on and job.retried < request.retries.times
