"""JSON read as values of a kind, by whichever thread wants it.

msgspec notes what it knows of a class on the class itself, and does so before it knows all: a thread that asks for the same class
meanwhile, on its own or as a part of another kind, gets what is half made, and the process ends. So one thread at a time prepares.
"""

from threading import Lock
from typing import Any

import msgspec

_preparing = Lock()
_decoders: dict[Any, msgspec.json.Decoder] = {}


def decoder(kind: Any) -> msgspec.json.Decoder:
    """The reader of JSON as a kind: a class, a union or a collection of such. All readers of our types are made here."""
    known = _decoders.get(kind)
    if known is None:
        with _preparing:
            known = _decoders.setdefault(kind, msgspec.json.Decoder(kind))
    return known


def converted(value: Any, kind: Any) -> Any:
    """A value of lists, dicts and what stands in them as a kind. Raises :class:`ValueError` where it is no such thing."""
    decoder(kind)  # prepares it
    return msgspec.convert(value, kind, builtin_types=(bytes,))
