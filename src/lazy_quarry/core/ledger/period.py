"""Periods of the books, as people say them. They begin and end with days of UTC, as the sums are kept by these."""

import re
from datetime import UTC, date, datetime, timedelta

from msgspec import Struct

from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.errors import BadValue

_MONTHS = (
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
)
_DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_KINDS = ("week", "month", "quarter", "year")
_FIRST, _LAST = date(1971, 1, 1), date(2999, 1, 1)
HOW = 'write "last month", "2026 Q3", "March 2026", "last 30 days", "since Monday", "since 3 March" or "2026-03-01 to 2026-04-15"'


class Period(Struct, frozen=True):
    """A span of whole days: its first instant, the first one after it, and what it is called."""

    begin_ms: int
    end_ms: int
    name: str

    @property
    def days(self) -> int:
        """Number of its days."""
        return (self.end_ms - self.begin_ms) // DAY_MS

    @property
    def first(self) -> date:
        """Its first day."""
        return _day_of(self.begin_ms)

    @property
    def last(self) -> date:
        """Its last day."""
        return _day_of(self.end_ms - DAY_MS)

    @property
    def span(self) -> str:
        """``1 to 31 March 2026``."""
        first, last = self.first, self.last
        told = f"{last.day} {last:%B %Y}"
        if first == last:
            return told
        if (first.year, first.month) == (last.year, last.month):
            return f"{first.day} to {told}"
        return f"{first.day} {first:%B}{f' {first.year}' if first.year != last.year else ''} to {told}"

    @property
    def when(self) -> str:
        """The period in a sentence: ``on 29 November 2026``, ``in November 2026``, ``from 3 to 9 March 2026``."""
        if self.begin_ms + DAY_MS == self.end_ms:
            return f"on {self.name}"
        return f"from {self.name}" if " to " in self.name else f"in {self.name}"

    def moved(self, by: int) -> "Period":
        """The next one (1) or the one before (-1), of the same kind: months go to months, and other spans by their length."""
        first, last = self.first, self.last
        months = (last.year - first.year) * 12 + last.month - first.month + 1
        if first.day == 1 and (last + timedelta(days=1)).day == 1:
            begin = _month(first, by * months)
            return _between(begin, _month(begin, months))
        return _between(first + timedelta(days=by * self.days), last + timedelta(days=by * self.days + 1))

    def through(self, end_ms: int) -> "tuple[Period, ...]":
        """It and those that follow, until an instant lies no later than the end of the last."""
        found = [self]
        while found[-1].end_ms < end_ms:
            found.append(found[-1].moved(1))
        return tuple(found)

    def widened(self, by: int) -> "Period":
        """A wider one that it lies in or a narrower one at its end, by so many steps: day, week, month, quarter, year."""
        kinds = (1, 7, 31, 92, 366)
        place = next((number for number, days in enumerate(kinds) if self.days <= days), len(kinds) - 1)
        place = max(0, min(len(kinds) - 1, place + by))
        return _around(self.last if by < 0 else self.first, place)


