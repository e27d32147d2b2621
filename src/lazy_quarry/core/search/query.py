"""A search as people write it: ``name:surge* state:failed memory:>4GiB since:2w text:"no convergence"``.

Words apart all have to be met. ``field:value`` asks for a value, ``a,b`` for one of several, ``>``, ``<``, ``>=``, ``<=`` and
``low..high`` for a range, a ``-`` before it for the opposite. A word by itself is looked for in names, scripts and what was
printed; quotes keep words together. States and times need no field: ``overtime last month``, ``-done since Monday``; in quotes
they are looked for as words.
"""

import re
import unicodedata
from collections.abc import Iterator, Sequence
from datetime import UTC, tzinfo
from functools import lru_cache

from msgspec import Struct

from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.search.facts import Facts
from lazy_quarry.core.search.fields import FIELDS, SHORT, SearchField, span_of
from lazy_quarry.core.search.plain_words import STATES, time_at
from lazy_quarry.core.values import replace
from lazy_quarry.errors import BadValue

MOST_TERMS, LONGEST = 40, 2000
_TERM = re.compile(r'(?P<no>-)?(?:(?P<field>[A-Za-z][A-Za-z-]*):)?(?P<value>"[^"]*"\*?|(?:[^\s"]|"[^"]*")+)')
_COMPARED = re.compile(r"(>=|<=|>|<)(.*)", re.DOTALL)


class Likeness(Struct, frozen=True):
    """A word that a value must be: ``*`` stands for any signs and ``?`` for one."""

    pattern: str


class Between(Struct, frozen=True):
    """A range, both ends included; None is open. A job that has no such value is in none."""

    low: float | None
    high: float | None


class Phrase(Struct, frozen=True):
    """Words that stand one behind the other in a text; of the last one only the beginning when it is ``open``."""

    words: tuple[str, ...]
    open: bool = False


class Term(Struct, frozen=True):
    """One condition: a field (None: anywhere), the values of which one is to be met, whether the opposite is meant."""

    field: SearchField | None
    wanted: tuple[Likeness | Between | Phrase, ...]
    opposite: bool = False


class Query(Struct, frozen=True):
    """A search: all its terms have to be met. ``tasks``: tasks are found one by one, not their arrays."""

    terms: tuple[Term, ...] = ()
    tasks: bool = False


class Order(Struct, frozen=True):
    """By which field what is found is sorted."""

    field: SearchField
    down: bool


def parse_query(text: str, now_ms: int, zone: tzinfo = UTC) -> Query:
    """Read a search. Raises :class:`BadValue` that says which word is wrong, and what could stand there."""
    if len(text) > LONGEST:
        raise BadValue(f"a search has {LONGEST:,} characters at most, and this one {len(text):,}")
    terms = [term for term, _ in _terms(text, now_ms, zone)]
    if len(terms) > MOST_TERMS:
        raise BadValue(f"a search has {MOST_TERMS} conditions at most, and this one {len(terms)}")
    one_by_one = {"task", "parameter"}
    return Query(tuple(terms), any(term.field is not None and term.field.name in one_by_one for term in terms))


def parts_of(text: str, now_ms: int, zone: tzinfo = UTC) -> list[str]:
    """The conditions of a search one by one, as they were written. Raises :class:`BadValue` as :func:`parse_query` does."""
    return [written for _, written in _terms(text, now_ms, zone)]


def _terms(text: str, now_ms: int, zone: tzinfo) -> Iterator[tuple[Term, str]]:
    """Each condition, and how it was written."""
    at = 0
    while at < len(text):
        if text[at].isspace():
            at += 1
            continue
        if time := time_at(text, at, now_ms, zone):
            first, last, end = time
            yield Term(FIELDS["ended"], (Between(first, last),)), text[at:end]
            at = end
            continue
        found = _TERM.match(text, at)
        if found is None or text.count('"', at, found.end()) % 2:
            raise BadValue(f'the quotes of "{shortened(text[at:])}" are not closed')
        try:
            yield _term(found["field"], found["value"], bool(found["no"]), now_ms, zone), found[0]
        except BadValue as fault:
            raise BadValue(f"{shortened(found[0])}: {fault}") from None
        at = found.end()


def parse_order(text: str) -> Order:
    """``walltime``, or ``-walltime`` for the greatest first. Raises :class:`BadValue`."""
    name = text.strip().removeprefix("-")
    field = FIELDS.get(name)
    if field is None or field.kind in ("text", "words"):
        known = [one.name for one in FIELDS.values() if one.kind not in ("text", "words")]
        raise BadValue(f'nothing can be sorted by "{shortened(name)}"{nearest(name, known)}')
    return Order(field, text.strip().startswith("-"))


