"""What all drawings share: size, colours, type, and how they are written."""

import warnings
from pathlib import Path
from typing import Any

from lazy_quarry.errors import QuarryError

COLOURS = ("#b07d1c", "#3d7a99", "#b04a2c", "#5f7a38", "#7c5f8a")
"""Ochre, river, rust, moss, heather, dark enough for white paper."""
ENDINGS = (".svg", ".pdf")


def manner() -> None:
    """What all drawings have in common: type that stays text and is embedded, the same bytes each time."""
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
        part.replace(path)
    except OSError as fault:
        part.unlink(missing_ok=True)
        raise QuarryError(f"{path} cannot be written: {fault.strerror}") from None