def _around(day: date, place: int) -> Period:
    if place == 0:
        return _between(day, day + timedelta(days=1))
    if place == 1:
        monday = day - timedelta(days=day.weekday())
        return _between(monday, monday + timedelta(days=7))
    months = {2: 1, 3: 3, 4: 12}[place]
    begin = date(day.year, (day.month - 1) // months * months + 1, 1)
    return _between(begin, _month(begin, months))


def _day_of(at_ms: int) -> date:
    return datetime.fromtimestamp(at_ms / 1000, UTC).date()


def _ms(day: date) -> int:
    return round(datetime(day.year, day.month, day.day, tzinfo=UTC).timestamp() * 1000)


def _month(day: date, by: int) -> date:
    number = day.year * 12 + day.month - 1 + by
    return date(max(1971, min(2999, number // 12)), number % 12 + 1, 1)


def _between(first: date, after: date) -> Period:
    """The period of these days, by the name that people have for it."""
    first, after = max(first, _FIRST), min(max(after, first + timedelta(days=1)), _LAST)
    begin, end = _ms(first), _ms(after)
    months = (after.year - first.year) * 12 + after.month - first.month
    whole = first.day == after.day == 1
    if whole and months == 12 and first.month == 1:
        name = str(first.year)
    elif whole and months == 3 and first.month % 3 == 1:
        name = f"{first.year} Q{(first.month + 2) // 3}"
    elif whole and months == 1:
        name = f"{first:%B %Y}"
    elif (after - first).days == 1:
        name = f"{first.day} {first:%B %Y}"
    elif (after - first).days == 7 and first.weekday() == 0:
        name = f"the week of {first.day} {first:%B %Y}"
    else:
        name = ""
    made = Period(begin, end, name)
    return made if name else Period(begin, end, made.span)


def period_between(begin_ms: int, end_ms: int) -> Period:
    """The period of all days that lie in a span at least in part."""
    return _between(_day_of(begin_ms), _day_of(max(begin_ms, end_ms - 1)) + timedelta(days=1))


def period_of(kind: str, at_ms: int) -> Period:
    """The ``week``, ``month``, ``quarter`` or ``year`` that an instant lies in."""
    return _around(_day_of(at_ms), _KINDS.index(kind) + 1)


def parse_period(text: str, now_ms: int, books_begin_ms: int | None = None) -> Period:
    """A period in plain words, as of now. Raises :class:`BadValue` for what is none.

    ``books_begin_ms`` is where the books begin, for ``all``.
    """
    words = " ".join(text.lower().split())
    today = _day_of(now_ms)
    if words in ("all", "everything"):
        return _between(_day_of(now_ms if books_begin_ms is None else books_begin_ms), today + timedelta(days=1))
    if words in ("today", "yesterday"):
        day = today - timedelta(days=words == "yesterday")
        return _between(day, day + timedelta(days=1))
    if match := re.fullmatch(r"(this|last) (week|month|quarter|year)", words):
        found = period_of(match[2], now_ms)
        return found.moved(-1) if match[1] == "last" else found
    if match := re.fullmatch(r"(?:the )?(?:last|past) (\d{1,4}) (day|week|month)s?", words):
        count = max(1, int(match[1]))
        if match[2] == "month":
            return _between(_month(today, 1 - count), _month(today, 1))
        days = count * (7 if match[2] == "week" else 1)
        return _between(today - timedelta(days=days - 1), today + timedelta(days=1))
    if match := re.fullmatch(r"since (.+)", words):
        named = (
            None if match[1] in _DAYS else _named(match[1], today)
        )  # a month, a quarter, a year: from its first day on
        return _between(named.first if named else _day(match[1], today), today + timedelta(days=1))
    if match := re.fullmatch(r"(?:from )?(.+?) ?(?: to | until |\.\.| - )(.+)", words):
        first, last = _day(match[1], today), _day(match[2], today, match[1])
        if last < first:
            raise BadValue(f'"{shortened(text)}" ends before it begins')
        return _between(first, last + timedelta(days=1))
    if named := _named(words, today):
        return named
    raise BadValue(f'"{shortened(text)}" is no period; {HOW}')


def _named(words: str, today: date) -> Period | None:
    """A year, quarter, month or day by its name; without a year the last one that has begun."""
    if match := re.fullmatch(r"(\d{4})", words):
        year = _year(match[1])
        return _between(date(year, 1, 1), date(year + 1, 1, 1))
    if match := re.fullmatch(r"(?:(\d{4})[ -]?)?q([1-4])(?: (\d{4}))?", words):
        month = 3 * int(match[2]) - 2
        given = match[1] or match[3]
        year = _year(given) if given else today.year - (month > today.month)
        return _between(date(year, month, 1), _month(date(year, month, 1), 3))
    if match := re.fullmatch(r"(\d{4})-(\d{1,2})", words):
        month = int(match[2])
        if not 1 <= month <= 12:
            raise BadValue(f"there is no month {month}")
        begin = date(_year(match[1]), month, 1)
        return _between(begin, _month(begin, 1))
    if (match := re.fullmatch(r"([a-z]{3,9})(?: (\d{4}))?", words)) and (month := _month_number(match[1])):
        year = _year(match[2]) if match[2] else today.year - (month > today.month)
        return _between(date(year, month, 1), _month(date(year, month, 1), 1))
    try:
        day = _day(words, today)
    except BadValue:
        return None
    return _between(day, day + timedelta(days=1))


def _year(text: str) -> int:
    year = int(text)
    if not 1970 < year < 2999:
        raise BadValue(f"{year} is out of range; a date is between 1971 and 2998")
    return year


def _month_number(word: str) -> int:
    return next((number for number, name in enumerate(_MONTHS, 1) if len(word) >= 3 and name.startswith(word)), 0)


def _day(text: str, today: date, before: str = "") -> date:
    """A day: ``2026-03-05``, ``5 March``, ``March 5 2026``, ``monday``, ``today``; without a year the last one that has come."""
    words = text.strip()
    if words in ("today", "yesterday", "now"):
        return today - timedelta(days=words == "yesterday")
    if words in _DAYS:
        return today - timedelta(days=(today.weekday() - _DAYS.index(words)) % 7)
    try:
        if match := re.fullmatch(r"(\d{4})-(\d{1,2})-(\d{1,2})", words):
            return date(_year(match[1]), int(match[2]), int(match[3]))
        if match := re.fullmatch(r"(\d{1,2})\.? ([a-z]{3,9})(?: (\d{4}))?", words):
            day, name, given = int(match[1]), match[2], match[3]
        elif match := re.fullmatch(r"([a-z]{3,9}) (\d{1,2})(?:,? (\d{4}))?", words):
            day, name, given = int(match[2]), match[1], match[3]
        else:
            raise BadValue(f'"{shortened(text)}" is no day; write 2026-03-05 or 5 March')
        month = _month_number(name)
        if not month:
            raise BadValue(f'there is no month "{shortened(name)}"')
        year = _year(given) if given else today.year
        found = date(year, month, day)
        return found if given or found <= today else date(year - 1, month, day)
    except ValueError as fault:
        if isinstance(fault, BadValue):
            raise
        raise BadValue(f'"{shortened(text)}" is no day of a calendar') from None
