"""What all drawings share: size, colours, type, and how they are written."""

from pathlib import Path
from typing import Any

from lazy_quarry.errors import QuarryError

COLOURS = ("#b07d1c", "#3d7a99", "#b04a2c", "#5f7a38", "#7c5f8a")
"""Ochre, river, rust, moss, heather, dark enough for white paper."""
ENDINGS = (".svg", ".pdf")


def new_figure(rows: int = 1, share_x: bool = False, width: float = 8.0, height: float = 5.0) -> tuple[Any, Any]:
    """A figure and its axes, from top to bottom. Sizes in inches, as in Matplotlib."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure

    manner: dict[Any, Any] = {
        "font.size": 9,
        "svg.hashsalt": "lazy quarry",
        "svg.fonttype": "none",
        "axes.titlesize": 10,
    }
    matplotlib.rcParams.update(manner)
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
    try:
        figure.savefig(path, metadata=metadata)
    except OSError as fault:
        raise QuarryError(f"{path} cannot be written: {fault.strerror}") from None
