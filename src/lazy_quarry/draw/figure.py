"""The common parts of all drawings: size, colours, type, and how they are written."""

import re
import warnings
from pathlib import Path
from typing import Any

from lazy_quarry.errors import QuarryError

COLOURS = ("#b07d1c", "#3d7a99", "#b04a2c", "#5f7a38", "#7c5f8a")
"""Ochre, river, rust, moss, heather, dark enough for white paper."""
ENDINGS = (".svg", ".pdf")


def manner() -> None:
    """Set what all drawings have in common: type that stays text and is embedded, the same bytes each time."""
    import matplotlib

    matplotlib.use("Agg")
    shared: dict[Any, Any] = {
        "font.family": "DejaVu Sans",
        "font.size": 9,
        "axes.titlesize": 10,
        "hatch.linewidth": 0.5,
        "pdf.fonttype": 42,
        "svg.hashsalt": "lazy quarry",
        "svg.fonttype": "none",
    }
    matplotlib.rcParams.update(shared)


def new_figure(rows: int = 1, share_x: bool = False, width: float = 8.0, height: float = 5.0) -> tuple[Any, Any]:
    """A figure and its axes, from top to bottom. Sizes in inches, as in Matplotlib."""
    from matplotlib.figure import Figure

    manner()
    figure = Figure(figsize=(width, height), layout="constrained")
    axes = figure.subplots(rows, 1, sharex=share_x, squeeze=False)[:, 0]
    for one in axes:
        one.spines[["top", "right"]].set_visible(False)
        one.grid(axis="y", color="#e6e0d4", linewidth=0.6)
        one.set_axisbelow(True)
    return figure, axes


def save(figure: Any, path: Path) -> None:
    """Write a figure as its path ends. The same figure gives the same bytes.

    Raises :class:`QuarryError` for an ending that isn't known, or a file that can't be written.
    """
    if path.suffix.lower() not in ENDINGS:
        raise QuarryError(f"{path}: drawings are written as {' or '.join(ENDINGS)}")
    metadata = {"Date": None} if path.suffix.lower() == ".svg" else {"CreationDate": None}
    part = path.with_name(f".{path.name}.part")
    try:
        with warnings.catch_warnings():
            warnings.filterwarnings("ignore", message="Glyph")  # a sign that the font lacks is drawn as a box
            figure.savefig(part, metadata=metadata, format=path.suffix.lower()[1:])
        if path.suffix.lower() == ".svg":
            part.write_text(with_small_tiles(part.read_text(encoding="utf-8")), encoding="utf-8")
        part.replace(path)
    except OSError as fault:
        part.unlink(missing_ok=True)
        raise QuarryError(f"{path} cannot be written: {fault.strerror}") from None


_HATCHING = re.compile(
    r'(<pattern id="\w+" patternUnits="userSpaceOnUse" x="0" y="0" )width="72" height="72">\s*<rect[^>]*/>\s*<path d="([^"]*)"'
)
_TILE_PT, _EDGE_PT, _MUCH = 12, 1.0, 10_000


def with_small_tiles(svg: str) -> str:
    """Hatchings of dots and circles with one small tile, which repeats, in the place of a square inch of a thousand of them.

    Their distance divides 12 points wherever the sign is given at least twice, as it is in all our tones.
    """

    def smaller(found: re.Match[str]) -> str:
        head, outlines = found.groups()
        if len(outlines) < _MUCH:
            return found[0]
        kept = [one for one in re.findall(r"M [^M]*", outlines) if _in_tile(one)]
        return f'{head}width="{_TILE_PT}" height="{_TILE_PT}"><path d="{"".join(kept)}"'

    return _HATCHING.sub(smaller, svg)


def _in_tile(outline: str) -> bool:
    across, down = map(float, outline.split(maxsplit=3)[1:3])
    return max(across, down) <= _TILE_PT + _EDGE_PT
