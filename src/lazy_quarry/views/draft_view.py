"""A site's report on a draft, as values."""

from msgspec import Struct

from lazy_quarry.core.header.diagnostic import Diagnostic
from lazy_quarry.views.job_view import StartRange


class PlacedNode(Struct, frozen=True):
    """A node of a draft's placement: its size, the cores that others have, and the ranks that would land there."""

    node: str
    cores: int
    taken: tuple[int, ...]
    own: tuple[int, ...]
    ranks: int


class Rung(Struct, frozen=True):
    """A request on the start ladder, with the start it would get, or the reason why not.

    It differs from the request as written in its walltime or, with ``nodes``, in its number of nodes.
    """

    walltime_s: int
    start_ms: int | None
    asked: bool
    refused: str = ""
    nodes: int = 0
    ranks: int = 0


class FinishRung(Struct, frozen=True):
    """When all tasks of an array would have ended with so many at once; None: as many as fit.

    ``estimated``: the rest was estimated at the pace of the first.
    """

    at_once: int | None
    asked: bool
    first_ms: int | None
    last_ms: int | None
    estimated: bool = False


class TraitRung(Struct, frozen=True):
    """A trait, and what would match with it beside those chosen: nodes, their cores, and those free now."""

    name: str
    chosen: bool
    nodes: int
    cores: int
    free: int


class DraftShape(Struct, frozen=True, kw_only=True):
    """The shape of the request where it would be placed; of one task, where it is an array."""

    nodes: int = 0
    ranks: int = 0
    threads: int = 0
    cores: int = 0
    gpus: int = 0
    memory_mib: int = 0
    walltime_s: int = 0
    grace_s: int = 0
    whole_nodes: bool = False
    tasks: int = 0
    """Number of tasks, or 0 for a single job."""


class DraftPlacement(Struct, frozen=True, kw_only=True):
    """Where it would run: the queue, the start, and the first 64 of ``node_count`` nodes."""

    queue: str = ""
    start_ms: int | None = None
    nodes: tuple[PlacedNode, ...] = ()
    node_count: int = 0
    obstacle: str = ""
    """Why it could not start even where there is room for it: a budget, or cores that others have."""


class DraftStarts(Struct, frozen=True):
    """When it would start with other walltimes or fewer nodes, and when an array would have ended."""

    ladder: tuple[Rung, ...] = ()
    fewer: tuple[Rung, ...] = ()
    finish: tuple[FinishRung, ...] = ()


class DraftCost(Struct, frozen=True):
    """The most that it is charged, and the rest of the account's budget; None without one."""

    account: str = ""
    most_core_ms: int = 0
    left_core_ms: int | None = None
    counts: int = 0
    """For how many thousandths of a core a task counts at most."""
    factor_permille: int = 1000
    """The tier's factor."""


class DraftTraits(Struct, frozen=True):
    """The traits of the queues' nodes, and how many nodes match those requested."""

    each: tuple[TraitRung, ...] = ()
    matching_nodes: int = 0


class DraftReport(Struct, frozen=True, kw_only=True):
    """The site's report on a draft: problems, and what it would get if it were submitted now."""

    diagnostics: tuple[Diagnostic, ...]
    now_ms: int
    name: str = ""
    instead: tuple[str, ...] = ()
    """The request that could run, where this one never can; all below is said of that."""
    shape: DraftShape = DraftShape()
    place: DraftPlacement = DraftPlacement()
    starts: DraftStarts = DraftStarts()
    cost: DraftCost = DraftCost()
    traits: DraftTraits = DraftTraits()
    range: StartRange | None = None
    """When it starts 8 times in 10; None where that isn't known, or it starts now."""
    earlier: tuple[int, int, int] = (0, 0, 0)
    """Number of runs of this name that were done, and the seconds of the shortest and the longest."""
    trial: str = ""
    """The tier in which it can be tried, or empty."""

    @property
    def refused(self) -> bool:
        """True when something must change before it can be submitted."""
        return any(one.severity == "error" for one in self.diagnostics)
