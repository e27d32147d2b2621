"""Values as JSON, and back: the form of the journal and of its snapshots.

Events and jobs are canonical: sorted keys, no spaces and UTF-8 as it is, so that equal values are equal byte for byte.
"""

from functools import cache
from typing import Any

import msgspec

from lazy_quarry.core.engine.events import KINDS, Event
from lazy_quarry.core.engine.state import State

_CANONICAL = msgspec.json.Encoder(order="sorted")
_SNAPSHOT = msgspec.json.Encoder()  # its tables have numbers as keys, which cannot be sorted


@cache
def _decoder(kind: Any) -> msgspec.json.Decoder:
    return msgspec.json.Decoder(kind)


def to_json(value: Any) -> str:
    """A value as one line of canonical JSON."""
    return _CANONICAL.encode(value).decode()


def snapshot_to_json(state: State) -> str:
    """A state as one line of JSON; :func:`from_json` reads it."""
    return _SNAPSHOT.encode(state).decode()


def from_json(kind: Any, text: str) -> Any:
    """A value of a kind from its JSON. Raises :class:`msgspec.MsgspecError` with the place that doesn't fit."""
    return _decoder(kind).decode(text)


def encode(event: Event) -> tuple[str, str]:
    """An event as its kind and its body."""
    return event.kind, to_json(event)


def decode(kind: str, body: str) -> Event:
    """The opposite of :func:`encode`. Raises :class:`KeyError` for a kind that is not known."""
    event: Event = from_json(KINDS[kind], body)
    return event
