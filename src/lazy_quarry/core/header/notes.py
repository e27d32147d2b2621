"""Noting problems of header keys, each with the line where the key stands, and fixes for those lines."""

import re
from collections.abc import Callable, Iterable

from lazy_quarry.core.header.block import Block
from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, error
from lazy_quarry.core.header.nearest import closest
from lazy_quarry.core.values import replace

_BESIDE = ("key-unknown", "module", "array")
"""Errors beside which the request can still be read."""


class HeaderNotes:
    """Collects findings about one header in ``found``. ``overridden`` keys come from ``--set``: they have no line."""

    def __init__(
        self, lines: list[str], block: Block | None, overridden: frozenset[str], found: list[Diagnostic]
    ) -> None:
        self.lines = lines
        self.block, self.overridden, self.found = block, overridden, found
        self.usable = True
        """False once something was found beside which there is no request."""

    def note(
        self,
        code: str,
        key: str,
        message: str,
        *,
        inside: tuple[str, ...] = (),
        at_value: bool = True,
        severity: Callable[..., Diagnostic] = error,
        fix: Fix | None = None,
    ) -> None:
        """Note a finding about a key, at its value or at the key itself; ``inside`` leads on into its table."""
        self.usable = self.usable and (severity is not error or code in _BESIDE)
        if key in self.overridden:
            self.found.append(replace(severity(code, f"in --set: {message}", 0), key=(key, *inside)))
            return
        place = self.block.place(key, *inside) if self.block else None
        line, column = (place.line, place.column if at_value else 3) if place else (1, 1)
        self.found.append(severity(code, message, line, column, fix))

    def line_of(self, key: str) -> int | None:
        """The line where a key stands in the header; None for a key that is absent or overridden."""
        place = self.block.places.get((key,)) if self.block else None
        return place.line if place and key not in self.overridden else None

    def at(self, key: str) -> str:
        """`` (line 7)`` where the key stands in the header."""
        line = self.line_of(key)
        return f" (line {line})" if line else ""

    # -- fixes -------------------------------------------------------------------------------------

    def added(self, key: str, value: str) -> Fix | None:
        """A line for a key that is absent."""
        if self.block is None:
            return None
        at = self.block.first_line
        return Fix(f'write {key} = "{value}"', at, at, (self.lines[at - 1], f'# {key:<8} = "{value}"'))

    def renamed(self, key: str, known: Iterable[str]) -> Fix | None:
        """The line with the nearest known key in place of this one, unless that key is there too."""
        near = closest(key, known)
        if not near or not self.block or near in self.block.values or (key,) not in self.block.places:
            return None
        number = self.block.places[(key,)].line
        line = self.lines[number - 1]
        return Fix(f'write "{near}"', number, number, (line.replace(key, near, 1),))

    def corrected(self, key: str, word: str, known: Iterable[str]) -> Fix | None:
        """The nearest known word in place of an unknown one in a key's value."""
        near = closest(word, known)
        number = self.line_of(key)
        if not near or number is None:
            return None
        line = self.lines[number - 1]
        if f'"{word}"' not in line:
            return None
        return Fix(f'write "{near}"', number, number, (line.replace(f'"{word}"', f'"{near}"', 1),))

    def replaced_text(self, key: str, new: str, label: str) -> Fix | None:
        """Another text as a key's value, where the value is one text in the line of the key."""
        place = self.block.places.get((key,)) if self.block else None
        if place is None or key in self.overridden:
            return None
        line = self.lines[place.line - 1]
        value = re.search(r'"[^"]*"', line[place.column - 1 :])
        if value is None:
            return None
        changed = line[: place.column - 1] + line[place.column - 1 :].replace(value[0], f'"{new}"', 1)
        return Fix(label, place.line, place.line, (changed,))
