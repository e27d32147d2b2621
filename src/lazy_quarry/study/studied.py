"""The findings of a study of a past: how policies did, and how forecasts did."""

from msgspec import Struct


class Studied(Struct, frozen=True):
    """The outcome under one policy: seconds waited by half and 19 in 20, bounded slowdown, cores in use while jobs came."""

    policy: str
    jobs: int
    refused: int
    """Jobs that could never have run so."""
    wait_mean_s: float
    wait_median_s: float
    wait_p95_s: float
    slowdown_mean: float
    use: float
    accounts: tuple[tuple[str, float], ...]
    """By account the mean of its jobs' waits, in seconds."""
    apart_mean_s: float = 0.0
    """By how much jobs started sooner or later than they did, on average."""
    apart_median_s: float = 0.0
    """By how much half of the jobs started at most sooner or later than they did."""
    shares: tuple[tuple[str, float], ...] = ()
    """By account its share of what was in use while jobs came."""
    days: tuple[tuple[int, float, int], ...] = ()
    """By day of submission, counted from the past's beginning: seconds that its jobs waited together, and their number."""


class ForecastMade(Struct, frozen=True, kw_only=True):
    """A forecast of a job at its submission, from what had ended before, and its start.

    Instants are seconds of the past's own clock; None where nothing was said, or it never started.
    """

    job: int
    submit_s: float
    early_s: float | None = None
    middle_s: float | None = None
    late_s: float | None = None
    plan_s: float | None = None
    start_s: float | None = None
    cores: int = 1
    walltime_s: float = 0
    tier: str = ""

    @property
    def counts(self) -> bool:
        """True when a range was said and it is known when the job started."""
        return None not in (self.early_s, self.middle_s, self.late_s, self.plan_s, self.start_s)
