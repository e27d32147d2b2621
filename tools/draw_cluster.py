"""Draw the four hosts of ``make cluster``, from what they are made of: ``python tools/draw_cluster.py docs/cluster.svg``."""

import sys
from pathlib import Path

import matplotlib

matplotlib.use("svg")
matplotlib.rcParams["svg.hashsalt"] = "cluster"
matplotlib.rcParams["svg.fonttype"] = "none"
from matplotlib import pyplot  # noqa: E402
from matplotlib.patches import FancyBboxPatch  # noqa: E402

from cluster.hosts import HEAD, HEAD_ADDRESS, HOSTS, SHARED, HostKind  # noqa: E402

INK, QUIET, BOX, SHARE = "#2b2a27", "#7a756b", "#f3efe6", "#e3ead9"
WIDE, GAP = 2.5, 0.3


def facts(host: HostKind) -> list[str]:
    """What tells a host from the others, a line each."""
    count, unit = next(
        (host.up_s // size, unit)
        for size, unit in ((86_400, "days"), (3600, "hours"), (60, "minutes"))
        if host.up_s >= size
    )
    found = [
        host.share,
        f"disk {host.disk_mib} MiB",
        f"{Path(host.shell[0]).name} at login",
        f"up {count} {unit}",
    ]
    if host.greets:
        found.append("a login file prints")
    if host.devices:
        found.append("two “GPUs”: " + Path(host.devices[0]).name.rstrip("0128"))
    return found


def box(axes, x: float, y: float, wide: float, high: float, color: str, dashed: bool = False) -> None:
    """A rounded box by its lower left corner."""
    style = FancyBboxPatch(
        (x, y), wide, high, boxstyle="round,pad=0,rounding_size=0.08", facecolor=color, edgecolor=INK, linewidth=0.8
    )
    if dashed:
        style.set_linestyle((0, (4, 3)))
        style.set_facecolor("none")
        style.set_edgecolor(QUIET)
    axes.add_patch(style)


def main(path: str) -> None:
    """Write the drawing."""
    figure, axes = pyplot.subplots(figsize=(9, 4.6))
    whole = len(HOSTS) * (WIDE + GAP) + GAP
    box(axes, 0, -0.9, whole, 5.9, "none", dashed=True)
    axes.text(0.15, 4.75, "outer namespaces: with their first process all ends", color=QUIET, fontsize=9)
    middle = whole / 2
    box(axes, middle - 2, 3.75, 4, 0.75, BOX)
    axes.text(middle, 4.22, HEAD, ha="center", weight="bold", fontsize=11, color=INK)
    axes.text(middle, 3.9, f"{HEAD_ADDRESS} · the application", ha="center", fontsize=9, color=INK)
    axes.plot([GAP + WIDE / 2, whole - GAP - WIDE / 2], [3.3, 3.3], color=INK, linewidth=3, solid_capstyle="round")
    axes.text(whole - GAP - WIDE / 2, 3.4, "bridge", ha="right", fontsize=9, color=QUIET)
    axes.plot([middle, middle], [3.3, 3.75], color=INK, linewidth=1)
    for number, host in enumerate(HOSTS):
        x = GAP + number * (WIDE + GAP)
        box(axes, x, 0.7, WIDE, 2.2, BOX)
        axes.plot([x + WIDE / 2] * 2, [2.9, 3.3], color=INK, linewidth=1)
        axes.text(x + 0.15, 2.6, host.name, weight="bold", fontsize=11, color=INK)
        axes.text(x + WIDE - 0.15, 2.6, host.address, ha="right", fontsize=9, color=QUIET)
        for row, fact in enumerate(facts(host)):
            axes.text(x + 0.15, 2.27 - row * 0.3, fact, fontsize=9, color=INK)
    box(axes, GAP, -0.6, whole - 2 * GAP, 0.75, SHARE)
    axes.text(middle, -0.15, f"{SHARED}", ha="center", weight="bold", fontsize=10, color=INK)
    axes.text(
        middle,
        -0.45,
        "one folder on the head and on all hosts; all else is each one’s own",
        ha="center",
        fontsize=9,
        color=INK,
    )
    axes.set_xlim(-0.05, whole + 0.05)
    axes.set_ylim(-1, 5.1)
    axes.set_axis_off()
    figure.tight_layout(pad=0.2)
    figure.savefig(path, metadata={"Date": None})


if __name__ == "__main__":
    main(sys.argv[1])
