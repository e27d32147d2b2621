"""Durations, sizes, number ranges and core-hours: how they are read and how they are printed.

A duration is whole seconds, an instant whole milliseconds since the epoch, a size whole MiB (rounded
up, so that nothing gets less than it asked for), and work is core-milliseconds.
"""

import math
import re
from datetime import UTC, datetime, timedelta, tzinfo

from lazy_quarry.core.plain_text import shortened
from lazy_quarry.errors import BadValue

SECOND_MS = 1000
MINUTE_MS = 60 * SECOND_MS
HOUR_MS = 60 * MINUTE_MS
DAY_MS = 24 * HOUR_MS

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_UNIT_S = {"d": 86400, "h": 3600, "m": 60, "s": 1}
_PART = re.compile(r"(\d+(?:\.\d+)?)\s*(d|h|m|s)(?![a-z])\s*")
_ISO = re.compile(
    r"P(?!$)(?:(?P<w>\d+(?:\.\d+)?)W)?(?:(?P<d>\d+(?:\.\d+)?)D)?"
    r"(?:T(?!$)(?:(?P<h>\d+(?:\.\d+)?)H)?(?:(?P<m>\d+(?:\.\d+)?)M)?(?:(?P<s>\d+(?:\.\d+)?)S)?)?"
)
_CLOCK = re.compile(r"(\d+):([0-5]\d):([0-5]\d)")
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*(B|[kK]i?B|[MGTP]i?B)")
_NEARLY = re.compile(r"(\d+(?:\.\d+)?)\s*([KMGTkmgt])(?:i?b)?", re.I)
MOST_MIB = 2**40
"""Sizes go up to an exbibyte."""
_BYTES = {"B": 1, "KiB": 2**10, "MiB": 2**20, "GiB": 2**30, "TiB": 2**40, "PiB": 2**50}
_BYTES |= {"kB": 10**3, "KB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12, "PB": 10**15}


MOST_NUMBER = 100
"""Characters that a duration, a size or an instant may have; longer ones are none."""


def parse_duration(text: str) -> int:
    """Whole seconds of ``90s``, ``2h 30m``, ``1d 12h``, ``H:MM:SS`` or an ISO 8601 duration.

    Raises :class:`BadValue` for anything else; for a bare number it offers minutes and hours.
    """
    from fractions import Fraction  # only where something is read: it takes a tenth of a command's start

    stripped, told = text.strip(), shortened(text)
    seconds = Fraction(0)
    if len(stripped) > MOST_NUMBER:
        raise BadValue(f'"{told}" is not a duration; write it like "90s", "15m", "2h 30m" or "1d 12h"')
    if re.fullmatch(r"\d+(\.\d+)?", stripped):
        raise BadValue(f'{stripped} has no unit; write "{stripped}m" for minutes or "{stripped}h" for hours')
    if clock := _CLOCK.fullmatch(stripped):
        hours, minutes, rest = (int(part) for part in clock.groups())
        seconds = Fraction(hours * 3600 + minutes * 60 + rest)
    elif iso := _ISO.fullmatch(stripped):
        for unit, scale in (("w", 604800), ("d", 86400), ("h", 3600), ("m", 60), ("s", 1)):
            seconds += Fraction(iso[unit] or 0) * scale
    elif stripped and _PART.sub("", stripped) == "":
        units = [unit for _, unit in _PART.findall(stripped)]
        if units != sorted(set(units), key="dhms".index):
            raise BadValue(f'"{told}" has its units out of order or twice; write them like "1d 12h 30m"')
        for number, unit in _PART.findall(stripped):
            seconds += Fraction(number) * _UNIT_S[unit]
    else:
        raise BadValue(f'"{told}" is not a duration; write it like "90s", "15m", "2h 30m" or "1d 12h"')
    if seconds.denominator != 1:
        raise BadValue(f'"{told}" is not a whole number of seconds')
    if seconds > 3650 * 86400:
        raise BadValue(f'"{told}" is longer than ten years')
    return int(seconds)


def format_duration(seconds: float, parts: int = 2) -> str:
    """The ``parts`` largest units, as ``2h 30m``; it parses back when the rest is zero."""
    rest = round(abs(seconds))
    words: list[tuple[int, str]] = []
    for unit, scale in _UNIT_S.items():
        count, rest = divmod(rest, scale)
        if count or words:
            words.append((count, unit))
        if len(words) == parts:
            break
    text = " ".join(f"{count}{unit}" for count, unit in words if count) or "0s"
    return f"-{text}" if seconds <= -0.5 else text


def format_cpu(ms: int) -> str:
    """CPU time: ``3.4s`` up to a hundred seconds, beyond as a duration."""
    return f"{ms / 1000:.1f}s" if ms < 100_000 else format_duration(ms / 1000)


def exact_duration(seconds: int) -> str:
    """A duration in the header's own form, nothing rounded away: ``1h 0m 5s`` is ``1h 5s``."""
    return format_duration(seconds, parts=4)


def off_words(ahead_ms: int) -> str:
    """Say how far a clock is off, to the second: ``right``, ``2h behind``."""
    seconds = round(abs(ahead_ms) / SECOND_MS)
    return f"{exact_duration(seconds)} {'ahead' if ahead_ms > 0 else 'behind'}" if seconds else "right"


def parse_size(text: str) -> int:
    """Whole MiB, rounded up, of ``512 MiB``, ``4 GiB``, ``1.5 TiB`` or the decimal ``MB GB TB``."""
    from fractions import Fraction

    stripped = text.strip()
    if len(stripped) <= MOST_NUMBER and re.fullmatch(r"\d+(\.\d+)?", stripped):
        raise BadValue(f'{stripped} has no unit; write "{stripped} GiB" or "{stripped} MiB"')
    match = _SIZE.fullmatch(stripped)
    if not match or len(stripped) > MOST_NUMBER:
        near = nearest_size(stripped)
        advice = f'"{near}"' if near else 'it like "512 MiB", "4 GiB" or "1.5 TiB"'
        raise BadValue(f'"{shortened(text)}" is not a size; write {advice}')
    mib = math.ceil(Fraction(match[1]) * _BYTES[match[2].replace("ki", "Ki")] / 2**20)
    if mib > MOST_MIB:
        raise BadValue(f'"{shortened(text)}" is more than {exact_size(MOST_MIB)}, the most')
    return mib


def nearest_size(text: str) -> str:
    """Guess what was meant by ``4G``, ``4 gb`` or ``512mib``, in the header's own form; empty where that isn't certain."""
    match = _NEARLY.fullmatch(text.strip()) if len(text) <= MOST_NUMBER else None
    return f"{match[1]} {match[2].upper()}iB" if match else ""


def format_size(mib: float) -> str:
    """``48 GiB``, ``1.5 TiB``, ``700 MiB``: three figures at most, trailing zeros dropped."""
    value, unit = float(mib), "MiB"
    for larger in ("GiB", "TiB"):
        if value < 1024:
            break
        value, unit = value / 1024, larger
    if 0 < value < 1 and unit == "MiB":
        return "under 1 MiB"
    return f"{value:.{0 if value >= 100 else 1}f}".removesuffix(".0") + f" {unit}"


def exact_size(mib: int) -> str:
    """A size in the header's own form, nothing rounded away: ``2800 MiB``, ``3 GiB``, ``6.75 GiB``."""
    for unit, scale in (("TiB", 2**20), ("GiB", 2**10)):
        if mib and mib % scale == 0:
            return f"{mib // scale} {unit}"
        if mib > scale and mib * 4 % scale == 0:  # quarters are read at a glance, finer parts are not
            return f"{mib / scale:g} {unit}"
    return f"{mib} MiB"


def format_bytes(count: int) -> str:
    """A number of bytes for people: ``812 B``, ``3.4 KiB``, ``48 GiB``."""
    if count < 1024:
        return f"{count} B"
    if count < 2**20:
        return f"{count / 1024:.1f} KiB"
    return format_size(count / 2**20)


def format_core_hours(core_ms: int) -> str:
    """Core-hours with a comma between thousands; two decimals below ten, four below a tenth."""
    hours = core_ms / HOUR_MS
    if 0 < abs(hours) < 0.00005:
        return "under 0.0001" if core_ms > 0 else "over -0.0001"
    if abs(hours) < 0.1:
        return f"{hours:.4f}" if core_ms else "0"
    return f"{hours:,.2f}" if abs(hours) < 10 else f"{hours:,.1f}" if abs(hours) < 1000 else f"{hours:,.0f}"


def core_hours_cell(core_ms: int) -> str:
    """As :func:`format_core_hours`, with ``<0.0001`` for its words: a column of a table has no room for them."""
    return format_core_hours(core_ms).replace("under ", "<").replace("over ", ">")


def core_hours_apart(*amounts: int) -> tuple[str, ...]:
    """Several amounts of core-ms as :func:`format_core_hours`, with as many more decimals as tell unequal ones apart."""
    told = tuple(map(format_core_hours, amounts))
    if len(set(told)) == len(set(amounts)):
        return told
    for decimals in range(2, 11):
        told = tuple(f"{one / HOUR_MS:,.{decimals}f}" for one in amounts)
        if len(set(told)) == len(set(amounts)):
            break
    return told


def core_hours(core_ms: int) -> float:
    """Core-hours as programs read them, to the millionth."""
    return round(core_ms / HOUR_MS, 6)


def day_words(at_ms: int, zone: tzinfo = UTC, form: str = "%b %Y") -> str:
    """The day of an instant as people write it, as ``5 Mar 2026``; ``form`` is what stands behind its number (strftime(3))."""
    day = datetime.fromtimestamp(at_ms / 1000, zone)
    return f"{day.day} {day:{form}}"


def format_instant(at_ms: int, zone: tzinfo = UTC) -> str:
    """RFC 3339 with milliseconds, as JSON output gives it."""
    at = (_EPOCH + timedelta(milliseconds=at_ms)).astimezone(zone)  # exact, as a division would not be
    return at.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def clock_time(at_ms: int, now_ms: int, zone: tzinfo = UTC) -> str:
    """A time as people say it beside *now*: ``10:40``, ``Tue 10:40``, ``3 Dec 10:40``, ``3 Dec 2027``."""
    at, now = (datetime.fromtimestamp(ms / 1000, zone) for ms in (at_ms, now_ms))
    if at.date() == now.date():
        return f"{at:%H:%M}"
    if abs((at.date() - now.date()).days) < 7:
        return f"{at:%a %H:%M}"
    if abs((at.date() - now.date()).days) > 300:
        return f"{at.day} {at:%b %Y}"
    return f"{at.day} {at:%b %H:%M}"


MOST_NODES = 100_000


def parse_names(text: str) -> tuple[str, ...]:
    """Node names of ``"c01..c08, m02"``: ends included, the width of the numbers kept."""
    names: list[str] = []
    for part in (piece.strip() for piece in text.split(",")):
        told = shortened(part)
        if ".." not in part:
            if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._-]{0,252}", part):
                raise BadValue(f'"{told}" is not a node name; write them like "c01..c08, m02"')
            names.append(part)
            continue
        match = re.fullmatch(r"(.*?)(\d{1,9})\.\.(.*?)(\d{1,9})", part) if len(part) < 256 else None
        if not match or match[3] not in ("", match[1]) or int(match[2]) > int(match[4]):
            raise BadValue(f'"{told}" is not a row of nodes; write it like "c01..c08"')
        if int(match[4]) - int(match[2]) + len(names) >= MOST_NODES:
            raise BadValue(f'"{told}" would make it more than {MOST_NODES:,} nodes')
        width = len(match[2])
        names += [f"{match[1]}{number:0{width}d}" for number in range(int(match[2]), int(match[4]) + 1)]
    return tuple(dict.fromkeys(names))


def fold_names(names: list[str] | tuple[str, ...]) -> str:
    """The opposite of :func:`parse_names`: ``c01..c03, m02``."""
    folded: list[tuple[str, str, int, int]] = []  # stem, first, last number, width
    plain = []
    for name in names:
        match = re.fullmatch(r"(.*?)(\d+)", name)
        if not match:
            plain.append(name)
            continue
        stem, number, width = match[1], int(match[2]), len(match[2])
        if folded and folded[-1][0] == stem and folded[-1][3] == width and folded[-1][2] + 1 == number:
            folded[-1] = (stem, folded[-1][1], number, width)
        else:
            folded.append((stem, match[2], number, width))
    rows = [
        f"{stem}{first}" if int(first) == last else f"{stem}{first}..{stem}{last:0{width}d}"
        for stem, first, last, width in folded
    ]
    return ", ".join(rows + plain)


def plural(count: int, noun: str) -> str:
    """``1 core``, ``12 cores``, ``1,204 cores``."""
    if count != 1:
        noun = noun[:-1] + "ies" if noun.endswith("y") else noun + "s"
    return f"{count:,} {noun}"
