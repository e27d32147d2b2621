"""A value that a pattern finds in what a run printed.

The pattern is a regular expression. Its first group is the value; without a group the first number behind it on the line is, and
without a number what the pattern met. Of several places the last one counts, for programs print how they get on.
"""

import re
from collections.abc import Iterable

import regex

from lazy_quarry.core.plain_text import shortened
from lazy_quarry.errors import BadValue

LONGEST_LINE = 4_000
LONGEST_S = 2.0
"""Seconds that a pattern may take for one line, on a busy machine too; one that tries too many ways is told of."""
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?|[-+]?(?:nan|inf(?:inity)?)\b", re.IGNORECASE)


class ValuePattern:
    """A pattern, read once. Raises :class:`BadValue` for one that can't be read."""

    def __init__(self, text: str) -> None:
        self.text = text
        try:
            self._found = regex.compile(text)
        except (regex.error, RecursionError, OverflowError) as fault:
            raise BadValue(f'"{shortened(text)}" is no pattern (regular expression): {fault}') from None

    def value(self, line: str) -> str | None:
        """The value in a line; None without one. Raises :class:`BadValue` when that takes too long."""
        line = line[:LONGEST_LINE]
        try:
            met = self._found.search(line, timeout=LONGEST_S)
        except TimeoutError:
            raise BadValue(f'"{shortened(self.text)}" tries too many ways on a line; write it simpler') from None
        if met is None:
            return None
        if self._found.groups:
            return next((group for group in met.groups() if group is not None), "")
        number = _NUMBER.search(line, met.end())
        return number[0] if number else met[0]

    def last_value(self, lines: Iterable[str]) -> str | None:
        """The value in the last line that has one."""
        found = None
        for line in lines:
            value = self.value(line)
            found = value if value is not None else found
        return found


def number_in(value: str | None) -> float | None:
    """The number that a value is; None for one that is none, and for what is no finite number."""
    if value is None or not _NUMBER.fullmatch(value.strip().replace("_", "")):
        return None
    number = float(value)
    return number if abs(number) < float("inf") else None
