"""JSON-RPC 2.0, a message a line: the methods of a desk that may be called from outside, and their types."""

import inspect
from collections.abc import Callable
from functools import cache
from typing import Any, get_type_hints

from pydantic import TypeAdapter, ValidationError

from lazy_quarry.desk import Desk
from lazy_quarry.errors import EngineAway, NoSuchJob, QuarryError, Refused, StateFolderError

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
"""Of :class:`~lazy_quarry.desk.Desk`; no other is reached."""

_CODES: dict[type[QuarryError], int] = {
    NoSuchJob: -32004,
    Refused: -32003,
    StateFolderError: -32002,
    QuarryError: -32001,
}
BAD_REQUEST, NO_METHOD, BAD_PARAMS = -32600, -32601, -32602


@cache
def _adapters(method: str) -> tuple[dict[str, TypeAdapter], TypeAdapter]:
    hints = get_type_hints(getattr(Desk, method))
    result = TypeAdapter(hints.pop("return"))
    return {name: TypeAdapter(hint) for name, hint in hints.items()}, result


def answer(desk: Desk, message: Any) -> dict[str, Any]:
    """The response to one request; never raises for what the message holds."""
    reply: dict[str, Any] = {"jsonrpc": "2.0", "id": None}
    if not isinstance(message, dict) or message.get("jsonrpc") != "2.0":
        return reply | {"error": {"code": BAD_REQUEST, "message": "not a JSON-RPC 2.0 request"}}
    reply["id"] = message.get("id")
    method, params = message.get("method"), message.get("params", {})
    if method not in METHODS:
        return reply | {"error": {"code": NO_METHOD, "message": f"there is no method {method!r}"}}
    takes, gives = _adapters(method)
    try:
        values = {name: takes[name].validate_python(value) for name, value in params.items()}
    except (ValidationError, KeyError, AttributeError) as fault:
        return reply | {"error": {"code": BAD_PARAMS, "message": str(fault).split("\n")[0]}}
    try:
        call: Callable[..., Any] = getattr(desk, method)
        inspect.signature(call).bind(**values)
        return reply | {"result": gives.dump_python(call(**values), mode="json")}
    except QuarryError as fault:
        code = next(code for kind, code in _CODES.items() if isinstance(fault, kind))
        return reply | {"error": {"code": code, "message": str(fault)}}
    except TypeError as fault:
        return reply | {"error": {"code": BAD_PARAMS, "message": str(fault)}}


def params_of(method: str, arguments: dict[str, Any]) -> dict[str, Any]:
    """Arguments of a call as JSON can hold them."""
    takes, _ = _adapters(method)
    return {name: takes[name].dump_python(value, mode="json") for name, value in arguments.items()}


def result_of(method: str, reply: dict[str, Any]) -> Any:
    """What a response holds: the value, or the error raised as it was on the other side."""
    if "error" in reply:
        code, message = reply["error"]["code"], reply["error"]["message"]
        kind = next((kind for kind, own in _CODES.items() if own == code), EngineAway)
        raise kind(message)
    return _adapters(method)[1].validate_python(reply["result"])
