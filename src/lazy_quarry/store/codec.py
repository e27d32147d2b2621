"""Values as JSON, and back: the form of the journal.

It is canonical: sorted keys, no spaces, UTF-8 as it is, and nothing that is as it would be by default. So equal values are
equal byte for byte, and a job's request takes a third of the room. JSON can be read without this program; in MessagePack
it would take a quarter less room and the same time.
"""

from enum import Enum
from functools import cache
from hashlib import blake2b
from typing import Any

import msgspec

from lazy_quarry.core.engine.events import KINDS, Event, Submitted
from lazy_quarry.core.job.job import Job, Origin
from lazy_quarry.core.values import replace
from lazy_quarry.store.earlier_events import renewed
from lazy_quarry.store.typed_json import decoder

_CANONICAL = msgspec.json.Encoder(order="sorted")
_SIMPLE = frozenset((int, str, float, bool, type(None)))
Environment = tuple[tuple[str, str], ...]


@cache
def _fields(kind: Any) -> tuple[tuple[str, Any], ...] | None:
    """The names of a value's fields, with their defaults; None for what has none."""
    if not issubclass(kind, msgspec.Struct):
        return None
    return tuple(
        (one.name, one.default if one.default_factory is msgspec.NODEFAULT else one.default_factory())
        for one in msgspec.structs.fields(kind)
    )


def _plain(value: Any) -> Any:
    kind: Any = type(value)
    if kind in _SIMPLE:
        return value
    if kind is tuple or kind is list:
        return [one if type(one) in _SIMPLE else _plain(one) for one in value]
    if known := _fields(kind):
        found = {}
        for name, default in known:
            own = getattr(value, name)
            if own != default:
                found[name] = own if type(own) in _SIMPLE else _plain(own)
        return found
    if isinstance(value, Enum):
        return value.value
    return {str(key): _plain(own) for key, own in value.items()}


def to_json(value: Any) -> str:
    """A value as one line of canonical JSON."""
    return _CANONICAL.encode(_plain(value)).decode()


def from_json(kind: Any, text: str | bytes) -> Any:
    """A value of a kind from its JSON. Raises :class:`msgspec.MsgspecError` with the place that doesn't fit."""
    return decoder(kind).decode(text)


def encode(event: Event) -> tuple[str, str]:
    """An event as its kind and its body."""
    return event.kind, to_json(event)


def decode(kind: str, body: str | bytes) -> Event:
    """The opposite of :func:`encode`. Raises :class:`KeyError` for a kind that is not known."""
    try:
        event: Event = from_json(KINDS[kind], body)
    except msgspec.ValidationError as fault:
        try:
            found = renewed(kind, msgspec.json.decode(body))
        except (KeyError, TypeError):
            raise fault from None
        event = from_json(KINDS[kind], msgspec.json.encode(found))
    return event


# -- what is kept once ----------------------------------------------------------------------------


def text_key(text: str) -> int:
    """The number under which a text is kept: the first 63 bits of its BLAKE2b (RFC 7693). 0 for no text."""
    if not text:
        return 0
    return int.from_bytes(blake2b(text.encode("utf-8", "surrogateescape"), digest_size=8).digest(), "big") >> 1 or 1


def lean(value: Any) -> tuple[Any, str, str]:
    """An event or a job without its script and environment; these as texts."""
    if not isinstance(value, Submitted | Job):
        return value, "", ""
    origin = value.origin
    environment = to_json(origin.environment) if origin.environment else ""
    return replace(value, origin=replace(origin, script="", environment=())), origin.script, environment


def whole(value: Any, script: str, environment: str) -> Any:
    """The opposite of :func:`lean`."""
    if not isinstance(value, Submitted | Job) or not (script or environment):
        return value
    given = from_json(Environment, environment) if environment else ()
    origin: Origin = replace(value.origin, script=script, environment=given)
    return replace(value, origin=origin)
