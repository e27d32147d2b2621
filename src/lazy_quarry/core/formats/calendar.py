"""Windows and reservations as iCalendar (RFC 5545), to be seen in anybody's calendar and taken from it.

An event's UID is the reservation's name, its SUMMARY the reason, its LOCATION the nodes (``c01..c04``; none for all). Who may
use the nodes meanwhile stands in two properties of our own, which other programs leave alone.
"""

from collections.abc import Iterable
from datetime import UTC, date, datetime, timedelta, tzinfo
from urllib.parse import quote

from icalendar import Calendar, Component, Event
from msgspec import Struct

from lazy_quarry.core.instants import instant_of, start_of_day
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.site import Window
from lazy_quarry.core.units import fold_names, parse_names
from lazy_quarry.errors import BadValue

USERS, ACCOUNTS = "X-LAZY-QUARRY-USERS", "X-LAZY-QUARRY-ACCOUNTS"


def write_calendar(windows: Iterable[Window], now_ms: int) -> str:
    """A calendar of these."""
    calendar = Calendar()
    calendar.add("prodid", "-//Lazy Quarry//reservations//EN")
    calendar.add("version", "2.0")
    for place, window in enumerate(windows, 1):
        event = Event()
        event.add("uid", window.name or f"window-{place}")
        event.add("dtstamp", _moment(now_ms))
        event.add("dtstart", _moment(window.begins_ms))
        event.add("dtend", _moment(window.ends_ms))
        event.add("summary", window.reason)
        event.add("location", fold_names(window.nodes))
        if window.users:
            event.add(USERS, " ".join(window.users))
        if window.accounts:
            event.add(ACCOUNTS, " ".join(window.accounts))
        calendar.add_component(event)
    text: str = calendar.to_ical().decode()
    return text


class BudgetDay(Struct, frozen=True):
    """A day on which something of a budget ends: what that is in words, and sentences about it.

    ``key`` tells it from every other: the site, what ends, the account and the term, in any characters.
    """

    key: tuple[str, ...]
    what: str
    begins_ms: int
    ends_ms: int
    words: str

    @property
    def uid(self) -> str:
        """Its UID (RFC 5545, 3.8.4.7): the same whenever it is written, without spaces."""
        return "budget-" + "-".join(quote(part, safe="") for part in self.key)


def budget_calendar(ends: Iterable[BudgetDay], now_ms: int) -> str:
    """A calendar of the days on which budgets end."""
    calendar = Calendar()
    calendar.add("prodid", "-//Lazy Quarry//budgets//EN")
    calendar.add("version", "2.0")
    for one in ends:
        event = Event()
        event.add("uid", one.uid)
        event.add("dtstamp", _moment(now_ms))
        event.add("dtstart", _moment(one.begins_ms).date())
        event.add("dtend", max(_moment(one.ends_ms).date(), _moment(one.begins_ms).date() + timedelta(days=1)))
        event.add("summary", one.what)
        event.add("description", one.words)
        event.add("transp", "TRANSPARENT")
        calendar.add_component(event)
    text: str = calendar.to_ical().decode()
    return text


def read_calendar(text: str, all_nodes: tuple[str, ...], zone: tzinfo = UTC) -> list[Window]:
    """The windows of a calendar; times that float (RFC 5545, 3.3.5) and days are in this zone.

    Raises :class:`BadValue` with the event that cannot be taken.
    """
    try:
        return _windows(Calendar.from_ical(text), all_nodes, zone)
    except BadValue:
        raise
    except (ValueError, LookupError, AttributeError, TypeError, OverflowError, RecursionError) as fault:
        # What the library raises for what no calendar has.
        raise BadValue(f"this is not an iCalendar file: {shortened(str(fault))}") from None


def _windows(calendar: Component, all_nodes: tuple[str, ...], zone: tzinfo) -> list[Window]:
    found = []
    for event in calendar.walk("VEVENT"):
        name = str(event.get("uid", "")).strip()
        what = f'event "{shortened(str(event.get("summary") or name))}"'
        if event.get("rrule") is not None:
            raise BadValue(f"{what} recurs; write each of its times as an event of its own")
        if not name or event.get("dtstart") is None or event.get("dtend") is None:
            raise BadValue(f"{what} needs a UID, a DTSTART and a DTEND")
        location = str(event.get("location", "")).strip()
        found.append(
            Window(
                tuple(parse_names(location)) if location else all_nodes,
                _instant(event.decoded("dtstart"), zone),
                _instant(event.decoded("dtend"), zone),
                str(event.get("summary", "")) or "reserved",
                tuple(str(event.get(USERS, "")).split()),
                tuple(str(event.get(ACCOUNTS, "")).split()),
                name,
            )
        )
    return found


def _moment(at_ms: int) -> datetime:
    return datetime.fromtimestamp(at_ms // 1000, UTC)


def _instant(value: object, zone: tzinfo) -> int:
    if not isinstance(value, date):
        raise BadValue(f'"{shortened(str(value))}" is not a date or a time')
    return instant_of(value, zone) if isinstance(value, datetime) else start_of_day(value, zone)
