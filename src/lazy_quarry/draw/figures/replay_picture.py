"""Replayed traces as a picture: cores in use and jobs waiting over time, a colour a policy."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from lazy_quarry.core.units import format_duration
from lazy_quarry.draw.figure import COLOURS, new_figure, save
from lazy_quarry.study.replay import Replayed

POINTS = 180
"""Times that are told apart; what lies between two is drawn as its mean."""


def levels(begin: np.ndarray, end: np.ndarray, amount: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """The mean amount between each two ``edges``, when each entry has its amount from begin to end."""
    times = np.concatenate([begin, end])
    steps = np.concatenate([amount, -amount]).astype(float)
    order = np.argsort(times, kind="stable")
    times, held = times[order], np.cumsum(steps[order])
    area = np.concatenate([[0.0], np.cumsum(held[:-1] * np.diff(times))])

    def until(at: np.ndarray) -> np.ndarray:
        place = np.searchsorted(times, at, "right") - 1
        inside = np.maximum(place, 0)
        return np.where(place < 0, 0.0, area[inside] + held[inside] * (at - times[inside]))

    found: np.ndarray = np.diff(until(edges)) / np.diff(edges)
    return found


def draw_replays(replays: Sequence[Replayed], path: Path, title: str) -> None:
    """Write the picture as SVG or PDF, by the path's ending. Raises :class:`QuarryError` when it can't be written."""
    figure, (above, below) = new_figure(rows=2, share_x=True)
    for colour, one in zip(COLOURS, replays, strict=False):
        jobs = one.trace.jobs
        if not jobs:
            continue
        zero = jobs[0].submit_s
        submit = np.array([job.submit_s for job in jobs]) - zero
        start = np.array(one.starts) - zero
        end = start + np.array([job.run_s for job in jobs])
        cores = np.array([job.cores for job in jobs])
        edges = np.linspace(0.0, max(float(end.max()), 1.0), min(POINTS, 10 * len(jobs) + 2))
        days = (edges[:-1] + edges[1:]) / 2 / 86_400
        words = f"{one.policy}: {one.use:.0%} in use, waits {format_duration(one.wait_mean_s)}"
        above.plot(days, levels(start, end, cores, edges), color=colour, linewidth=1.1, label=words)
        below.plot(days, levels(submit, start, np.ones(len(jobs)), edges), color=colour, linewidth=1.1)
    if replays:
        above.axhline(replays[0].cores, color="#8b8374", linewidth=0.6, linestyle=(0, (4, 3)))
    above.set_ylabel("cores in use")
    above.set_ylim(bottom=0)
    below.set_ylabel("jobs waiting")
    below.set_yscale("symlog", linthresh=10)
    below.set_ylim(bottom=0)
    below.set_xlabel("days from the first submission")
    above.set_title(title, loc="left")
    figure.legend(loc="outside lower left", ncols=3, frameon=False, columnspacing=1.2, handlelength=1.2, fontsize=8)
    save(figure, path)
