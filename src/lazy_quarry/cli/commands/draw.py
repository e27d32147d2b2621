"""Figures from the shell: the same as ``ctrl+e`` takes along."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import click
from msgspec import Struct

from lazy_quarry.cli.options import Usage, client_of, draw_to, file_option, numbers_of, own_zone, state_option
from lazy_quarry.core.header.nearest import nearest

if TYPE_CHECKING:
    from lazy_quarry.draw.values import Figure
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.draft_view import DraftReport

FIGURES = {
    "nodes": "all nodes, by who has them",
    "hours": "the hours of a node: draw hours NODE",
    "lanes": "jobs over time; --everyone, --job N for one or an array with its tasks",
    "node-lanes": "nodes over time; draw node-lanes [NODES]",
    "placement": "the cores that a script would get: draw placement SCRIPT",
    "tasks": "the tasks of a sweep as a field: draw tasks SCRIPT, or a JOB's number",
    "chain": "a chain as a graph: draw chain FILE, or its number",
    "chain-lanes": "a chain over time: draw chain-lanes FILE, or its number",
    "usage": "cores and memory that a job used over its time: draw usage JOB",
    "distribution": "how long the tasks of an array ran: draw distribution JOB",
    "ladder": "when a script would start: draw ladder SCRIPT",
    "use": "core-hours charged over a period, by account: draw use [PERIOD]",
    "waits": "how long jobs of a period waited, by their size: draw waits [PERIOD]",
    "rhythm": "cores in use by weekday and hour: draw rhythm [PERIOD]",
    "shares": "recent use by account, and what of it still counts: draw shares",
    "waste": "what was requested and not used: draw waste [PERIOD]",
    "burn-down": "what is left of a budget, and when it ends: draw burn-down ACCOUNT",
}
"""Every figure by its name, with what it is of."""


class Asked(Struct, frozen=True):
    """A figure that is asked for, and its subject: a node, a script, a chain; a job; whose jobs; from when to when."""

    figure: str
    what: str
    job: str
    everyone: bool
    since: str
    until: str


@click.command("draw")
@click.argument("figure", metavar="FIGURE")
@click.argument("what", metavar="[NODE|NODES|SCRIPT]", required=False, default="")
@click.option("--job", default="", metavar="N", help="lanes: of this job, an array with its tasks")
@click.option("--everyone", is_flag=True, help="lanes: of all people's jobs")
@click.option("--from", "since", default="", metavar="T", help="where the time begins: 06:00, 2h ago, 2026-11-23")
@click.option("--until", default="", metavar="T", help="where it ends, or a duration after it begins")
@click.option("--ground", default="print", metavar="print|dusk|chalk", help="white paper, or the screen's colours")
@click.option("--size", default="page", metavar="page|column|slide", help="how wide")
@file_option("--svg", "write SVG to this file")
@file_option("--pdf", "write PDF to this file")
@state_option
def draw_command(
    figure: str,
    what: str,
    job: str,
    everyone: bool,
    since: str,
    until: str,
    ground: str,
    size: str,
    svg: str,
    pdf: str,
    state: str,
) -> None:
    from lazy_quarry.draw.grounds import GROUNDS, SIZES

    if figure not in FIGURES:
        raise Usage(f"draw {figure}: there are " + ", ".join(FIGURES))
    if ground not in GROUNDS or size not in SIZES:
        raise Usage(f"--ground is one of {', '.join(GROUNDS)}, --size one of {', '.join(SIZES)}")
    if (
        figure
        in ("hours", "placement", "ladder", "tasks", "chain", "chain-lanes", "usage", "distribution", "burn-down")
        and not what
    ):
        raise Usage(f"it is {FIGURES[figure]}")
    client = client_of(state)
    made = _MAKERS[figure](client, Asked(figure, what, job, everyone, since, until))
    draw_to(made, *([svg, pdf] if svg or pdf else [f"{made.name}.svg"]), ground=ground, size=size)


def _use(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.draw.figures.books_figures import over_time_figure

    board = client.board()
    return over_time_figure(
        client.over_time(asked.what or "last 30 days", "account"), board.site.name, board.now_ms, own_zone()
    )


def _of_period(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.draw.figures import reports_figures as of_reports

    board, period = client.board(), asked.what or "last 30 days"
    found = client.shares() if asked.figure == "shares" else getattr(client, asked.figure)(period)
    made: Figure = getattr(of_reports, f"{asked.figure}_figure")(found, board.site.name, board.now_ms, own_zone())
    return made


def _burn_down(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.core.ledger.left import PAST
    from lazy_quarry.draw.figures.books_figures import burn_down_figure

    board = client.board()
    line = next((line for line in board.accounts if line.account == asked.what), None)
    if line is None:
        raise Usage(
            f'there is no account "{asked.what}"{nearest(asked.what, [line.account for line in board.accounts])}'
        )
    past = client.over_time(PAST, "account", {"account": line.account})
    end = client.budget_ends().get(line.account)
    return burn_down_figure(line, past, end, board.site.name, board.now_ms, own_zone())


def _nodes(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.draw.figures.nodes_figures import nodes_figure

    return nodes_figure(client.board(), own_zone())


def _hours(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.draw.figures.nodes_figures import hours_figure

    return hours_figure(client.board(), asked.what, own_zone())


def _lanes(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.draw.figures.jobs_figures import lanes_figure, span_of

    board = client.board()
    if asked.job:
        detail = client.detail(numbers_of(client, [asked.job])[0])
        views = [detail.view, *detail.tasks]
    else:
        views = [one for one in board.jobs if one.parent is None and (asked.everyone or one.user == board.person.user)]
    begin, end = _span(asked, board.now_ms, span_of(views, board.now_ms))
    return lanes_figure(board, views, begin, end, own_zone())


def _node_lanes(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.core.units import HOUR_MS, parse_names
    from lazy_quarry.draw.figures.nodes_figures import node_lanes_figure

    board = client.board()
    known = [node.name for node in board.nodes]
    names = list(parse_names(asked.what)) if asked.what else known
    for name in names:
        if name not in known:
            raise Usage(f'there is no node "{name}" that runs jobs')
    begin, end = _span(asked, board.now_ms, (board.now_ms - 4 * HOUR_MS, board.now_ms + 8 * HOUR_MS))
    return node_lanes_figure(board, names, begin, end, own_zone())


def _placement(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.draw.figures.draft_figures import placement_figure

    return placement_figure(_report(client, asked.what), client.board().site.name, own_zone())


def _ladder(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.draw.figures.draft_figures import ladder_figure

    return ladder_figure(_report(client, asked.what), client.board().site.name, own_zone())


def _tasks(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.cli.commands.expand import expansion
    from lazy_quarry.draw.figures.sweep_figures import expansion_figure, states_of

    found, board = expansion(client, asked.what, ()), client.board()
    states = states_of(client.detail(found.job).tasks) if found.job else None
    return expansion_figure(found, board.site.name, board.now_ms, own_zone(), states)


def _chain(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.cli.commands.chain import view_of
    from lazy_quarry.draw.figures.chain_figures import chain_figure

    return chain_figure(view_of(client, asked.what), client.board().site.name, own_zone())


def _chain_lanes(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.cli.commands.chain import view_of
    from lazy_quarry.draw.figures.chain_figures import chain_lanes_figure

    return chain_lanes_figure(view_of(client, asked.what), client.board().site.name, own_zone())


def _usage(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.draw.figures.runs_figures import usage_figure

    detail, board = client.detail(numbers_of(client, [asked.what])[0]), client.board()
    samples = detail.view.curve.samples if detail.view.curve else client.samples(detail.view.job)
    return usage_figure(detail, samples, board.site.name, board.now_ms, own_zone())


def _distribution(client: "SiteClient", asked: Asked) -> "Figure":
    from lazy_quarry.draw.figures.runs_figures import distribution_figure

    board = client.board()
    detail = client.detail(numbers_of(client, [asked.what])[0])
    return distribution_figure(detail, board.site.name, board.now_ms, own_zone())


_MAKERS: dict[str, "Callable[[SiteClient, Asked], Figure]"] = {
    "nodes": _nodes,
    "hours": _hours,
    "lanes": _lanes,
    "node-lanes": _node_lanes,
    "placement": _placement,
    "ladder": _ladder,
    "use": _use,
    "burn-down": _burn_down,
    "waits": _of_period,
    "rhythm": _of_period,
    "shares": _of_period,
    "waste": _of_period,
    "usage": _usage,
    "distribution": _distribution,
    "tasks": _tasks,
    "chain": _chain,
    "chain-lanes": _chain_lanes,
}


def _span(asked: Asked, now_ms: int, otherwise: tuple[int, int]) -> tuple[int, int]:
    """The time that is asked for; what isn't said is as otherwise."""
    from lazy_quarry.core.instants import parse_since
    from lazy_quarry.core.units import parse_duration
    from lazy_quarry.errors import BadValue

    since, until = asked.since, asked.until
    try:
        begin = parse_since(since, now_ms, own_zone()) if since else otherwise[0]
    except BadValue as fault:
        raise Usage(f"--from: {fault}") from None
    if not until:
        return begin, max(otherwise[1], begin + 60_000)
    try:
        end = begin + 1000 * parse_duration(until)
    except BadValue:
        try:
            end = parse_since(until, now_ms, own_zone())
        except BadValue as fault:
            raise Usage(f"--until: {fault}; or a duration, such as 8h") from None
    if end <= begin:
        raise Usage("--until must come after --from")
    return begin, end


def _report(client: "SiteClient", path: str) -> "DraftReport":
    """Ask for the site's report on a script."""
    from lazy_quarry.cli.files import submission_of
    from lazy_quarry.errors import BadValue

    try:
        return client.check(submission_of(path))
    except BadValue as fault:
        raise Usage(f"{path}: {fault}") from None
