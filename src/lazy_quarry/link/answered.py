"""Where calls come in, whoever makes them: who may is asked here, for every call, and nowhere else."""

from __future__ import annotations

import inspect
from typing import TYPE_CHECKING, Any

import msgspec

from lazy_quarry.errors import QuarryError
from lazy_quarry.link.call_marks import Call
from lazy_quarry.link.protocol import (
    BAD_PARAMS,
    BAD_REQUEST,
    INTERNAL,
    NO_METHOD,
    NOT_JSON,
    REQUESTS,
    Request,
    arguments_of,
    error_line,
    fault_line,
    logged,
)
from lazy_quarry.link.site_client import CALLS
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.site_file.roles import refusal
from lazy_quarry.views.outcomes import Outcome

if TYPE_CHECKING:
    from lazy_quarry.site.site_in_use import SiteRead


def method_of_part(site: SiteRead, call: Call) -> Any:
    """The object that answers a call."""
    return getattr(getattr(site, call.part), call.name)


def answered(site: SiteRead, caller: Caller, call: Call, arguments: tuple[Any, ...], named: dict[str, Any]) -> Any:
    """The answer to a person's call; what they may not do is refused as an outcome of it.

    What is somebody's own of jobs is decided where the job is known.
    """
    method = method_of_part(site, call)
    if call.rights.user == "no":
        given = inspect.signature(method).bind(caller, *arguments, **named).arguments
        why = refusal(site.session.site, caller, call.rights, given.get(call.about, "") if call.about else "")
        if why:
            outcome = Outcome(0, False, why)
            return [outcome] if call.several else outcome
    return method(caller, *arguments, **named)


def answer(site: SiteRead, caller: Caller, line: bytes) -> bytes:
    """The answer to one line, as a line; never raises. A site that is only read has not all parts.

    What goes wrong inside is an internal error with a number, under which the log has all of it.
    """
    try:
        request = REQUESTS.decode(line)
    except msgspec.ValidationError:
        return error_line(None, BAD_REQUEST, "not a JSON-RPC 2.0 request")
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return error_line(None, NOT_JSON, "not JSON")
    try:
        return _answer(site, caller, request)
    except Exception as fault:
        return error_line(request.id, INTERNAL, logged(fault, request.method))


def _answer(site: SiteRead, caller: Caller, request: Request) -> bytes:
    if request.jsonrpc != "2.0":
        return error_line(None, BAD_REQUEST, "not a JSON-RPC 2.0 request")
    if request.method not in CALLS:
        return error_line(request.id, NO_METHOD, f"there is no method {request.method!r}")
    call = CALLS[request.method]
    try:
        values = arguments_of(request)
        inspect.signature(method_of_part(site, call)).bind(caller, **values)
    except (msgspec.MsgspecError, UnicodeDecodeError, TypeError, RecursionError) as fault:
        return error_line(request.id, BAD_PARAMS, str(fault))
    try:
        result = answered(site, caller, call, (), values)
    except QuarryError as fault:
        return fault_line(request.id, fault)
    return msgspec.json.encode({"jsonrpc": "2.0", "id": request.id, "result": result}) + b"\n"
