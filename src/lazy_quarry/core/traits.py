"""Trait expressions: names with ``and``, ``or``, ``not`` and parentheses, matched against a node's traits."""

import re
from collections.abc import Set as AbstractSet
from dataclasses import dataclass
from functools import lru_cache

from lazy_quarry.errors import BadValue

_TOKEN = re.compile(r"\s*(\(|\)|[A-Za-z0-9][A-Za-z0-9._-]*)")


@dataclass(frozen=True, slots=True)
class Traits:
    """A parsed expression: a tree of ``("name", x)``, ``("not", a)``, ``("and", a, b)``, ``("or", a, b)``."""

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
        case ("and", left, right):
            return _met(left, traits) and _met(right, traits)
        case (_, left, right):
            return _met(left, traits) or _met(right, traits)
    raise AssertionError(tree)


@lru_cache(maxsize=256)
def parse_traits(text: str) -> Traits:
    """Parse an expression; ``not`` binds tightest, then ``and``, then ``or``. Raises :class:`BadValue`."""
    tokens, at = [], 0
    while at < len(text.rstrip()):
        match = _TOKEN.match(text, at)
        if not match:
            raise BadValue(f'"{text}" is not an expression of traits: unexpected {text[at:].strip()[0]!r}')
        tokens.append(match[1])
        at = match.end()
    names: set[str] = set()

    def alternatives() -> tuple:
        tree = conjunction()
        while tokens and tokens[0] == "or":
            tokens.pop(0)
            tree = ("or", tree, conjunction())
        return tree

    def conjunction() -> tuple:
        tree = single()
        while tokens and tokens[0] == "and":
            tokens.pop(0)
            tree = ("and", tree, single())
        return tree

    def single() -> tuple:
        if not tokens:
            raise BadValue(f'"{text}" ends where a trait is expected')
        token = tokens.pop(0)
        if token == "not":
            return ("not", single())
        if token == "(":
            tree = alternatives()
            if not tokens or tokens.pop(0) != ")":
                raise BadValue(f'"{text}" has a parenthesis that is never closed')
            return tree
        if token in (")", "and", "or"):
            raise BadValue(f'"{text}" has "{token}" where a trait is expected')
        names.add(token)
        return ("name", token)

    tree = alternatives()
    if tokens:
        raise BadValue(f'"{text}" has "{tokens[0]}" where "and" or "or" is expected')
    return Traits(tree, frozenset(names))
