"""Lines of a job's output that say that something went wrong: words of programs of many kinds, without what only sounds so."""

import re
from collections.abc import Iterable

MOST_LONG = 400
_WRONG = re.compile(
    r"""\b(?:fatal|traceback|panic(?:ked)?|abort(?:ed|ing)?|segmentation\ fault|bus\ error|core\ dumped|killed)\b
    |\b(?:out\ of\ memory|oom-kill(?:ed)?|cannot|can't|could\ not|couldn't|unable\ to|no\ such\ file|not\ found)\b
    |\b(?:permission\ denied|access\ denied|no\ space\ left|disk\ quota\ exceeded|assertion.*failed|failed|failure)\b
    |\b(?:connection\ (?:refused|reset|timed\ out)|undefined\ (?:reference|symbol)|exception|unhandled|diverged)\b
    |\b(?:illegal\ instruction|floating\ point\ exception|stack\ overflow|singular\ matrix)\b
    |\berror\b(?!\s*(?:bars?|norms?|estimates?|handling|tolerance|=|<|>|\()) | \bMPI_ABORT\b | \berrno\b | \bNaN\b | ^E\s""",
    re.IGNORECASE | re.VERBOSE,
)
_HARMLESS = re.compile(
    r"""\b(?:0|no|zero|without|any)\s+(?:\w+\s+){0,2}(?:errors?|failures?|failed|exceptions?)\b
    |\b(?:errors?|failures?|failed|exceptions?)\s*[:=]\s*(?:0\b|none\b|no\s*$|false\b|[-+.\d]+(?:e[-+]?\d+)?\s*$)
    |\b(?:relative|absolute|mean|max(?:imum)?|standard|rms|residual|rounding|truncation|numerical|estimated|l2|squared?)\s+error\b
    |\berror\s+(?:of|is|was|below|under|less|after|at|in)\b.*\d | \bfailover\b | \bfound\s+and\s+not\s+found\b | \b0\s+not\s+found\b
    |\bwarning\b""",
    re.IGNORECASE | re.VERBOSE,
)
_EXCEPTION = re.compile(r"^(?:\w+\.)*\w*(?:Error|Exception|Interrupt|Exit)\b(?::|$)")


def is_wrong(line: str) -> bool:
    """True when a line says that something went wrong."""
    line = line[:MOST_LONG]
    if _EXCEPTION.search(line):
        return True
    return bool(_WRONG.search(line)) and not _HARMLESS.search(line)


def error_lines(lines: Iterable[str], most: int = 3) -> list[tuple[int, str]]:
    """The last lines that do, at most so many, as (place from 0, line). Of a Python traceback its last line stands for all."""
    found: list[tuple[int, str]] = []
    inside = -1
    for at, line in enumerate(lines):
        if line.startswith("Traceback (most recent call last)"):
            inside = at
            continue
        if inside >= 0:
            if line[:1] in (" ", "\t", "") or line.startswith("Traceback"):
                continue
            inside = -1
            found.append((at, line))
            continue
        if is_wrong(line):
            found.append((at, line))
    if inside >= 0:
        found.append((inside, "Traceback (most recent call last), cut short"))
    return found[-most:]
