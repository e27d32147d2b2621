"""The colours of the two grounds by their roles, and those of terminals with sixteen; nothing here draws."""

from msgspec import Struct


class Colours(Struct, frozen=True):
    """Ochre: mine, running, the cursor, keys. River: waiting. Heather: blocked. Moss: done. Rust: failed, closed."""

    name: str
    dark: bool
    ground: str
    raised: str
    ink: str
    dim: str
    faint: str
    stone: str
    ochre: str
    moss: str
    rust: str
    river: str
    heather: str


DUSK = Colours(
    "dusk", True, "#1a1916", "#26231d", "#ddd6c7", "#928a7c", "#4a453c", "#6b6558",
    "#d9a441", "#93ad6b", "#ce7255", "#74a3bd", "#a98bb5",
)  # fmt: skip
CHALK = Colours(
    "chalk", False, "#f4f0e6", "#e8e1d1", "#2b2822", "#6a6252", "#c5bca8", "#a59c88",
    "#8a5a00", "#4a6b1f", "#a83c1b", "#2a6584", "#73507f",
)  # fmt: skip
SIXTEEN = Colours(
    "sixteen", True, "#000000", "#0000aa", "#ffffff", "#aaaaaa", "#555555", "#aaaaaa",
    "#ffff55", "#55ff55", "#ff5555", "#55ffff", "#ff55ff",
)  # fmt: skip
"""For terminals with sixteen colours: each meaning has one of them as it is, so that none falls together with another."""
