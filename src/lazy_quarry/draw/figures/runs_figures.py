"""Figures of runs: what one used over its time, how the tasks of an array are spread, results against their parameters."""

import math
from collections.abc import Callable, Sequence
from datetime import UTC, tzinfo

from lazy_quarry.core.advice.curves import Results
from lazy_quarry.core.advice.scaling import Scaling, amdahl
from lazy_quarry.core.units import clock_time, format_duration, format_size, plural
from lazy_quarry.draw.time_scale import source_words
from lazy_quarry.draw.values import Curve, Figure, Plot, Plots, Scale
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.wording.sentences import state_words

ROLES = ("mine", "expected", "accounts", "blocked", "waited")
_SIGNS, _DASHES = "os^Dvp*h", ("solid", "dashed", "dotted", "dashdot")


def number_scale(low: float, high: float, show: Callable[[float], str], label: str = "", most: int = 5) -> Scale:
    """A scale that begins and ends at round numbers, with a mark at each."""
    if high <= low:
        low, high = low - 0.5 * abs(low or 1), high + 0.5 * abs(high or 1)
    rough = (high - low) / most
    unit = 10.0 ** math.floor(math.log10(rough))
    step = next(unit * each for each in (1, 2, 2.5, 5, 10) if unit * each >= rough * 0.999)
    first, last = math.floor(low / step + 1e-9), math.ceil(high / step - 1e-9)
    return Scale(first * step, last * step, label, tuple((at * step, show(at * step)) for at in range(first, last + 1)))


def plain_number(value: float) -> str:
    """A number with no more figures than it needs."""
    return f"{value:.6g}"


_STEPS_S = (
    1,
    2,
    5,
    10,
    15,
    30,
    60,
    120,
    300,
    600,
    900,
    1800,
    3600,
    7200,
    10_800,
    21_600,
    43_200,
    86_400,
    172_800,
    604_800,
)


def duration_scale(seconds: float, label: str, most: int = 8) -> Scale:
    """From nothing to a duration, in seconds, with a mark at round ones."""
    step = next((one for one in _STEPS_S if seconds / one <= most), _STEPS_S[-1])
    ticks = tuple((float(at), format_duration(at)) for at in range(0, int(seconds) + 1, step))
    return Scale(0.0, max(1.0, seconds), label, ticks)


def usage_figure(
    detail: JobDetail, samples: Sequence[tuple[int, float, int]], site: str, now_ms: int, zone: tzinfo = UTC
) -> Figure:
    """Cores busy and memory over the time of a run, with what it asked for. Raises :class:`QuarryError` without samples."""
    view = detail.view
    if len(samples) < 2:
        raise QuarryError(f"{view.label} {view.name} has too few samples to draw: it was too short, or ended long ago")
    begin, end = view.started_ms or samples[0][0], view.ended_ms or now_ms
    cores, memory = max(view.cores, *(one[1] for one in samples)), max(view.memory_mib, *(one[2] for one in samples))
    plots = (
        Plot(
            number_scale(0, cores, plain_number, "cores busy"),
            (Curve(tuple(((at - begin) / 1000, busy) for at, busy, _ in samples), "mine", "area"),),
            float(view.cores),
            f"{plural(view.cores, 'core')} requested",
        ),
        Plot(
            number_scale(0, memory, format_size, "memory"),
            (Curve(tuple(((at - begin) / 1000, float(mib)) for at, _, mib in samples), "accounts", "area"),),
            float(view.memory_mib),
            f"{format_size(view.memory_mib)} requested",
        ),
    )
    return Figure(
        name=f"usage-{view.label.replace('/', '-')}",
        title=f"What {view.label} {view.name} used",
        note=state_words(view, now_ms, zone),
        panel=Plots(duration_scale((end - begin) / 1000, f"since {clock_time(begin, now_ms, zone)}"), plots),
        source=source_words(site, now_ms, zone),
    )


