"""The form of calls: JSON-RPC 2.0, one message on a line, with the types of :class:`SiteClient`.

Values are frozen structs, read and written as they are. A value that doesn't fit its type is an error that names the place.
"""

from __future__ import annotations

import re
import sys
import traceback
from collections.abc import Iterator
from functools import cache
from importlib import import_module
from itertools import count
from typing import TYPE_CHECKING, Any, Literal, get_type_hints

import msgspec

from lazy_quarry.errors import NoSuchJob, QuarryError, Refused, StateFolderError
from lazy_quarry.link.site_client import SiteClient
from lazy_quarry.store.typed_json import decoder

if TYPE_CHECKING:
    from lazy_quarry.core.header.submission import Submission

ERRORS: dict[type[QuarryError], int] = {
    NoSuchJob: -32004,
    Refused: -32003,
    StateFolderError: -32002,
    QuarryError: -32001,
}
"""JSON-RPC error codes of what may be raised, the more exact kinds first."""
NOT_JSON, BAD_REQUEST, NO_METHOD, BAD_PARAMS, INTERNAL = -32700, -32600, -32601, -32602, -32603
LONGEST_LINE = 64 * 2**20
"""Bytes of a message."""
_SAFE = 2**53
"""Whole numbers up to this are exact in every reader of JSON (RFC 8259); a call takes none beyond."""
_DIGITS = re.compile(rb"\d{16}|[eE]\+?\d\d")
_faults: Iterator[int] = count(1)
_NOTHING = msgspec.Raw()
_HOMES = {
    "Submission": "lazy_quarry.core.header.submission",
    "Suggestion": "lazy_quarry.core.explain.answers",
    "Window": "lazy_quarry.core.site",
    "Letter": "lazy_quarry.site.mail.mail_folder",
    "MadeFiles": "lazy_quarry.run.node.made_files",
    "Fetchable": "lazy_quarry.run.fetching",
    "FetchPiece": "lazy_quarry.run.fetching",
    "HostState": "lazy_quarry.run.runner",
    "KeptThere": "lazy_quarry.run.runner",
    "OutputChunk": "lazy_quarry.run.runner",
    "Advised": "lazy_quarry.views.advice_view",
    "Board": "lazy_quarry.views.board",
    "BoardChange": "lazy_quarry.views.board",
    "BoardMark": "lazy_quarry.views.board",
    "SiteNames": "lazy_quarry.views.board",
    "DraftReport": "lazy_quarry.views.draft_view",
    "ChainReceipt": "lazy_quarry.views.chain_views",
    "ChainReport": "lazy_quarry.views.chain_views",
    "ChainSource": "lazy_quarry.views.chain_views",
    "ChainView": "lazy_quarry.views.chain_views",
    "Expanded": "lazy_quarry.views.expanded",
    "JobDetail": "lazy_quarry.views.job_detail",
    "Found": "lazy_quarry.views.outcomes",
    "Foretold": "lazy_quarry.views.foretold",
    "JobView": "lazy_quarry.views.job_view",
    "Outcome": "lazy_quarry.views.outcomes",
    "BudgetEnd": "lazy_quarry.core.ledger.burn",
    "JobRecord": "lazy_quarry.core.ledger.job_record",
    "BySize": "lazy_quarry.core.ledger.report",
    "OverTime": "lazy_quarry.core.ledger.report",
    "Receipt": "lazy_quarry.views.outcomes",
    "Report": "lazy_quarry.core.ledger.report",
    "Rhythm": "lazy_quarry.core.ledger.report",
    "ShareLine": "lazy_quarry.core.ledger.report",
    "StudyView": "lazy_quarry.views.study_view",
    "Waste": "lazy_quarry.core.ledger.report",
    "RoomView": "lazy_quarry.views.outcomes",
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
    found = get_type_hints(getattr(SiteClient, method), {"Literal": Literal}, _Types())
    result = found.pop("return")
    return found, result


def write_request(number: int, method: str, arguments: dict[str, Any]) -> bytes:
    """A call as a line. Raises :class:`QuarryError` for a name that is no text, as a file's may be, or for too much."""
    message = {"jsonrpc": "2.0", "id": number, "method": method, "params": arguments}
    try:
        line = msgspec.json.encode(message) + b"\n"
    except UnicodeEncodeError:
        raise QuarryError(
            f"{method}: a name or text in it is no UTF-8; give the file another name, or save it as UTF-8"
        ) from None
    if len(line) > LONGEST_LINE:
        raise QuarryError(
            f"{method}: its scripts and settings have {len(line) >> 20} MiB together, and {LONGEST_LINE >> 20} MiB go in one call; "
            f"make it in parts"
        )
    return line


def write_notification(method: str, **params: Any) -> bytes:
    """A message that nobody answers, as a line."""
    return msgspec.json.encode({"jsonrpc": "2.0", "method": method, "params": params}) + b"\n"


class Glance(msgspec.Struct):
    """The parts of a call that are looked at before it is answered."""

    method: str = ""
    id: int | str | None = None
    params: dict[str, msgspec.Raw] = {}

    def number(self, name: str) -> int | None:
        """A whole number among its arguments, also false and true; None for none."""
        try:
            return int(decoder(int | bool).decode(self.params[name]))
        except (KeyError, msgspec.MsgspecError):
            return None


_GLANCES: msgspec.json.Decoder[Glance] = decoder(Glance)


def glance_at(line: bytes) -> Glance:
    """Read the call in a line; an empty method for what isn't a call."""
    try:
        return _GLANCES.decode(line)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        return Glance()


_REPLIES: msgspec.json.Decoder[Reply] = decoder(Reply)
REQUESTS: msgspec.json.Decoder[Request] = decoder(Request)


def read_reply(line: bytes) -> Reply:
    """An answer or a notification. Raises :class:`msgspec.MsgspecError` for anything else."""
    return _REPLIES.decode(line)


def result_of(method: str, reply: Reply) -> Any:
    """Return the value in an answer, or raise its error as it was on the other side."""
    if reply.error is not None:
        kind = next((kind for kind, code in ERRORS.items() if code == reply.error.code), QuarryError)
        raise kind(reply.error.message)
    raw = b"null" if isinstance(reply.result, msgspec.UnsetType) else reply.result
    return decoder(types_of(method)[1]).decode(raw)


def number_faults_from(first: int) -> None:
    """Number faults from here on, so that those of several processes that write one log differ."""
    global _faults
    _faults = count(first)


def logged(fault: Exception, where: str) -> str:
    """Write a fault of our own into the log; returns a sentence with the number under which it stands there."""
    number = next(_faults)
    print(f"fault {number} in {where}:", file=sys.stderr)
    traceback.print_exception(fault, limit=-20)
    sys.stderr.flush()
    return f"internal error {number} in {where} ({type(fault).__name__}); engine.log in the state folder has all of it"


def submission_of(line: bytes) -> Submission | None:
    """The submission that a call brings, if it brings one that can be read."""
    try:
        request = REQUESTS.decode(line)
        found: Submission = decoder(types_of(request.method)[0]["submission"]).decode(request.params["submission"])
        return found
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError, KeyError, AttributeError):
        return None


