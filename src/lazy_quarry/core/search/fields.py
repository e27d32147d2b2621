"""The fields of a job that a search may ask for, each with its kind."""

from collections.abc import Callable
from datetime import datetime, tzinfo
from typing import Literal

from msgspec import Struct

from lazy_quarry.core.instants import parse_since, start_of_day
from lazy_quarry.core.units import HOUR_MS, parse_duration, parse_size
from lazy_quarry.errors import BadValue

Kind = Literal["word", "words", "text", "number", "instant"]
DAY_MS = 24 * HOUR_MS


class SearchField(Struct, frozen=True):
    """A field: what people call it, where its value is kept (a name of :class:`Facts`), its kind, what it means.

    ``number`` reads a value of kind *number* as it is kept; ``words`` is several words, one to a line.
    """

    name: str
    kept: str
    kind: Kind
    means: str
    number: Callable[[str], float] = float


def _count(text: str) -> int:
    if not text.isdecimal() or len(text) > 15:
        raise BadValue(f'"{text[:40]}" is no whole number')
    return int(text)


def _hours(text: str) -> int:
    try:
        return round(float(text.removesuffix("h")) * HOUR_MS)
    except (ValueError, OverflowError):
        raise BadValue(f'"{text[:40]}" is no number of core-hours; write it like 12 or 0.5') from None


def _ms(text: str) -> int:
    return 1000 * parse_duration(text)


def _bytes(text: str) -> int:
    return parse_size(text) * 2**20


FIELDS = {
    field.name: field
    for field in (
        SearchField("name", "name", "word", "its name; * and ? stand for any signs, or for one"),
        SearchField(
            "state", "state", "word", "how it ended: done, failed, overtime, overmemory, cancelled, lost, skipped"
        ),
        SearchField("user", "user", "word", "whose it is"),
        SearchField("account", "account", "word", "what it is charged to"),
        SearchField("queue", "queue", "word", "where it ran"),
        SearchField("tier", "tier", "word", "its level of service"),
        SearchField("node", "nodes", "words", "a node that it ran on"),
        SearchField("parameter", "parameters", "words", "a parameter of a task, as grid=fine"),
        SearchField("argument", "arguments", "words", "a word given to the script; of your own jobs alone"),
        SearchField("path", "path", "word", "the script's file"),
        SearchField("reason", "reason", "word", "why it ended so, in words"),
        SearchField("signal", "signal", "word", "the signal that ended it"),
        SearchField("exit", "exit", "number", "its exit status", _count),
        SearchField("job", "of", "number", "its number; of a task that of its array", _count),
        SearchField("task", "task", "number", "the number of a task; with it, tasks are found one by one", _count),
        SearchField("attempt", "attempt", "number", "how often it was started", _count),
        SearchField("cores", "cores", "number", "cores that it held", _count),
        SearchField("gpus", "gpus", "number", "GPUs that it held", _count),
        SearchField("memory", "memory_mib", "number", "the most memory that it used", parse_size),
        SearchField("requested-memory", "requested_mib", "number", "the memory that it held", parse_size),
        SearchField("walltime", "walltime_s", "number", "the walltime that it requested", parse_duration),
        SearchField("took", "took_s", "number", "how long it ran", parse_duration),
        SearchField("waited", "waited_s", "number", "how long it waited", parse_duration),
        SearchField("cpu", "cpu_ms", "number", "its CPU time", _ms),
        SearchField("read", "read_bytes", "number", "how much it read", _bytes),
        SearchField("written", "written_bytes", "number", "how much it wrote", _bytes),
        SearchField("charge", "charge_core_ms", "number", "core-hours that it was charged", _hours),
        SearchField("submitted", "submitted_ms", "instant", "when it was submitted"),
        SearchField("started", "started_ms", "instant", "when it started last"),
        SearchField("ended", "ended_ms", "instant", "when it ended"),
        SearchField("text", "", "text", "what stands in its script, or in the end of what it printed"),
    )
}
"""By name. ``since:T`` and ``until:T`` are short for ``ended:>=T`` and ``ended:<=T``."""
SHORT = {"since": ("ended", ">="), "until": ("ended", "<=")}


def span_of(text: str, now_ms: int, zone: tzinfo) -> tuple[int, int]:
    """An instant as people write it, from its first to its last millisecond: a day is a whole day."""
    at = parse_since(text, now_ms, zone)
    words = text.strip().lower()
    whole_day = words in ("today", "yesterday") or words.endswith("day") or (len(words) == 10 and words.count("-") == 2)
    if not whole_day:
        return at, at
    day = datetime.fromtimestamp(at / 1000, zone).date()
    following = datetime.fromtimestamp((at + DAY_MS + DAY_MS // 2) / 1000, zone).date()
    return start_of_day(day, zone), start_of_day(following, zone) - 1
