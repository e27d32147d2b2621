"""The figures that each place offers for taking along: words, and what makes the figure."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import tzinfo
from functools import partial
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from lazy_quarry.app.shared.axis import Axis
    from lazy_quarry.core.advice.curves import Results
    from lazy_quarry.core.advice.scaling import Scaling
    from lazy_quarry.core.job.curve import Sample
    from lazy_quarry.core.ledger.burn import BudgetEnd
    from lazy_quarry.core.ledger.report import OverTime
    from lazy_quarry.draw.values import Figure
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.board import Board
    from lazy_quarry.views.chain_views import ChainView
    from lazy_quarry.views.draft_view import DraftReport
    from lazy_quarry.views.job_detail import JobDetail
    from lazy_quarry.views.job_view import JobView

Offer = tuple[str, "Callable[[], Figure]"]
"""A figure in words, and what makes it; it may raise :class:`QuarryError`. Nothing is imported before it is made."""


def survey_figures(board: Board | None, node: str, zone: tzinfo) -> list[Offer]:
    """All nodes as they are, and the hours of one."""
    if board is None:
        return []

    def nodes() -> Figure:
        from lazy_quarry.draw.figures.nodes_figures import nodes_figure

        return nodes_figure(board, zone)

    def hours() -> Figure:
        from lazy_quarry.draw.figures.nodes_figures import hours_figure

        return hours_figure(board, node, zone)

    return [("the nodes, by who has them", nodes), *([(f"the hours of {node}", hours)] if node else [])]


def ledger_figures(
    found: OverTime | None,
    board: Board | None,
    account: tuple[str, OverTime | None, BudgetEnd | None],
    site: tuple[SiteClient | None, dict[str, str]],
    zone: tzinfo,
) -> list[Offer]:
    """Figures of a period, of what is chosen; and of the account that is open how long its budget lasts."""
    if found is None or board is None or not found.keys:
        return []

    def over_time() -> Figure:
        from lazy_quarry.draw.figures.books_figures import over_time_figure

        return over_time_figure(found, board.site.name, board.now_ms, zone)

    name, past, end = account
    line = next((line for line in board.accounts if line.account == name), None)

    def burn_down() -> Figure:
        from lazy_quarry.draw.figures.books_figures import burn_down_figure

        assert line is not None and past is not None
        return burn_down_figure(line, past, end, board.site.name, board.now_ms, zone)

    offers: list[Offer] = [(f"use by {found.split}, {found.period.name}", over_time)]
    client, where = site
    if client is not None:
        words = f"{found.period.first} to {found.period.last}"
        asked: tuple[tuple[str, str, Callable[[], object]], ...] = (
            ("waits by size", "waits", lambda: client.waits(words, where)),
            ("cores in use by weekday and hour", "rhythm", lambda: client.rhythm(words, where)),
            ("what was requested and not used", "waste", lambda: client.waste(words, where)),
            ("recent use, and what of it still counts", "shares", client.shares),
        )
        offers += [(told, partial(_of_report, name, read, board, zone)) for told, name, read in asked]
    budget = line is not None and line.left_core_ms is not None and past is not None
    return [*offers, *([(f"the budget of {name}", burn_down)] if budget else [])]


def _of_report(name: str, read: Callable[[], object], board: Board, zone: tzinfo) -> Figure:
    """A figure of a report that is read when it is made, which a worker does."""
    from lazy_quarry.draw.figures import reports_figures as of_reports

    made: Figure = getattr(of_reports, f"{name}_figure")(read(), board.site.name, board.now_ms, zone)
    return made


def draft_figures(report: DraftReport | None, board: Board | None, zone: tzinfo) -> list[Offer]:
    """Where a draft would run, and when it would start."""
    if report is None or board is None:
        return []

    def placement() -> Figure:
        from lazy_quarry.draw.figures.draft_figures import placement_figure

        return placement_figure(report, board.site.name, zone)

    def ladder() -> Figure:
        from lazy_quarry.draw.figures.draft_figures import ladder_figure

        return ladder_figure(report, board.site.name, zone)

    offers: list[Offer] = [("the cores it would get", placement)] if report.place.nodes else []
    return [*offers, *([("the start ladder", ladder)] if report.starts.ladder or report.starts.fewer else [])]


def lane_figures(board: Board | None, axis: Axis, views: Sequence[JobView], seen: slice, zone: tzinfo) -> list[Offer]:
    """Jobs over the time in sight, those in sight and all that are listed; all of them over all of their time."""
    if board is None or not views:
        return []
    begin, end = axis.begin_ms, axis.begin_ms + axis.span_ms

    def lanes(which: Sequence[JobView], whole: bool = False) -> Callable[[], Any]:
        def make() -> Figure:
            from lazy_quarry.draw.figures.jobs_figures import lanes_figure, span_of

            return lanes_figure(board, which, *(span_of(which, board.now_ms) if whole else (begin, end)), zone)

        return make

    offers: list[Offer] = [("the jobs in sight, over the time in sight", lanes(views[seen]))]
    if len(views[seen]) < len(views):
        offers.append(("all jobs that are listed, over the time in sight", lanes(views)))
    return [*offers, ("all jobs that are listed, from the first start to the last end", lanes(views, whole=True))]


def node_lane_figures(board: Board | None, axis: Axis, names: Sequence[str], seen: slice, zone: tzinfo) -> list[Offer]:
    """Nodes over the time in sight."""
    if board is None or not names:
        return []

    def lanes(which: Sequence[str]) -> Callable[[], Any]:
        def make() -> Figure:
            from lazy_quarry.draw.figures.nodes_figures import node_lanes_figure

            return node_lanes_figure(board, which, axis.begin_ms, axis.begin_ms + axis.span_ms, zone)

        return make

    offers: list[Offer] = [("the nodes in sight", lanes(names[seen]))]
    return [*offers, *([("all nodes that are listed", lanes(names))] if len(names[seen]) < len(names) else [])]


def chain_figures(view: ChainView | None, board: Board | None, zone: tzinfo) -> list[Offer]:
    """A chain as a graph and over time."""
    if view is None or board is None:
        return []

    def graph() -> Figure:
        from lazy_quarry.draw.figures.chain_figures import chain_figure

        return chain_figure(view, board.site.name, zone)

    def lanes() -> Figure:
        from lazy_quarry.draw.figures.chain_figures import chain_lanes_figure

        return chain_lanes_figure(view, board.site.name, zone)

    return [("the chain as a graph", graph), ("its jobs over time", lanes)]


def run_figures(
    detail: JobDetail | None,
    samples: Sequence[Sample],
    results: tuple[Results, str] | None,
    board: Board | None,
    zone: tzinfo,
) -> list[Offer]:
    """Offer figures of a run: its use over its time; of an array its tasks; results side by side."""
    if detail is None or board is None:
        return []

    def usage() -> Figure:
        from lazy_quarry.draw.figures.runs_figures import usage_figure

        return usage_figure(detail, samples, board.site.name, board.now_ms, zone)

    def spread() -> Figure:
        from lazy_quarry.draw.figures.runs_figures import distribution_figure

        return distribution_figure(detail, board.site.name, board.now_ms, zone)

    def side_by_side() -> Figure:
        from lazy_quarry.draw.figures.runs_figures import results_figure

        found, pattern = results or (None, "")
        return results_figure(found, pattern, board.site.name, board.now_ms, zone)

    offers: list[Offer] = [("the results as a curve", side_by_side)] if results else []
    if len(samples) > 1:
        offers.append(("what it used over its time", usage))
    if detail.told is not None and len(detail.told.took_bars) > 1:
        offers.append(("how long its tasks ran", spread))
    return offers


def scaling_offer(found: Scaling, name: str, board: Board, zone: tzinfo) -> Offer:
    """Offer the scaling of the runs that are compared."""

    def make() -> Figure:
        from lazy_quarry.draw.figures.runs_figures import scaling_figure

        return scaling_figure(found, name, board.site.name, board.now_ms, zone)

    return "speed-up and efficiency", make