def _term(name: str | None, value: str, opposite: bool, now_ms: int, zone: tzinfo) -> Term:
    if name is None and value.lower() in STATES:
        return Term(FIELDS["state"], (Likeness(value.lower()),), opposite)
    if name is None:
        return Term(None, (_phrase(value),), opposite)
    compared = ""
    if name in SHORT:
        name, compared = SHORT[name]
    field = FIELDS.get(name)
    if field is None:
        raise BadValue(f'there is no field "{name}"{nearest(name, [*FIELDS, *SHORT])}')
    if field.kind == "text":
        return Term(field, (_phrase(value),), opposite)
    texts = [value[1:-1]] if value.startswith('"') else [one.strip('"') for one in value.split(",")]
    if not all(texts):
        raise BadValue("there is nothing to look for")
    if field.kind in ("word", "words"):
        return Term(field, tuple(map(Likeness, texts)), opposite)
    return Term(field, tuple(_between(field, compared + one, now_ms, zone) for one in texts), opposite)


def _between(field: SearchField, text: str, now_ms: int, zone: tzinfo) -> Between:
    def ends(part: str) -> tuple[float, float]:
        if field.kind == "instant":
            return span_of(part, now_ms, zone)
        value = field.number(part.strip())
        return value, value

    if text in ("*", "any"):
        return Between(None, None)
    if compared := _COMPARED.fullmatch(text):
        low, high = ends(compared[2])
        return {
            ">": Between(_after(high), None),
            ">=": Between(low, None),
            "<": Between(None, _before(low)),
            "<=": Between(None, high),
        }[compared[1]]
    first, dots, last = text.partition("..")
    if not dots:
        return Between(*ends(text))
    return Between(ends(first)[0] if first else None, ends(last)[1] if last else None)


def _after(value: float) -> float:
    return value + 1  # all values are whole


def _before(value: float) -> float:
    return value - 1


def _phrase(value: str) -> Phrase:
    words = words_of(value.rstrip("*"))
    if not words:
        raise BadValue("there is no word in it to look for")
    return Phrase(words, value.endswith("*"))


def words_of(text: str) -> tuple[str, ...]:
    """The words of a text as they are compared: small letters and figures, without accents."""
    plain = "".join(sign for sign in unicodedata.normalize("NFD", text.lower()) if not unicodedata.combining(sign))
    return tuple(re.findall(r"[^\W_]+", plain))


# -- whether a job meets it, told without an index ------------------------------------------------


def meets(query: Query, facts: Facts, *texts: str) -> bool:
    """True when a job is found by a search; ``texts`` are its script and what it printed, each by itself."""
    return all(_met(term, facts, texts) is not term.opposite for term in query.terms)


def _met(term: Term, facts: Facts, texts: Sequence[str]) -> bool:
    if term.field is None or term.field.kind == "text":
        anywhere = term.field is None
        return any(
            isinstance(one, Phrase)
            and (any(_within(one, text) for text in texts) or (anywhere and holds(facts.name, one)))
            for one in term.wanted
        )
    value = getattr(facts, term.field.kept)
    return any(_is(value, one, term.field.kind) for one in term.wanted)


def _is(value: str | float | None, wanted: Likeness | Between | Phrase, kind: str) -> bool:
    if isinstance(wanted, Likeness):
        values = str(value or "").split("\n") if kind == "words" else [str(value or "")]
        return any(expression_of(wanted.pattern).fullmatch(one) for one in values)
    if not isinstance(wanted, Between) or not isinstance(value, int | float):
        return False
    return (wanted.low is None or value >= wanted.low) and (wanted.high is None or value <= wanted.high)


@lru_cache(maxsize=256)
def expression_of(pattern: str) -> re.Pattern[str]:
    """A pattern with ``*`` and ``?`` as a regular expression."""
    parts = {"*": ".*", "?": "."}
    return re.compile("".join(parts.get(sign, re.escape(sign)) for sign in pattern), re.DOTALL)


def holds(name: str, phrase: Phrase) -> bool:
    """True when a name has the words of a phrase in it, also in the midst of a word."""
    return " ".join(phrase.words) in " ".join(words_of(name))


def _within(phrase: Phrase, text: str) -> bool:
    words, wanted = words_of(text), phrase.words
    return any(_begins(words[at : at + len(wanted)], phrase) for at in range(len(words) - len(wanted) + 1))


def _begins(words: Sequence[str], phrase: Phrase) -> bool:
    if tuple(words) == phrase.words:
        return True
    *before, last = phrase.words
    return phrase.open and list(words[:-1]) == before and words[-1].startswith(last)


def of_user(query: Query, user: str) -> Query:
    """The same for one person's jobs."""
    return replace(query, terms=(*query.terms, Term(FIELDS["user"], (Likeness(_literal(user)),))))


def _literal(name: str) -> str:
    return re.sub(r"[*?]", "?", name)
