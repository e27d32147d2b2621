"""Instants as people write them (RFC 3339, RFC 9557 without its suffix). Without an offset they are in a zone of the IANA database.

An instant is whole milliseconds since the epoch.
"""

import re
from datetime import UTC, date, datetime, time, timedelta, tzinfo
from functools import lru_cache
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.units import MOST_NUMBER, parse_duration
from lazy_quarry.errors import BadValue

LATEST_MS = 32_503_680_000_000
"""The end of 2999; nobody may name a later instant."""
_DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")


@lru_cache(maxsize=8)
def zone_called(name: str) -> tzinfo:
    """A zone by its name in the IANA database; UTC for one that isn't there."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return UTC


def instant_of(at: datetime, zone: tzinfo) -> int:
    """The instant of a time, which is in a zone unless it has an offset of its own. Of a time that comes twice it is the first.

    Raises :class:`BadValue` for a time that the zone's clocks leave out, and for years beyond 1971 to 2999.
    """
    if not 1970 < at.year < 3000:
        raise BadValue(f"{at.year} is out of range; a date is between 1971 and 2999")
    if at.tzinfo is None:
        at = at.replace(tzinfo=zone)
        there = at.astimezone(UTC).astimezone(zone)
        if there.replace(tzinfo=None) != at.replace(tzinfo=None):
            raise BadValue(
                f"{at:%H:%M} on {at.day} {at:%b %Y} is left out by the clocks of {zone}, which go forward then; "
                f"write {there:%H:%M}, or an offset"
            )
    return round(at.timestamp() * 1000)


def parse_instant(text: str, zone: tzinfo = UTC) -> int:
    """The instant of an RFC 3339 date-time or a date, at whose beginning it is; without an offset in this zone."""
    try:
        at = datetime.fromisoformat(text.strip()[: MOST_NUMBER + 1])
    except ValueError:
        raise BadValue(f'"{shortened(text)}" is not a date-time; write it like 2026-11-23T18:00') from None
    return instant_of(at, zone)


def start_of_day(day: date, zone: tzinfo) -> int:
    """The first instant of a day, also where the clocks go forward at midnight."""
    return round(datetime.combine(day, time(), zone).timestamp() * 1000)


def parse_since(text: str, now_ms: int, zone: tzinfo = UTC) -> int:
    """An instant before now: ``2h``, ``2h ago``, ``2w``, ``yesterday``, ``monday``, ``10:40``, ``2026-11-23``, or a date-time.

    Days begin at midnight in this zone; the name of a day is the last one of it, today included.
    """
    words = text.strip().lower()
    today = datetime.fromtimestamp(now_ms / 1000, zone).date()
    if words in ("today", "yesterday"):
        return start_of_day(today - timedelta(days=words == "yesterday"), zone)
    if words in _DAYS:
        return start_of_day(today - timedelta(days=(today.weekday() - _DAYS.index(words)) % 7), zone)
    if match := re.fullmatch(r"([01]?\d|2[0-3]):([0-5]\d)", words):
        return instant_of(datetime.combine(today, time(int(match[1]), int(match[2]))), zone)
    if match := re.fullmatch(r"(\d{1,3}) ?w(?:eeks?)?(?: ago)?", words):
        return now_ms - int(match[1]) * 7 * 86_400_000
    try:
        return now_ms - 1000 * parse_duration(words.removesuffix("ago"))
    except BadValue:
        pass
    try:
        return parse_instant(text, zone)
    except BadValue as fault:
        if "out of range" in str(fault) or "left out" in str(fault):
            raise
    raise BadValue(
        f'"{shortened(text)}" is no time before now; '
        'write "2h ago", "2w", "yesterday", "monday", "10:40", 2026-11-23 or 2026-11-23T18:00'
    )
