"""Trait expressions: names with ``and``, ``or``, ``not`` and parentheses, matched against a node's traits."""

import re
from collections.abc import Callable
from collections.abc import Set as AbstractSet
from functools import lru_cache

from msgspec import Struct

from lazy_quarry.core.plain_text import shortened
from lazy_quarry.errors import BadValue

_TOKEN = re.compile(r"\s*(\(|\)|[A-Za-z0-9][A-Za-z0-9._-]*)")


MOST_LEVELS = 100
"""Levels that ``not`` and parentheses may be nested."""


class Traits(Struct, frozen=True):
    """A parsed expression: a tree of ``("name", x)``, ``("not", a)``, ``("and", a, b, …)``, ``("or", a, b, …)``."""

    tree: tuple
    names: frozenset[str]

    def met_by(self, traits: AbstractSet[str]) -> bool:
        """True when a node with these traits will do."""
        return _met(self.tree, traits)


def _met(tree: tuple, traits: AbstractSet[str]) -> bool:
    match tree:
        case ("name", name):
            return name in traits
        case ("not", inner):
            return not _met(inner, traits)
        case ("and", *parts):
            return all(_met(part, traits) for part in parts)
        case (_, *parts):
            return any(_met(part, traits) for part in parts)
    raise AssertionError(tree)


@lru_cache(maxsize=256)
def parse_traits(text: str) -> Traits:
    """Parse an expression; ``not`` binds tightest, then ``and``, then ``or``. Raises :class:`BadValue`."""
    return _Parser(text).parsed()


class _Parser:
    """Reads one expression from its front; ``at`` is the next token."""

    def __init__(self, text: str) -> None:
        self.text, self.at, self.level = shortened(text), 0, 0
        self.names: set[str] = set()
        self.tokens: list[str] = []
        at, end = 0, len(text.rstrip())
        while at < end:
            match = _TOKEN.match(text, at)
            if not match:
                raise BadValue(f'"{self.text}" is not an expression of traits: unexpected {text[at:].strip()[0]!r}')
            self.tokens.append(match[1])
            at = match.end()

    def parsed(self) -> Traits:
        tree = self._joined("or", lambda: self._joined("and", self._single))
        if self.at < len(self.tokens):
            raise BadValue(f'"{self.text}" has "{shortened(self._next)}" where "and" or "or" is expected')
        return Traits(tree, frozenset(self.names))

    @property
    def _next(self) -> str:
        return self.tokens[self.at] if self.at < len(self.tokens) else ""

    def _joined(self, word: str, part: Callable[[], tuple]) -> tuple:
        parts = [part()]
        while self._next == word:
            self.at += 1
            parts.append(part())
        return parts[0] if len(parts) == 1 else (word, *parts)

    def _single(self) -> tuple:
        token = self._next
        self.at += 1
        if not token:
            raise BadValue(f'"{self.text}" ends where a trait is expected')
        if token in (")", "and", "or"):
            raise BadValue(f'"{self.text}" has "{token}" where a trait is expected')
        if token not in ("not", "("):
            self.names.add(token)
            return ("name", token)
        self.level += 1
        if self.level > MOST_LEVELS:
            raise BadValue(f'"{self.text}" is nested more than {MOST_LEVELS} levels deep')
        if token == "not":
            tree: tuple = ("not", self._single())
        else:
            tree = self._joined("or", lambda: self._joined("and", self._single))
            if self._next != ")":
                raise BadValue(f'"{self.text}" has a parenthesis that is never closed')
            self.at += 1
        self.level -= 1
        return tree
