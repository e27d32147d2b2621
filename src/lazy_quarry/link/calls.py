"""JSON-RPC 2.0, a message a line: the methods of a desk that may be called from outside, and their types."""

import inspect
from collections.abc import Callable
from typing import Any

from pydantic import ValidationError

from lazy_quarry.errors import QuarryError
from lazy_quarry.link.protocol import CODES, adapters
from lazy_quarry.site.operations import Operations

METHODS = (
    "submit",
    "hold",
    "release",
    "cancel",
    "jobs",
    "job",
    "detail",
    "output",
    "check",
    "board",
    "room",
    "try_one",
    "change",
    "order",
    "again",
    "nodes",
    "reserve",
    "unreserve",
    "compare",
    "samples",
    "ladder",
    "turns",
)
"""Of :class:`~lazy_quarry.site.operations.Operations`; no other is reached."""

BAD_REQUEST, NO_METHOD, BAD_PARAMS = -32600, -32601, -32602


def answer(desk: Operations, message: Any) -> dict[str, Any]:
    """The response to one request; never raises for what the message holds."""
    reply: dict[str, Any] = {"jsonrpc": "2.0", "id": None}
    if not isinstance(message, dict) or message.get("jsonrpc") != "2.0":
        return reply | {"error": {"code": BAD_REQUEST, "message": "not a JSON-RPC 2.0 request"}}
    reply["id"] = message.get("id")
    method, params = message.get("method"), message.get("params", {})
    if method not in METHODS:
        return reply | {"error": {"code": NO_METHOD, "message": f"there is no method {method!r}"}}
    takes, gives = adapters(Operations, method)
    try:
        values = {name: takes[name].validate_python(value) for name, value in params.items()}
    except (ValidationError, KeyError, AttributeError) as fault:
        return reply | {"error": {"code": BAD_PARAMS, "message": str(fault).split("\n")[0]}}
    try:
        call: Callable[..., Any] = getattr(desk, method)
        inspect.signature(call).bind(**values)
        return reply | {"result": gives.dump_python(call(**values), mode="json")}
    except QuarryError as fault:
        code = next(code for kind, code in CODES.items() if isinstance(fault, kind))
        return reply | {"error": {"code": code, "message": str(fault)}}
    except TypeError as fault:
        return reply | {"error": {"code": BAD_PARAMS, "message": str(fault)}}
