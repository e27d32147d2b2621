"""The marks of a site's calls: each is written once, over its method, with who answers it, who may make it and what it needs."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, Literal, TypeVar, cast

from msgspec import Struct

from lazy_quarry.views.rights import Rights

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
READING: tuple[Part, ...] = ("queries", "drafts", "chains", "advice", "ledger")
"""The parts of :class:`lazy_quarry.site.site_in_use.SiteRead`."""
Long = Literal["no", "yes", "ended", "if ended"]
"""``ended``: where the job of the argument ``number`` has ended; ``if ended``: where ended jobs are asked for."""
_Method = TypeVar("_Method", bound=Callable[..., Any])


class Call(Struct, frozen=True):
    """A call: the part of a site that answers it, who may make it, and what it needs.

    ``long``: it may take long, as one that reads files of people, much of the past, or many scripts. It is answered apart from all
    others: by a process that reads the journal where one of the :data:`READING` parts answers it, else in a thread, which holds the
    site's lock only where it must. ``plan``: it needs all of the plan, which on a large site takes long to work out. ``about`` is
    the argument that names the account that it is about, where a lead's rights hang on that.
    """

    name: str
    part: Part
    rights: Rights
    long: Long = "no"
    plan: bool = False
    about: str = ""
    several: bool = False
    """True when its answer is a list."""

    @property
    def by_reader(self) -> bool:
        """True when a process that only reads the journal can answer it."""
        return self.long != "no" and self.part in READING

    @property
    def changes(self) -> bool:
        """True when it changes the site: it is never repeated automatically."""
        return self.part in CHANGING


class Asking:
    """Whoever has calls: :meth:`ask` makes each of them, in this process or over a socket."""

    def ask(self, call: Call, arguments: tuple[Any, ...], named: dict[str, Any]) -> Any:
        """Make a call and give its answer."""
        raise NotImplementedError


def call(
    part: Part, rights: Rights, *, long: Long = "no", plan: bool = False, about: str = ""
) -> Callable[[_Method], _Method]:
    """Write a call down: its arguments and its answer are those of the method, which a client's :meth:`Asking.ask` makes."""

    def mark(method: _Method) -> _Method:
        several = method.__annotations__["return"].startswith("list[")
        made = Call(method.__name__, part, rights, long, plan, about, several)

        @wraps(method)
        def asked(self: Asking, *arguments: Any, **named: Any) -> Any:
            return self.ask(made, arguments, named)

        asked.call = made  # type: ignore[attr-defined]
        return cast(_Method, asked)

    return mark
