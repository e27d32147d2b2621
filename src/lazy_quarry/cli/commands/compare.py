"""Runs side by side: what each came to, a value from each output, and what differed."""

import sys
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import click

from lazy_quarry.cli.options import (
    Usage,
    client_of,
    draw_to,
    file_option,
    jobs_argument,
    numbers_of,
    own_zone,
    print_json,
    print_lines,
    state_option,
)
from lazy_quarry.core.advice.curves import result_curves
from lazy_quarry.core.advice.found_value import ValuePattern
from lazy_quarry.core.formats.csv_rows import csv_text
from lazy_quarry.core.plain_text import values_words
from lazy_quarry.core.units import format_duration, format_size
from lazy_quarry.site.run_comparison import Difference, ResultRow, differences, points_of, result_rows, runs_of

MOST_DIFFERENT = 8
"""Number of runs that are looked at for what differed between them."""


@click.command("compare")
@jobs_argument
@click.option(
    "--find", metavar="REGEX", default="", help="a value in what each run printed: the group, or the number behind it"
)
@click.option("--errors", is_flag=True, help="look for it in standard error")
@click.option("--differences", "differing", is_flag=True, help="only what was not the same in the runs")
@file_option("--csv", "write the rows as CSV to this file", "csv_file")
@file_option("--svg", "write the curve of the values as SVG to this file")
@file_option("--pdf", "write the curve of the values as PDF to this file")
@state_option
@click.option("--format", "form", metavar="table|json|csv", default="table", help="for people, or for programs")
def compare_command(
    jobs: tuple[str, ...],
    find: str,
    errors: bool,
    differing: bool,
    csv_file: str,
    svg: str,
    pdf: str,
    state: str,
    form: str,
) -> None:
    if form not in ("table", "text", "json", "csv"):
        raise Usage(f'--format {form}: there are "table", "json" and "csv"')
    if (svg or pdf) and not find:
        raise Usage("--svg and --pdf draw the values that --find finds; give a pattern")
    pattern = ValuePattern(find) if find else None
    client = client_of(state)
    views = runs_of(client, numbers_of(client, jobs))
    if differing and not 2 <= len(views) <= MOST_DIFFERENT:
        raise Usage(f"--differences compares 2 to {MOST_DIFFERENT} runs; these are {len(views)}")
    rows = [] if differing else list(result_rows(client, views, pattern, "errors" if errors else "output"))
    alone = 1 < len(views) <= MOST_DIFFERENT and not any(view.parent for view in views)
    found: list[Difference] = []
    if differing or (alone and form in ("table", "text")):
        found = differences([client.detail(view.job) for view in views], int(time.time() * 1000))
    if form == "json":
        print_json([difference_json(one) for one in found] if differing else [row_json(row) for row in rows])
    elif form == "csv":
        sys.stdout.write(rows_csv(rows))
    else:
        if rows:
            print_lines(rows_table(rows, find))
        if found or differing or alone:
            print_lines([*([""] if rows else []), *difference_lines(found, [view.label for view in views])])
    if csv_file:
        from lazy_quarry.cli.files import write_text

        write_text(Path(csv_file), rows_csv(rows))
    if svg or pdf:
        from lazy_quarry.draw.figures.runs_figures import results_figure

        now_ms, site = int(time.time() * 1000), client.board().site.name
        figure = results_figure(result_curves(points_of(rows)), find, site, now_ms, own_zone())
        draw_to(figure, svg, pdf, err=form in ("json", "csv"))


def row_json(row: ResultRow) -> dict[str, Any]:
    """A row; ``value`` is a number where it is one, else the text, or null. ``error`` is the last line that tells of one."""
    view = row.view
    return {
        "job": view.parent or view.job,
        "task": view.task,
        "name": view.name,
        "parameters": dict(view.parameters),
        "state": view.phase.value,
        "seconds": view.attempt_s,
        "cpu_s": round(view.use.cpu_ms / 1000, 3),
        "memory_peak_mib": view.memory_peak_mib,
        "cores": view.cores,
        "value": row.number if row.number is not None else row.value,
        "error": row.wrong or None,
    }


def difference_json(one: Difference) -> dict[str, Any]:
    """Something that differed, as it was in each run."""
    return {"what": one.what, "values": list(one.values), **({"lines": list(one.lines)} if one.lines else {})}


def rows_csv(rows: Sequence[ResultRow]) -> str:
    """Rows as CSV: a column for each parameter."""
    names = list(dict.fromkeys(name for row in rows for name, _ in row.view.parameters))
    plain = ("state", "seconds", "cpu_s", "memory_peak_mib", "cores", "value", "error")
    lines: list[list[object]] = [["job", "task", "name", *names, *plain]]
    for row in rows:
        told, values = row_json(row), dict(row.view.parameters)
        own = [values.get(name, "") for name in names]
        lines.append([told["job"], told["task"], told["name"], *own, *(told[name] for name in plain)])
    return csv_text(lines)


def rows_table(rows: Sequence[ResultRow], find: str) -> Iterator[str]:
    """Rows for people."""
    head = ["job", "parameters", "state", "ran", "CPU", "memory", *([find] if find else []), "error"]
    lines = [head]
    for row in rows:
        view = row.view
        used = (
            format_duration(view.attempt_s),
            format_duration(view.use.cpu_ms / 1000),
            format_size(view.memory_peak_mib),
        )
        value = [row.value if row.value is not None else "–"] if find else []
        words = values_words(view.parameters) or view.name
        lines.append([view.label, words, f"{view.phase.sign} {view.phase}", *used, *value, row.wrong[:60]])
    yield from _aligned(lines, 200)


def difference_lines(found: Sequence[Difference], labels: Sequence[str]) -> Iterator[str]:
    """Lines about what differed, for people."""
    if not found:
        yield "nothing that is kept of them differs"
        return
    yield from _aligned([["differs", *labels], *([one.what, *one.values] for one in found)], 48)
    for one in found:
        yield from (f"    {line}" for line in one.lines)


def _aligned(rows: Sequence[Sequence[str]], most: int) -> Iterator[str]:
    cells = [[cell if len(cell) <= most else f"{cell[: most - 1]}…" for cell in row] for row in rows]
    widths = [max(len(row[at]) for row in cells) for at in range(len(cells[0]))]
    for row in cells:
        yield "  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip()
