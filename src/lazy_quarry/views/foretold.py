"""The outcome of an act before it is done, as a value, and in words."""

from datetime import UTC, tzinfo

from msgspec import Struct

from lazy_quarry.core.units import MINUTE_MS, clock_time, format_core_hours, format_duration, plural

MOST_NAMED = 3
"""Jobs that are named one by one."""


class ForetoldJob(Struct, frozen=True, kw_only=True):
    """A job as it would be. ``start_ms`` is None where it waits for others, is held, or no start is known."""

    name: str
    tasks: int
    cores: int
    walltime_s: int
    queue: str
    account: str
    most_core_ms: int
    start_ms: int | None


class Foretold(Struct, frozen=True, kw_only=True):
    """The outcome of an act before it is done; or ``refused``, why it can't be done.

    ``left_core_ms`` is what the account of the first job has left now; None where it has no limit.
    """

    now_ms: int
    jobs: tuple[ForetoldJob, ...] = ()
    refused: str = ""
    left_core_ms: int | None = None

    @property
    def most_core_ms(self) -> int:
        """Core-ms that all of it is charged at most."""
        return sum(one.most_core_ms for one in self.jobs)


def foretold_words(found: Foretold, zone: tzinfo = UTC) -> str:
    """Word the jobs that there would be, the most that they are charged, when the first starts: one sentence, without its stop."""
    if found.refused:
        return found.refused
    told = [_job_words(one) for one in found.jobs[:MOST_NAMED]]
    if len(found.jobs) > MOST_NAMED:
        told.append(plural(len(found.jobs) - MOST_NAMED, "further job"))
    words = ", ".join(told)
    accounts = " and ".join(dict.fromkeys(one.account for one in found.jobs))
    words += f": at most {format_core_hours(found.most_core_ms)} core-hours of {accounts}"
    if found.left_core_ms is not None:
        words += f", which has {format_core_hours(found.left_core_ms)} left"
    return f"{words}; {start_words(found, zone)}"


def start_words(found: Foretold, zone: tzinfo = UTC) -> str:
    """When the first of it would start by the plan, in which all that runs takes its whole walltime."""
    starts = [one.start_ms for one in found.jobs if one.start_ms is not None]
    if not starts:
        return "no start is known yet"
    first = min(starts)
    now = first < found.now_ms + MINUTE_MS
    return "it starts now" if now else f"by the plan it starts about {clock_time(first, found.now_ms, zone)}"


def _job_words(one: ForetoldJob) -> str:
    size = f"{plural(one.cores, 'core')} for {format_duration(one.walltime_s)}"
    if one.tasks:
        return f"{plural(one.tasks, 'task')} of {one.name}, each {size}"
    return f"{one.name}, {size}"
