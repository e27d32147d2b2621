"""How calls are written: JSON-RPC 2.0, one message on a line, with the types of :class:`SiteClient`.

Values are frozen dataclasses, read and written as they are. A value that doesn't fit its type is an error that names the place.
"""

from __future__ import annotations

import inspect
from functools import cache
from importlib import import_module
from typing import Any

import msgspec

from lazy_quarry.errors import EngineAway, NoSuchJob, QuarryError, Refused, StateFolderError
from lazy_quarry.link.site_client import CALLS, SiteClient

ERRORS: dict[type[QuarryError], int] = {
    NoSuchJob: -32004,
    Refused: -32003,
    StateFolderError: -32002,
    QuarryError: -32001,
}
"""JSON-RPC error codes of what may be raised, the more exact kinds first."""
NOT_JSON, BAD_REQUEST, NO_METHOD, BAD_PARAMS = -32700, -32600, -32601, -32602
_NOTHING = msgspec.Raw()
_HOMES = {
    "Submission": "lazy_quarry.core.header.submission",
    "Suggestion": "lazy_quarry.core.explain.answers",
    "Window": "lazy_quarry.core.site",
    "OutputChunk": "lazy_quarry.run.runner",
    "Board": "lazy_quarry.site.board",
    "BoardChange": "lazy_quarry.site.board",
    "BoardMark": "lazy_quarry.site.board",
    "SiteNames": "lazy_quarry.site.board",
    "DraftReport": "lazy_quarry.site.draft_view",
    "JobDetail": "lazy_quarry.site.job_detail",
    "JobView": "lazy_quarry.site.job_view",
    "Outcome": "lazy_quarry.site.views",
    "Receipt": "lazy_quarry.site.views",
    "RoomView": "lazy_quarry.site.views",
}
"""Where the types of calls are defined. They are imported when a call that has them is made: a command pays for its own."""


class Error(msgspec.Struct):
    """Why a call was not answered."""

    code: int
    message: str


class Request(msgspec.Struct):
    """A call. Its arguments stay as they are until the types of the method are known."""

    method: str
    id: int | str | None = None
    params: dict[str, msgspec.Raw] = {}
    jsonrpc: str = ""


class Reply(msgspec.Struct, omit_defaults=True):
    """An answer (with an ``id``) or a notification (with a ``method``)."""

    jsonrpc: str = ""
    id: int | str | None = None
    result: msgspec.Raw | msgspec.UnsetType = msgspec.UNSET
    error: Error | None = None
    method: str = ""
    params: dict[str, Any] = {}


class _Types(dict[str, Any]):
    """Names in annotations, each imported when it is met."""

    def __missing__(self, name: str) -> Any:
        if name not in _HOMES:
            raise KeyError(name)
        self[name] = getattr(import_module(_HOMES[name]), name)
        return self[name]


@cache
def types_of(method: str) -> tuple[dict[str, Any], Any]:
    """The types of a call's arguments by name, and of its result."""
    scope = _Types(vars(inspect.getmodule(SiteClient)))
    written = dict(getattr(SiteClient, method).__annotations__)
    found = {name: eval(text, {}, scope) for name, text in written.items()}  # our own source, from site_client.py
    result = found.pop("return")
    return found, result


def write_request(number: int, method: str, arguments: dict[str, Any]) -> bytes:
    """A call as a line."""
    message = {"jsonrpc": "2.0", "id": number, "method": method, "params": arguments}
    return msgspec.json.encode(message) + b"\n"


def write_notification(method: str, **params: Any) -> bytes:
    """A message that nobody answers, as a line."""
    return msgspec.json.encode({"jsonrpc": "2.0", "method": method, "params": params}) + b"\n"


class _Named(msgspec.Struct):
    method: str = ""


_NAMES = msgspec.json.Decoder(_Named)


def method_of(line: bytes) -> str:
    """What a line calls; empty for what isn't a call."""
    try:
        return _NAMES.decode(line).method
    except msgspec.MsgspecError:
        return ""


_REPLIES = msgspec.json.Decoder(Reply)
_REQUESTS = msgspec.json.Decoder(Request)


def read_reply(line: bytes) -> Reply:
    """An answer or a notification. Raises :class:`msgspec.MsgspecError` for anything else."""
    return _REPLIES.decode(line)


def result_of(method: str, reply: Reply) -> Any:
    """What an answer holds: the value, or the error raised as it was on the other side."""
    if reply.error is not None:
        kind = next((kind for kind, code in ERRORS.items() if code == reply.error.code), EngineAway)
        raise kind(reply.error.message)
    raw = b"null" if isinstance(reply.result, msgspec.UnsetType) else reply.result
    return msgspec.json.decode(raw, type=types_of(method)[1])


def answer(site: Any, line: bytes) -> bytes:
    """The answer to one line, as a line; never raises for what it holds. ``site`` is a :class:`SiteInUse`."""
    try:
        request = _REQUESTS.decode(line)
    except msgspec.ValidationError:
        return _error(None, BAD_REQUEST, "not a JSON-RPC 2.0 request")
    except msgspec.DecodeError:
        return _error(None, NOT_JSON, "not JSON")
    if request.jsonrpc != "2.0":
        return _error(None, BAD_REQUEST, "not a JSON-RPC 2.0 request")
    if request.method not in CALLS:
        return _error(request.id, NO_METHOD, f"there is no method {request.method!r}")
    call = getattr(getattr(site, CALLS[request.method]), request.method)
    try:
        values = _arguments(request)
        inspect.signature(call).bind(**values)
    except (msgspec.MsgspecError, TypeError) as fault:
        return _error(request.id, BAD_PARAMS, str(fault))
    try:
        result = call(**values)
    except QuarryError as fault:
        code = next(code for kind, code in ERRORS.items() if isinstance(fault, kind))
        return _error(request.id, code, str(fault))
    return msgspec.json.encode({"jsonrpc": "2.0", "id": request.id, "result": result}) + b"\n"


def _arguments(request: Request) -> dict[str, Any]:
    """The arguments of a call, each of its type."""
    types, values = types_of(request.method)[0], {}
    for name, raw in request.params.items():
        if name not in types:
            raise TypeError(f"{request.method} takes no argument {name!r}")
        try:
            values[name] = msgspec.json.decode(raw, type=types[name])
        except msgspec.ValidationError as fault:
            raise msgspec.ValidationError(f"{name}: {fault}") from None
    return values


def _error(number: int | str | None, code: int, message: str) -> bytes:
    reply = {"jsonrpc": "2.0", "id": number, "error": {"code": code, "message": message}}
    return msgspec.json.encode(reply) + b"\n"
