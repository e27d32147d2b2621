"""How calls are written as JSON: the types of a method as its class says them, and the errors by number."""

from functools import cache
from typing import Any, get_type_hints

from pydantic import TypeAdapter

from lazy_quarry.errors import EngineAway, NoSuchJob, QuarryError, Refused, StateFolderError

CODES: dict[type[QuarryError], int] = {
    NoSuchJob: -32004,
    Refused: -32003,
    StateFolderError: -32002,
    QuarryError: -32001,
}
"""JSON-RPC error codes, the more exact kinds first."""


@cache
def adapters(of: type, method: str) -> tuple[dict[str, TypeAdapter], TypeAdapter]:
    """What reads and writes a method's arguments, and its result."""
    hints = get_type_hints(getattr(of, method))
    result = TypeAdapter(hints.pop("return"))
    return {name: TypeAdapter(hint) for name, hint in hints.items()}, result


def params_of(of: type, method: str, arguments: dict[str, Any]) -> dict[str, Any]:
    """Arguments of a call as JSON can hold them."""
    takes, _ = adapters(of, method)
    return {name: takes[name].dump_python(value, mode="json") for name, value in arguments.items()}


def result_of(of: type, method: str, reply: dict[str, Any]) -> Any:
    """What a response holds: the value, or the error raised as it was on the other side."""
    if "error" in reply:
        code, message = reply["error"]["code"], reply["error"]["message"]
        kind = next((kind for kind, own in CODES.items() if own == code), EngineAway)
        raise kind(message)
    return adapters(of, method)[1].validate_python(reply["result"])
