"""The findings of a study of a site's own past."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Studied:
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
