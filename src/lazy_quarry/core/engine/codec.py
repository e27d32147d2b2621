"""Values to canonical JSON and back: the form of the journal, of snapshots and of messages.

Canonical means sorted keys, no spaces, UTF-8 unescaped, so equal values are equal byte for byte.
"""

import json
from functools import cache
from typing import Any

from pydantic import TypeAdapter


@cache
def _adapter(kind: Any) -> TypeAdapter:
    return TypeAdapter(kind)


def to_plain(value: Any) -> Any:
    """Dataclasses and tuples as dictionaries and lists that JSON can hold."""
    return _adapter(value.__class__).dump_python(value, mode="json")


def from_plain(kind: Any, plain: Any) -> Any:
    """The opposite of :func:`to_plain`; raises :class:`pydantic.ValidationError` when it doesn't fit."""
    return _adapter(kind).validate_python(plain)


def canonical(plain: Any) -> str:
    """One line of JSON."""
    return json.dumps(plain, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
