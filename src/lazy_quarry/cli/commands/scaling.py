"""Scaling of runs: speed-up and efficiency by cores, time by a parameter."""

import time
from collections.abc import Iterator, Sequence
from typing import Any

import click

from lazy_quarry.cli.options import (
    Usage,
    client_of,
    draw_to,
    file_option,
    format_option,
    is_json,
    numbers_of,
    own_zone,
    print_json,
    print_lines,
    say,
    state_option,
)
from lazy_quarry.cli.output.finding import found_by
from lazy_quarry.core.advice.found_value import number_in
from lazy_quarry.core.advice.growth_law import GrowthLaw, growth_law
from lazy_quarry.core.advice.next_time import round_time
from lazy_quarry.core.advice.scaling import Scaling, scaling
from lazy_quarry.core.units import exact_duration, format_duration, plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.site.run_comparison import runs_of
from lazy_quarry.views.job_view import JobView

MOST = 1000


@click.command("scaling")
@click.argument("jobs", metavar="[JOB...]", nargs=-1)
@click.option("--name", metavar="NAME", default="", help="all runs of a name that were done, in place of jobs")
@click.option("--by", metavar="PARAMETER", default="", help="how the time grows with a parameter, in place of cores")
@click.option("--for", "ahead", metavar="VALUE", default="", help="with --by: the walltime for this value")
@file_option("--svg", "write speed-up and efficiency as SVG to this file")
@file_option("--pdf", "write them as PDF to this file")
@state_option
@format_option
def scaling_command(
    jobs: tuple[str, ...], name: str, by: str, ahead: str, svg: str, pdf: str, state: str, form: str
) -> None:
    json_too = is_json(form)
    if bool(jobs) == bool(name):
        raise Usage("give jobs, or --name for all runs of a name")
    if ahead and (not by or number_in(ahead) is None):
        raise Usage("--for goes with --by, and is a number")
    client = client_of(state)
    if name:
        wanted = f'name:"{name}" state:done'
        views = found_by(client, wanted, True, False, "", MOST)
        views += found_by(client, f"{wanted} task:any", True, False, "", MOST)
    else:
        views = runs_of(client, numbers_of(client, jobs))
    done = [view for view in views if view.phase == "done" and not view.rows and view.attempt_s > 0]
    if name and done:
        newest = max(done, key=lambda view: view.ended_ms or 0)
        alike = {newest.job, *client.like(newest.job)}
        left_out = [view for view in done if view.job not in alike]
        done = [view for view in done if view.job in alike]
        if left_out:
            say(
                f"lazy-quarry: {plural(len(left_out), 'run')} of that name left out: other commands, in other places; "
                f"name jobs to compare them all the same",
                err=True,
            )
    if not done:
        raise QuarryError(
            "none of these runs was done after at least a second, so there is nothing to tell of their time"
        )
    if by:
        _tell_growth(done, by, number_in(ahead) if ahead else None, json_too)
        return
    found = scaling([(view.cores, float(view.attempt_s)) for view in done])
    assert found is not None
    if json_too:
        print_json(scaling_json(found))
    else:
        print_lines(scaling_lines(found))
    if svg or pdf:
        from lazy_quarry.draw.figures.runs_figures import scaling_figure

        now_ms, site = int(time.time() * 1000), client.board().site.name
        draw_to(scaling_figure(found, name or done[0].name, site, now_ms, own_zone()), svg, pdf, err=json_too)


def scaling_json(found: Scaling) -> dict[str, Any]:
    """Points, the fit (Amdahl's law: the serial part with its range of 8 in 10, the seconds of one core) or null, advice."""
    fit = found.fit
    return {
        "points": [
            {
                "cores": point.cores,
                "seconds": point.seconds,
                "speedup": round(point.speedup, 4),
                "efficiency": round(point.efficiency, 4),
                "runs": point.runs,
            }
            for point in found.points
        ],
        "fit": {
            "law": "amdahl",
            "serial": round(fit.serial, 6),
            "low": round(fit.serial_low, 6),
            "high": round(fit.serial_high, 6),
            "one_core_s": round(fit.one_core_s, 3),
        }
        if fit
        else None,
        "half_at": found.half_at,
        "half_at_low": found.half_range[0],
        "half_at_high": found.half_range[1],
        "pulls": [{"cores": pull.cores, "times": round(pull.times, 3)} for pull in found.pulls],
        "few": found.few,
        "advice": found.advice,
    }


def scaling_lines(found: Scaling) -> Iterator[str]:
    """For people."""
    yield f"{'cores':>6}  {'took':>9}  {'speed-up':>8}  {'efficiency':>10}  runs"
    for point in found.points:
        took = format_duration(point.seconds)
        yield f"{point.cores:>6}  {took:>9}  {point.speedup:>8.2f}  {point.efficiency:>10.0%}  {point.runs}"
    yield found.advice


def _tell_growth(done: Sequence[JobView], by: str, ahead: float | None, json_too: bool) -> None:
    pairs = [(number_in(dict(view.parameters).get(by)), float(view.attempt_s)) for view in done]
    runs = [(size, seconds) for size, seconds in pairs if size is not None and size > 0]
    law = growth_law(runs)
    if law is None:
        raise QuarryError(
            f"{plural(len(runs), 'run')} with a number as {by} are too few; three of two values or more tell something"
        )
    sizes = [ahead] if ahead is not None else []
    if json_too:
        print_json(growth_json(law, by, sizes))
        return
    print_lines(growth_lines(law, by, sizes))


def growth_lines(law: GrowthLaw, by: str, sizes: Sequence[float]) -> Iterator[str]:
    """For people."""
    between = f"8 times in 10 between {law.power_low:.2f} and {law.power_high:.2f}"
    grows = f"about as {by} to the power of {law.power:.2f} ({between}), from {plural(law.runs, 'run')}"
    if law.has_set_up:
        yield f"about {format_duration(law.set_up_s, 1)} do not grow with {by}; the rest grows {grows}"
    else:
        yield f"seconds grow {grows}"
    for size in sizes:
        low, middle, high = law.at(size)
        ask = exact_duration(round_time(1.1 * high))
        told = (
            f"about {format_duration(middle, 1)}, 8 times in 10 {format_duration(low, 1)} to {format_duration(high, 1)}"
        )
        yield f"for {by}={size:g}: {told}; ask for {ask}"
        if size > law.largest:
            yield f"  that is beyond {by}={law.largest:g}, the largest that ran: the range holds as far as the law goes on"


def growth_json(law: GrowthLaw, by: str, sizes: Sequence[float]) -> dict[str, Any]:
    """The law, and for each size the middle with the range of 8 in 10, in seconds; whether that is beyond all that ran."""
    ahead = []
    for size in sizes:
        low, middle, high = law.at(size)
        ahead.append(
            {
                "value": size,
                "low_s": round(low, 1),
                "seconds": round(middle, 1),
                "high_s": round(high, 1),
                "beyond": size > law.largest,
            }
        )
    fit = {
        "law": "set-up and power" if law.has_set_up else "power",
        "power": round(law.power, 4),
        "power_low": round(law.power_low, 4),
        "power_high": round(law.power_high, 4),
        "set_up_s": round(law.set_up_s, 1) if law.has_set_up else 0.0,
        "factor": law.factor,
        "runs": law.runs,
    }
    return {"parameter": by, "fit": fit, "for": ahead}
