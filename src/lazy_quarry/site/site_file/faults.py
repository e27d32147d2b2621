"""The faults of a site file, worded for people: the line, the key, and what is allowed there."""

import re
import tomllib
from typing import Any, get_args

from msgspec import Struct
from pydantic import BaseModel, ValidationError

from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.core.header.toml_places import LONG_NUMBER, MOST_LEVELS, nearest_place, scan
from lazy_quarry.core.header.values import shown
from lazy_quarry.core.plain_text import shortened

_POSITION = re.compile(r" \(at line (\d+), column \d+\)$|\(at end of document\)$")
_ALLOWED = {
    "int_type": "a whole number",
    "int_parsing": "a whole number",
    "int_from_float": "a whole number",
    "float_type": "a number",
    "float_parsing": "a number",
    "finite_number": "a number",
    "string_type": "text in quotes",
    "bool_type": "true or false",
    "bool_parsing": "true or false",
    "tuple_type": "a list",
    "dict_type": "a table",
    "model_type": "a table",
    "model_attributes_type": "a table",
    "string_pattern_mismatch": "a name on one line",
}


class Fault(Struct, frozen=True):
    """One fault: its line, from 1, and what to say."""

    line: int
    words: str


def toml_of(text: str, faults: list[Fault]) -> dict[str, Any]:
    """The values of a text; nothing where it isn't TOML, with the fault added."""
    seen = scan(text, 1, 0)
    if seen.deep_line:
        faults.append(Fault(seen.deep_line, f"this is nested more than {MOST_LEVELS} levels deep, which no key is"))
        return {}
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as fault:
        place = _POSITION.search(str(fault))
        words = str(fault)[: place.start()] if place else str(fault)
        line = int(place[1]) if place and place[1] else text.count("\n") + 1
        line = min(line, seen.statement_at(line)[1])
        faults.append(Fault(line, f"not TOML: {words[:1].lower()}{words[1:].rstrip()}"))
    except ValueError:
        faults.append(Fault(1, LONG_NUMBER))
    return {}


def located(told: list[tuple[tuple[str, ...], str]], text: str) -> list[Fault]:
    """Faults with their lines, down the file; ``told`` has the place of each as the path of its key."""
    places = scan(text, 1, 0).places
    found = []
    for path, words in told:
        place = nearest_place(places, path)
        found.append(Fault(place.line if place else 1, words))
    return sorted(found, key=lambda one: one.line)


def faults_of(fault: ValidationError, text: str, model: type[BaseModel]) -> list[Fault]:
    """The faults that a model of the file has found."""
    told = []
    for one in fault.errors():
        path = tuple(str(part) for part in one["loc"])
        key = ".".join(part for part in path if not part.isdigit())
        told.append((path, f"{shortened(key)}: {_words(one, path, model)}"))
    return located(told, text)


def _words(one: Any, path: tuple[str, ...], model: type[BaseModel]) -> str:
    kind, context = one["type"], one.get("ctx", {})
    if kind == "extra_forbidden":
        return f"there is no such key{nearest(path[-1], _keys(model, path[:-1]))}"
    if kind == "missing":
        return "this is missing"
    if kind == "literal_error":
        return f"{shown(one['input'])} is unknown; it is {context['expected'].replace(chr(39), chr(34))}"
    if kind == "greater_than_equal":
        return f"{shown(one['input'])} is too small; the least is {context['ge']:,}"
    if kind == "less_than_equal":
        return f"{shown(one['input'])} is too large; the most is {context['le']:,}"
    if kind in ("string_too_short", "string_too_long"):
        return "a name has 1 to 100 characters"
    if kind in _ALLOWED:
        return f"{shown(one['input'])} is not {_ALLOWED[kind]}"
    return str(one["msg"]).removeprefix("Value error, ")


def _keys(model: type[BaseModel], path: tuple[str, ...]) -> list[str]:
    """The keys of the table at a path, as they are written."""
    inside: Any = model
    for part in path:
        if not part.isdigit() and isinstance(inside, type) and issubclass(inside, BaseModel):
            named = {field.alias or name: field.annotation for name, field in inside.model_fields.items()}
            inside = named.get(part)
        if not isinstance(inside, type):  # a tuple or a table of such
            inside = next(
                (each for each in get_args(inside) if isinstance(each, type) and issubclass(each, BaseModel)), inside
            )
    if isinstance(inside, type) and issubclass(inside, BaseModel):
        return [field.alias or name for name, field in inside.model_fields.items()]
    return []
