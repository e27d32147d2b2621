"""A scale of time: instants in milliseconds with marks at round times of a zone."""

from datetime import UTC, datetime, timedelta, tzinfo

from lazy_quarry.core.units import DAY_MS, HOUR_MS, MINUTE_MS
from lazy_quarry.draw.values import Scale

_STEPS_MS = (
    *(minutes * MINUTE_MS for minutes in (5, 10, 15, 30)),
    *(hours * HOUR_MS for hours in (1, 2, 3, 6, 12)),
    *(days * DAY_MS for days in (1, 2, 3, 7, 14, 28, 91, 364)),
)


def time_scale(begin_ms: int, end_ms: int, now_ms: int | None, zone: tzinfo = UTC, most: int = 8) -> Scale:
    """From one instant to another, with at most so many marks; its label names the day and the zone."""
    end_ms = max(end_ms, begin_ms + MINUTE_MS)
    step = next((one for one in _STEPS_MS if (end_ms - begin_ms) / one <= most), _STEPS_MS[-1])
    first = _local(begin_ms, zone)
    at = first.replace(hour=0, minute=0, second=0, microsecond=0)
    ticks: list[tuple[float, str]] = []
    while (instant := round(at.timestamp() * 1000)) <= end_ms:
        if instant >= begin_ms:
            if step >= DAY_MS:
                words = f"{at.day} {at:%b}"
            else:
                words = f"{at:%a} {at.day}" if (at.hour, at.minute) == (0, 0) else f"{at:%H:%M}"
            ticks.append((float(instant), words))
        at += timedelta(milliseconds=step)
    last = _local(end_ms, zone)
    days = f"{first:%a} {first.day} {first:%b %Y}"
    if last.date() != first.date():
        days += f" to {last:%a} {last.day} {last:%b %Y}"
    return Scale(float(begin_ms), float(end_ms), f"{days}, {first.tzname() or 'UTC'}", tuple(ticks), now_ms)


def _local(at_ms: int, zone: tzinfo) -> datetime:
    return datetime.fromtimestamp(at_ms / 1000, UTC).astimezone(zone)


def source_words(site: str, now_ms: int, zone: tzinfo = UTC) -> str:
    """Word the subject of a figure, and as of when."""
    at = _local(now_ms, zone)
    return f"{site}, as of {at.day} {at:%B %Y, %H:%M} {at.tzname() or 'UTC'}. Drawn by Lazy Quarry."
