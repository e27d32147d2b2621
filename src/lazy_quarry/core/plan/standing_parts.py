"""The parts of a standing."""

from typing import NamedTuple


class StandingParts(NamedTuple):
    """The parts of a standing, in hours; they add up to it."""

    waited: float = 0.0
    account: float = 0.0
    user: float = 0.0
    tier: float = 0.0
    size: float = 0.0
    gives_way: bool = False
    """True for a tier that gives way: such jobs come behind all others, whatever their standing is."""

    @property
    def total(self) -> float:
        """The standing."""
        return self.waited + self.account + self.user + self.tier + self.size

    def named(self) -> tuple[tuple[str, float], ...]:
        """Each part by its name."""
        return (
            ("waited", self.waited),
            ("account", self.account),
            ("user", self.user),
            ("tier", self.tier),
            ("size", self.size),
        )