def arguments_of(request: Request) -> dict[str, Any]:
    """The arguments of a call, each of its type."""
    types, values = types_of(request.method)[0], {}
    for name, raw in request.params.items():
        if name not in types:
            raise TypeError(f"{request.method} takes no argument {name!r}")
        try:
            values[name] = decoder(types[name]).decode(raw)
        except msgspec.ValidationError as fault:
            raise msgspec.ValidationError(f"{name}: {fault}") from None
        if _DIGITS.search(raw) and not _exact(msgspec.json.decode(raw)):
            raise msgspec.ValidationError(f"{name}: a number in it is out of range; numbers go up to {_SAFE:,}")
    return values


def _exact(value: Any) -> bool:
    """True when every number within is one that every reader of JSON has exactly."""
    rest = [value]
    while rest:
        one = rest.pop()
        if isinstance(one, int | float) and abs(one) > _SAFE:
            return False
        rest += one.values() if isinstance(one, dict) else one if isinstance(one, list) else ()
    return True


def fault_line(number: int | str | None, fault: QuarryError) -> bytes:
    """An answer that says what was refused, or went wrong, in the words that a person is told."""
    return error_line(number, next(code for kind, code in ERRORS.items() if isinstance(fault, kind)), str(fault))


def error_line(number: int | str | None, code: int, message: str) -> bytes:
    """An answer that says why there is none."""
    reply = {"jsonrpc": "2.0", "id": number, "error": {"code": code, "message": message}}
    return msgspec.json.encode(reply) + b"\n"
