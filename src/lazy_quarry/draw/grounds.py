"""The grounds of figures: the two grounds of the screen, and white paper. By role the colour and the hatching.

On paper each role is told from every other in grey too, by how dark it is or by its hatching.
"""

from msgspec import Struct

from lazy_quarry.draw.palette import CHALK, DUSK, Colours


class Tone(Struct, frozen=True):
    """The fill of a role: its colour, its hatching, and whether it is only outlined."""

    colour: str
    hatch: str = ""
    outlined: bool = False


class Ground(Struct, frozen=True):
    """A ground with the tones of all roles."""

    name: str
    paper: str
    ink: str
    dim: str
    faint: str
    tones: dict[str, Tone]

    def tone(self, role: str) -> Tone:
        """The look of a role; one that isn't known looks like ink."""
        return self.tones.get(role, Tone(self.ink))


def _screen(colours: Colours) -> Ground:
    tones = {
        "mine": Tone(colours.ochre),
        "accounts": Tone(colours.moss),
        "others": Tone(colours.stone),
        "mine-rest": Tone(colours.ochre, "////", outlined=True),
        "accounts-rest": Tone(colours.moss, "////", outlined=True),
        "others-rest": Tone(colours.stone, "////", outlined=True),
        "free": Tone(colours.faint, outlined=True),
        "closed": Tone(colours.rust, "xxxx", outlined=True),
        "window": Tone(colours.rust, "\\\\\\\\", outlined=True),
        "expected": Tone(colours.river, "....", outlined=True),
        "waited": Tone(colours.dim),
        "held": Tone(colours.dim, "----", outlined=True),
        "blocked": Tone(colours.heather),
        "past": Tone(colours.stone),
        "done": Tone(colours.moss),
        "failed": Tone(colours.rust),
        "clash": Tone(colours.rust, "xxxx"),
        "slab": Tone(colours.raised),
        "rank-a": Tone(colours.ochre),
        "rank-b": Tone(colours.river),
        "taken": Tone(colours.stone),
        "start": Tone(colours.river),
        "asked": Tone(colours.ochre),
        "critical": Tone(colours.ochre),
    }
    return Ground(colours.name, colours.ground, colours.ink, colours.dim, colours.faint, tones)


PRINT = Ground(
    "print", "#ffffff", "#1c1b19", "#5c5850", "#c9c4b8",
    {
        "mine": Tone("#6b4a00"),
        "accounts": Tone("#86a85a"),
        "others": Tone("#d8d3c6"),
        "mine-rest": Tone("#6b4a00", "////", outlined=True),
        "accounts-rest": Tone("#5f7f35", "\\\\\\\\", outlined=True),
        "others-rest": Tone("#9c968a", "||||", outlined=True),
        "free": Tone("#c9c4b8", outlined=True),
        "closed": Tone("#a83c1b", "xxxx", outlined=True),
        "window": Tone("#a83c1b", "++++", outlined=True),
        "expected": Tone("#2a6584", "....", outlined=True),
        "waited": Tone("#6b675e"),
        "held": Tone("#5c5850", "----", outlined=True),
        "blocked": Tone("#73507f", "oo", outlined=True),
        "past": Tone("#b0aa9e"),
        "done": Tone("#b5d08c"),
        "failed": Tone("#5a1503"),
        "clash": Tone("#a83c1b", "xxxx", outlined=True),
        "slab": Tone("#f3f0e8"),
        "rank-a": Tone("#6b4a00"),
        "rank-b": Tone("#8fb6cc"),
        "taken": Tone("#e3dfd5"),
        "start": Tone("#8fb6cc"),
        "asked": Tone("#6b4a00"),
        "critical": Tone("#6b4a00"),
    },
)  # fmt: skip
GROUNDS = {ground.name: ground for ground in (_screen(DUSK), _screen(CHALK), PRINT)}
SIZES = {"column": (3.5, 7.0), "page": (7.1, 8.0), "slide": (10.0, 12.0)}
"""The width in inches and the type in points of a column of a paper, a page, and a slide (16:9)."""


def blended(colour: str, paper: str, strength: float) -> str:
    """A colour of which so much is left on the paper."""
    pairs = ((int(one[place : place + 2], 16) for one in (colour, paper)) for place in (1, 3, 5))
    return "#" + "".join(f"{round(strength * top + (1 - strength) * under):02x}" for top, under in pairs)


def against(colour: str) -> str:
    """Black or white, whichever is read better on a colour (relative luminance of WCAG 2.2)."""
    parts = [int(colour[place : place + 2], 16) / 255 for place in (1, 3, 5)]
    linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
    light = 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]
    return "#141311" if light > 0.179 else "#ffffff"
