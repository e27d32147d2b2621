"""Held and charged core-ms of an attempt, by day.

Charges (see :mod:`lazy_quarry.core.job.rates`) are rounded down to a core-millisecond once for each attempt. So sums over
any grouping agree to the second.
"""

from lazy_quarry.core.units import DAY_MS


def by_day(begin_ms: int, end_ms: int, core_ms: int) -> list[tuple[int, int]]:
    """Core-ms of an attempt, divided among the UTC days it ran in, as (day's first instant, core-ms).

    The parts add up to the whole: what rounding leaves goes to the last day.
    """
    length = end_ms - begin_ms
    if length <= 0:
        return [(end_ms - end_ms % DAY_MS, core_ms)]
    parts, given, day = [], 0, begin_ms - begin_ms % DAY_MS
    while day < end_ms:
        inside = min(day + DAY_MS, end_ms) - max(day, begin_ms)
        part = core_ms * inside // length
        parts.append((day, part))
        given += part
        day += DAY_MS
    parts[-1] = (parts[-1][0], parts[-1][1] + core_ms - given)
    return parts
