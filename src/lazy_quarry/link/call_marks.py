"""How a call of a site is marked: by the part that answers it, and what it needs."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, Literal, TypeVar, cast

Part = Literal[
    "operations",
    "queries",
    "drafts",
    "chains",
    "chain_changes",
    "site_changes",
    "mailer",
    "advice",
    "beforehand",
    "ledger",
    "studies",
]
"""The part of a site in use that answers a call."""
CHANGING: tuple[Part, ...] = ("operations", "chain_changes", "site_changes")
_Method = TypeVar("_Method", bound=Callable[..., Any])


class Asking:
    """Whoever has calls: :meth:`ask` makes each of them, in this process or over a socket."""

    def ask(self, name: str, arguments: tuple[Any, ...], named: dict[str, Any]) -> Any:
        """Make a call and give its answer."""
        raise NotImplementedError


def answered_by(part: Part) -> Callable[[_Method], _Method]:
    """Write a call down: its arguments and its answer are those of the method, which a client's :meth:`Asking.ask` makes.

    What :data:`CHANGING` parts answer changes the site: it is never made twice by itself.
    """

    def mark(method: _Method) -> _Method:
        @wraps(method)
        def call(self: Asking, *arguments: Any, **named: Any) -> Any:
            return self.ask(method.__name__, arguments, named)

        call.part = part  # type: ignore[attr-defined]
        return cast(_Method, call)

    return mark


def takes_long(method: _Method) -> _Method:
    """Mark a call that may take long, as one that reads files of people or checks many scripts.

    It is answered in a thread, while others are, and holds the site's lock only where it must.
    """
    method.long = True  # type: ignore[attr-defined]
    return method


def reads_the_plan(method: _Method) -> _Method:
    """Mark a call that needs all of the plan, which on a large site takes long to work out."""
    method.plan = True  # type: ignore[attr-defined]
    return method
