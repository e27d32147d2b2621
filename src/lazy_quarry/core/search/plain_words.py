"""Words in a search that need no field: times as the books take them (``last month``, ``since Monday``), and states."""

import re
from datetime import timedelta, tzinfo

from lazy_quarry.core.instants import start_of_day
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.core.ledger.period import parse_period
from lazy_quarry.errors import BadValue

_DAY = r"(?:\d{4}-\d{1,2}-\d{1,2}|\d{1,2}\.? [a-z]{3,9}(?: \d{4})?|[a-z]{3,9} \d{1,2}(?: \d{4})?|[a-z]{3,9})"
_MONTH = r"(?:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)[a-z]*"
_TIMES = re.compile(
    rf"""(?: (?:the\ )?(?:last|past)\ (?:\d{{1,4}}\ )?(?:day|week|month|quarter|year)s?
        | this\ (?:week|month|quarter|year)
        | since\ \d{{4}} | since\ {_DAY.replace(" ", chr(92) + " ")}
        | from\ {_DAY.replace(" ", chr(92) + " ")}\ (?:to|until)\ {_DAY.replace(" ", chr(92) + " ")}
        | {_MONTH}\ \d{{4}} | \d{{4}}\ ?q[1-4] | \d{{4}}-\d\d(?:-\d\d)? | today | yesterday
        )(?=\s|$)""",
    re.IGNORECASE | re.VERBOSE,
)
STATES = frozenset(phase.value for phase in Phase)


def time_at(text: str, at: int, now_ms: int, zone: tzinfo) -> tuple[int, int, int] | None:
    """A time in words at this place of a search: its first and last millisecond, and where it ends. None where there is none.

    Days are those of the zone.
    """
    found = _TIMES.match(text, at)
    while found is not None:
        try:
            period = parse_period(found[0], now_ms)
        except BadValue:  # "since autumn": with fewer words it may be one
            shorter = found[0].rstrip().rpartition(" ")[0]
            found = _TIMES.match(text[: at + len(shorter)], at) if shorter else None
            continue
        last = period.last + timedelta(days=1)
        return start_of_day(period.first, zone), start_of_day(last, zone) - 1, found.end()
    return None
