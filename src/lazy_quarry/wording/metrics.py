"""The state of a site as metrics in the OpenMetrics text format (draft-ietf-opsawg-openmetrics), for whatever collects such."""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from prometheus_client import CollectorRegistry
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import generate_latest
from prometheus_client.registry import Collector

from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.views.board import Board

PREFIX = "lazy_quarry"


class SiteMetrics(Collector):
    """The metrics of a site, read anew each time."""

    def __init__(self, read: Callable[[], Board]) -> None:
        self._read = read

    def collect(self) -> Iterator[Metric]:
        """All of them."""
        board = self._read()
        yield from _of_nodes(board)
        yield from _of_jobs(board)
        yield from _of_accounts(board)

    def describe(self) -> list[Metric]:
        """Nothing is read to say which there are."""
        return []


def registry_of(read: Callable[[], Board]) -> CollectorRegistry:
    """A registry with just the metrics of a site."""
    registry = CollectorRegistry()
    registry.register(SiteMetrics(read))
    return registry


def metrics_text(board: Board) -> str:
    """The metrics of a site as text."""
    text: str = generate_latest(registry_of(lambda: board)).decode()
    return text


def _gauge(name: str, words: str, labels: tuple[str, ...], values: Mapping[Any, float], unit: str = "") -> Metric:
    family = GaugeMetricFamily(f"{PREFIX}_{name}", words, labels=labels, unit=unit)
    for key, value in values.items():
        family.add_metric(key, value)
    return family


def _count(name: str, words: str, labels: tuple[str, ...], values: Mapping[Any, float]) -> Metric:
    family = CounterMetricFamily(f"{PREFIX}_{name}", words, labels=labels)
    for key, value in values.items():
        family.add_metric(key, value)
    return family


def _of_nodes(board: Board) -> Iterator[Metric]:
    quiet = sum(node.quiet_since_ms is not None for node in board.nodes)
    closed = sum(node.shut for node in board.nodes) - quiet
    nodes = {("open",): float(len(board.nodes) - closed - quiet), ("closed",): float(closed), ("quiet",): float(quiet)}
    yield _gauge("nodes", "Nodes by whether they take jobs.", ("state",), nodes)
    strata = board.strata
    used = strata.mine + strata.accounts + strata.others
    cores = {("used",): float(used), ("closed",): float(strata.closed), ("free",): float(strata.free)}
    yield _gauge("cores", "Cores by what they are doing.", ("state",), cores)


def _of_jobs(board: Board) -> Iterator[Metric]:
    jobs, longest = Counter[tuple[str, ...]](), dict[tuple[str, ...], float]()
    for view in board.jobs:
        if view.phase.final or view.parent is not None:
            continue
        jobs[str(view.phase), view.queue] += 1
        if view.phase == "waiting":
            waited = (board.now_ms - view.submitted_ms) / 1000
            longest[view.queue,] = max(waited, longest.get((view.queue,), 0.0))
    yield _gauge("jobs", "Jobs that have not ended; an array is one.", ("state", "queue"), dict(jobs))
    yield _gauge("longest_wait", "How long the first that waits has waited.", ("queue",), longest, "seconds")


def _of_accounts(board: Board) -> Iterator[Metric]:
    lines = [line for line in board.accounts if not line.adding_up]
    charged = {(line.account,): (line.charged_core_ms + line.running_core_ms) / HOUR_MS for line in lines}
    yield _count("charged_core_hours", "Core-hours charged, with what runs.", ("account",), charged)
    budgets = {(line.account,): line.budget_core_ms / HOUR_MS for line in lines if line.budget_core_ms is not None}
    yield _gauge("budget_core_hours", "The budget of the present term.", ("account",), budgets)
    left = {(line.account,): line.left_core_ms / HOUR_MS for line in lines if line.left_core_ms is not None}
    yield _gauge("left_core_hours", "What is left of the budget.", ("account",), left)
    yield _count(
        "ended_jobs", "Jobs and tasks that ended.", ("account",), {(line.account,): float(line.jobs) for line in lines}
    )
    failed = {(line.account,): float(line.failed) for line in lines}
    yield _count("failed_jobs", "Of these, those that were not done.", ("account",), failed)
