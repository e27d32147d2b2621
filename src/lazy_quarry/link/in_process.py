"""A client of a site in the same process."""

from typing import Any

from lazy_quarry.link.answered import answered
from lazy_quarry.link.call_marks import Call
from lazy_quarry.link.site_client import SiteClient
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.site_in_use import SiteInUse


class InProcessClient(SiteClient):
    """Passes every call of a person to the part of the site that answers it."""

    def __init__(self, site: SiteInUse, caller: Caller) -> None:
        self.site, self.caller = site, caller

    def ask(self, call: Call, arguments: tuple[Any, ...], named: dict[str, Any]) -> Any:
        """The part's own method, if this person may."""
        return answered(self.site, self.caller, call, arguments, named)

    def changes(self, since: int, timeout_s: float) -> int:
        """The site's version as soon as it is past ``since``, or when the time has passed."""
        return self.site.session.wait_change(since, timeout_s)

    def close(self) -> None:
        """There is nothing to close."""
