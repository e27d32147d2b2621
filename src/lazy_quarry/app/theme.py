"""Colours by meaning, in a dark and a light palette, and the styles made of them."""

from dataclasses import dataclass
from functools import cache, cached_property

from rich.style import Style
from textual.theme import Theme

from lazy_quarry.core.job.job import Phase


@dataclass(frozen=True)
class Palette:
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

    @cached_property
    def theme(self) -> Theme:
        """The same colours for Textual's style sheets, as ``$ink``, ``$dim`` and so on."""
        return Theme(
            name=self.name,
            primary=self.ochre,
            secondary=self.river,
            warning=self.ochre,
            error=self.rust,
            success=self.moss,
            accent=self.ochre,
            foreground=self.ink,
            background=self.ground,
            surface=self.ground,
            panel=self.raised,
            dark=self.dark,
            variables={
                "ink": self.ink,
                "dim": self.dim,
                "faint": self.faint,
                "raised": self.raised,
                "ground": self.ground,
                "ochre": self.ochre,
                "moss": self.moss,
                "rust": self.rust,
                "river": self.river,
                "heather": self.heather,
                "scrollbar": self.faint,
                "scrollbar-hover": self.dim,
                "scrollbar-active": self.ochre,
                "scrollbar-background": self.ground,
                "scrollbar-background-hover": self.ground,
                "scrollbar-background-active": self.ground,
                "scrollbar-corner-color": self.ground,
            },
        )

    def style(self, colour: str, ground: str | None = None, bold: bool = False) -> Style:
        """A style of a colour by its role's name, on the ground or on another role's colour."""
        return _style(getattr(self, colour), getattr(self, ground or "ground"), bold)

    def of_phase(self, phase: Phase) -> str:
        """The role that stands for a state; its sign and its word are always there too."""
        return PHASE_ROLES[phase]


@cache
def _style(colour: str, ground: str, bold: bool) -> Style:
    return Style(color=colour, bgcolor=ground, bold=bold)


PHASE_ROLES = {
    Phase.WAITING: "river",
    Phase.BLOCKED: "heather",
    Phase.HELD: "dim",
    Phase.RUNNING: "ochre",
    Phase.DONE: "moss",
    Phase.FAILED: "rust",
    Phase.OVERTIME: "rust",
    Phase.OVERMEMORY: "rust",
    Phase.CANCELLED: "dim",
    Phase.LOST: "rust",
    Phase.SKIPPED: "heather",
}

DUSK = Palette(
    "dusk", True, "#1a1916", "#26231d", "#ddd6c7", "#8b8374", "#4a453c", "#6b6558",
    "#d9a441", "#93ad6b", "#c75f3e", "#74a3bd", "#a98bb5",
)  # fmt: skip
CHALK = Palette(
    "chalk", False, "#f4f0e6", "#e8e1d1", "#2b2822", "#6a6252", "#c5bca8", "#a59c88",
    "#8a5a00", "#4a6b1f", "#a83c1b", "#2a6584", "#73507f",
)  # fmt: skip
SIXTEEN = Palette(
    "sixteen", True, "#000000", "#0000aa", "#ffffff", "#aaaaaa", "#555555", "#aaaaaa",
    "#ffff55", "#55ff55", "#ff5555", "#55ffff", "#ff55ff",
)  # fmt: skip
"""For terminals with sixteen colours: each meaning has one of them as it is, so that none falls together with another."""
PALETTES = {palette.name: palette for palette in (DUSK, CHALK, SIXTEEN)}
