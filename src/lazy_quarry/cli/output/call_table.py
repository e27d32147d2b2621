"""The calls of a site as a table: who may make which, and with their types."""

from collections.abc import Iterator
from typing import Any

from lazy_quarry.link.site_client import CALLS, SiteClient


def role_lines() -> Iterator[str]:
    """Who may make which call, a line for each."""
    width = max(map(len, CALLS))
    yield f"{'':<{width}}  {'user':<5} {'lead':<5} operator"
    for name, call in CALLS.items():
        rights = call.rights
        yield f"{name.replace('_', '-'):<{width}}  {rights.user:<5} {rights.lead:<5} {rights.operator}"


def calls_json() -> list[dict[str, Any]]:
    """Every call: what it is given and gives, who answers it, who may make it, whether it changes something or may take long."""
    found = []
    for name, call in CALLS.items():
        types = dict(getattr(SiteClient, name).__annotations__)
        result = types.pop("return")
        found.append(
            {
                "call": name,
                "arguments": types,
                "result": result,
                "answered_by": call.part,
                "rights": call.rights._asdict(),
                "changes": call.changes,
                "long": call.long,
                "by_reader": call.by_reader,
                "whole_plan": call.plan,
            }
        )
    return found
