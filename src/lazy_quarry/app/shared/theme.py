"""Colours by meaning, in a dark and a light palette, and the styles made of them."""

from functools import cache, cached_property

from msgspec.structs import astuple
from rich.style import Style
from textual.theme import Theme

from lazy_quarry.core.job.job import Phase
from lazy_quarry.draw import palette


class Palette(palette.Colours, frozen=True, dict=True):
    """Colours with what Textual and Rich need of them."""

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

DUSK, CHALK, SIXTEEN = (Palette(*astuple(one)) for one in (palette.DUSK, palette.CHALK, palette.SIXTEEN))
OWNERS = {"mine": "ochre", "accounts": "moss", "others": "stone"}
"""The colours of jobs by whose they are."""
PALETTES = {one.name: one for one in (DUSK, CHALK, SIXTEEN)}
