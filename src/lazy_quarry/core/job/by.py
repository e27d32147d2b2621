"""Who caused an event."""

from msgspec import Struct

MOST_REASON = 1000
"""Characters of a reason that a person gives."""


class By(Struct, frozen=True):
    """The person who caused an event, from where, and why. Without a user it is the site itself, for what ``why`` says."""

    user: str = ""
    where: str = ""
    """The way the call came in: ``socket``, or ``process`` for one from the engine's own; empty where not recorded."""
    why: str = ""

    @property
    def name(self) -> str:
        """The person, or what made it so."""
        return self.user or self.why

    @property
    def words(self) -> str:
        """The person with their reason, as ``tove: the inputs are missing``."""
        return f"{self.user}: {self.why}" if self.user and self.why else self.name


NOBODY = By()
"""The cause of what happens by itself."""
