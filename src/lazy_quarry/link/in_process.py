"""A client of a site in the same process."""

from collections.abc import Callable
from typing import Any

from lazy_quarry.link.site_client import CALLS
from lazy_quarry.site.site_in_use import SiteInUse

_Calls: Any = object
"""Stands for the calls, which are added below; a type checker cannot see that they are."""


class InProcessClient(_Calls):
    """Passes every call of :class:`~lazy_quarry.link.site_client.SiteClient` to the part of the site that answers it."""

    def __init__(self, site: SiteInUse) -> None:
        self.site = site

    def changes(self, since: int, timeout_s: float) -> int:
        """The site's version as soon as it is past ``since``, or when the time has passed."""
        return self.site.present.wait_change(since, timeout_s)

    def close(self) -> None:
        """There is nothing to close."""


def _handed_on(name: str, part: str) -> Callable[..., Any]:
    def call(self: InProcessClient, *arguments: Any, **named: Any) -> Any:
        return getattr(getattr(self.site, part), name)(*arguments, **named)

    return call


for _name, _part in CALLS.items():
    setattr(InProcessClient, _name, _handed_on(_name, _part))