def distribution_figure(detail: JobDetail, site: str, now_ms: int, zone: tzinfo = UTC) -> Figure:
    """Draw the run times of an array's tasks. Raises :class:`QuarryError` where there are too few."""
    told, view = detail.told, detail.view
    ended = [task for task in detail.tasks if task.phase.final]
    if told is None or len(ended) < 2:
        raise QuarryError(f"{view.label} {view.name} has too few tasks that have ended to draw")
    took = [task.attempt_s for task in ended]
    low, high, bars = min(took), max(took), told.took_bars
    wide = (high - low) / len(bars) if high > low else 1.0
    points = tuple((low + (place + 0.5) * wide, float(count)) for place, count in enumerate(bars))
    ends = max(0.0, low - wide), high + wide
    scale = number_scale(*ends, lambda seconds: format_duration(max(0.0, seconds)), "how long a task ran")
    tallest = number_scale(0, max(bars), plain_number, "tasks")
    return Figure(
        name=f"tasks-{view.label}",
        title=f"How long the tasks of {view.name} ran",
        note=f"{plural(len(ended), 'task')} of {view.label}; {format_duration(view.walltime_s)} requested each",
        panel=Plots(scale, (Plot(tallest, (Curve(points, "mine", "bars"),)),)),
        source=source_words(site, now_ms, zone),
    )


def results_figure(results: Results | None, pattern: str, site: str, now_ms: int, zone: tzinfo = UTC) -> Figure:
    """Values that a pattern found, as curves over a parameter. Raises :class:`QuarryError` where there are too few numbers."""
    if results is None:
        raise QuarryError("there are fewer than two numbers to draw a curve of")
    xs = [x for curve in results.curves for x, _ in curve.points]
    ys = [y for curve in results.curves for _, y in curve.points]
    if results.names:
        marks = tuple((float(at), name) for at, name in enumerate(results.names))
        scale = Scale(-0.5, len(results.names) - 0.5, results.axis, marks)
    else:
        scale = number_scale(min(xs), max(xs), plain_number, results.axis, 8)
    curves = tuple(
        Curve(curve.points, ROLES[at % len(ROLES)], "marks", _SIGNS[at % len(_SIGNS)], _DASHES[at % len(_DASHES)])
        for at, curve in enumerate(results.curves)
    )
    legend = tuple(
        (f"curve-{drawn.role}-{drawn.sign}-{drawn.dashes}", curve.name)
        for drawn, curve in zip(curves, results.curves, strict=True)
        if curve.name
    )
    left_out = f"; {plural(results.left_out, 'more curve')} left out" if results.left_out else ""
    return Figure(
        name="results",
        title=f"{pattern} against {results.axis}",
        note=f"{plural(len(ys), 'value')} found in what the runs printed{left_out}",
        panel=Plots(scale, (Plot(number_scale(min(ys), max(ys), plain_number, pattern), curves),)),
        source=source_words(site, now_ms, zone),
        legend=legend,
    )


def scaling_figure(found: Scaling, name: str, site: str, now_ms: int, zone: tzinfo = UTC) -> Figure:
    """Speed-up and efficiency by cores, with the fit. Raises :class:`QuarryError` for one core count alone."""
    if len(found.points) < 2:
        raise QuarryError(f"all runs of {name} had the same number of cores; there is nothing to draw")
    cores = [float(point.cores) for point in found.points]
    most = max(*(point.speedup for point in found.points), 1.0)
    smooth = [cores[0] + (cores[-1] - cores[0]) * at / 60 for at in range(61)]
    fit = found.fit
    fitted = tuple((at, amdahl(fit.serial, at)) for at in smooth) if fit else ()
    part = tuple((at, amdahl(fit.serial, at) / at) for at in smooth) if fit else ()
    plots = (
        Plot(
            number_scale(0, max(most, min(cores[-1], 1.3 * most)), plain_number, "speed-up over one core"),
            (
                Curve(((cores[0], cores[0]), (cores[-1], cores[-1])), "past", "line", "", "dotted"),
                Curve(fitted, "expected", "line", "", "dashed"),
                Curve(
                    tuple((float(point.cores), point.speedup) for point in found.points), "mine", "marks", "o", "solid"
                ),
            ),
        ),
        Plot(
            number_scale(
                0, max(1.0, *(point.efficiency for point in found.points)), lambda value: f"{value:.0%}", "efficiency"
            ),
            (
                Curve(part, "expected", "line", "", "dashed"),
                Curve(
                    tuple((float(point.cores), point.efficiency) for point in found.points),
                    "mine",
                    "marks",
                    "o",
                    "solid",
                ),
            ),
            0.5,
        ),
    )
    scale = Scale(0.0, cores[-1] * 1.02, "cores", tuple((at, f"{at:g}") for at in cores))
    return Figure(
        name="scaling",
        title=f"How {name} scales",
        note=found.advice,
        panel=Plots(scale, plots),
        source=source_words(site, now_ms, zone),
        legend=(
            ("curve-mine-o-solid", "measured"),
            ("curve-expected--dashed", "fitted"),
            ("curve-past--dotted", "all cores at work"),
        ),
    )
