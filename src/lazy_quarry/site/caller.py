"""The person who makes a call."""

from typing import Literal

from msgspec import Struct

from lazy_quarry.core.job.by import By


class Caller(Struct, frozen=True):
    """A person who makes a call, as the site knows them; :func:`lazy_quarry.site.site_file.roles.caller_of` makes one."""

    user: str
    groups: tuple[str, ...] = ()
    """Their groups on this machine, by name."""
    operator: bool = True
    """True for those who run the site."""
    leads: tuple[str, ...] = ()
    """The accounts that they answer for, with all accounts under these."""
    where: Literal["process", "socket"] = "process"
    """The way the call came in: made in the engine's own process, or sent over its socket."""

    def by(self, why: str = "") -> By:
        """The cause of what the call changes."""
        return By(self.user, self.where, why)
