"""The command that studies a site's own past."""

from __future__ import annotations

import sys
import time
from typing import TYPE_CHECKING, Any

import click
from msgspec.structs import asdict

from lazy_quarry.cli.options import (
    Usage,
    client_of,
    draw_to,
    file_option,
    format_option,
    is_json,
    own_zone,
    print_json,
    print_lines,
    state_option,
)
from lazy_quarry.wording.forecast_words import forecast_lines
from lazy_quarry.wording.study_words import study_lines

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.study.studied import Studied
    from lazy_quarry.views.study_view import StudyView

LOOK_S = 0.2
USUAL_SAMPLE = 300


@click.command("study")
@click.option(
    "--policies",
    metavar="P,P",
    help="under which it is rehearsed: first-come,easy,planned, if not given; none beside --forecasts",
)
@click.option("--since", metavar="T", default="", help="of jobs that ended since then; the last 30 days, if not given")
@click.option(
    "--set",
    "settings",
    multiple=True,
    metavar="KEY=VALUE",
    help="what is otherwise: account.NAME.cores=+64, walltime=2x, nodes.c01=+8, …",
)
@file_option("--forecasts", "try the forecasts of jobs that waited, under the site's own policy", metavar="OUT.csv")
@click.option(
    "--sample", type=int, default=0, metavar="N", help="of so many jobs, spread over the time; 300, if not given"
)
@file_option("--svg", "draw waits and use; F.pdf for PDF")
@state_option
@format_option
@click.pass_context
def study_command(
    context: click.Context,
    policies: str | None,
    since: str,
    settings: tuple[str, ...],
    forecasts: str,
    sample: int,
    svg: str,
    state: str,
    form: str,
) -> None:
    """Rehearse the site's own past on its own nodes under other policies or limits, beside how it was."""
    from lazy_quarry.core.formats.csv_rows import csv_pieces
    from lazy_quarry.run.writable import write_pieces
    from lazy_quarry.study.forecast_groups import csv_rows

    json_too = is_json(form)
    client = client_of(state)
    if sample < 0 or (sample and not forecasts):
        raise Usage("--sample says of how many jobs --forecasts are tried")
    usual = "" if forecasts else "first-come,easy,planned"
    names = [name.strip() for name in (usual if policies is None else policies).split(",") if name.strip()]
    view = client.begin_study(names, since, list(settings), (sample or USUAL_SAMPLE) if forecasts else 0)
    try:
        view = _followed(client, view, json_too)
    except KeyboardInterrupt:
        client.stop_study()
        raise Usage("stopped; nothing of the site has changed") from None
    if view.problem:
        raise Usage(view.problem)
    if forecasts:
        write_pieces(forecasts, csv_pieces(csv_rows(view.forecasts)))
    if json_too:
        print_json(study_json(view))
    else:
        print_lines(study_lines(view))
        if forecasts and view.jobs:
            print_lines(("", *forecast_lines(view.forecasts)))
    if svg:
        from lazy_quarry.draw.figures.study_figures import study_figure

        board = client.board()
        draw_to(study_figure(view, board.site.name, board.now_ms, own_zone()), svg, err=json_too)
    if not view.jobs:
        context.exit(1)


def _followed(client: SiteClient, view: StudyView, quiet: bool) -> StudyView:
    """Wait for the end of a study; its progress is told on a terminal."""
    shows = not quiet and sys.stderr.isatty()
    while not view.over:
        time.sleep(LOOK_S)
        view = client.studied()
        if shows and view.policy:
            print(f"\r{view.policy}: {view.done:,} of {view.jobs:,} ", end="", file=sys.stderr, flush=True)
    if shows:
        print("\r" + " " * 50 + "\r", end="", file=sys.stderr, flush=True)
    return view


def study_json(view: StudyView) -> dict[str, Any]:
    """A study: what it is of, and its rows; seconds, parts of one."""
    from lazy_quarry.core.units import format_instant
    from lazy_quarry.study.forecast_groups import by_group

    return {
        "since": format_instant(view.since_ms),
        "settings": list(view.settings),
        "jobs": view.jobs,
        "rows": [_row(row, view) for row in view.rows],
        **({"forecasts": [asdict(one) for one in by_group(view.forecasts)]} if view.sample else {}),
    }


def _row(row: Studied, view: StudyView) -> dict[str, Any]:
    from lazy_quarry.study.difference import difference
    from lazy_quarry.wording.study_words import compared_with

    base = compared_with(view)
    apart = difference(row, base) if row is not base else None
    return {
        "policy": row.policy,
        "jobs": row.jobs,
        "never": row.refused,
        "wait_mean_s": row.wait_mean_s,
        "wait_median_s": row.wait_median_s,
        "wait_p95_s": row.wait_p95_s,
        "slowdown_mean": row.slowdown_mean,
        "use": row.use,
        "accounts": dict(row.accounts),
        "shares": dict(row.shares),
        "apart_mean_s": row.apart_mean_s,
        "apart_median_s": row.apart_median_s,
        "against": {
            "policy": apart.other,
            "wait_mean_s": apart.mean_s,
            "low_s": apart.low_s,
            "high_s": apart.high_s,
            "clear": apart.clear,
        }
        if apart is not None
        else None,
    }
