"""What a job asks for, and what that means for nodes: how its ranks are dealt out, what each node must give.

A shape is nodes × ranks × threads. Ranks go onto a given number of nodes as evenly as can be, so counts
differ by one at most and the fuller nodes come first.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from math import ceil
from typing import Literal

from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.site import Node, Queue, Site
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import fold_names, format_size, plural
from lazy_quarry.errors import Refused


@dataclass(frozen=True, slots=True)
class Memory:
    """An amount and what it is counted by."""

    mib: int
    per: Literal["core", "rank", "node", "job"] = "core"


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """How a job behaves on the in-memory cluster; None is left to the model. Runtime in seconds, from..to."""

    runtime_s: tuple[int, int] | None = None
    memory_mib: int | None = None
    busy: float | None = None
    exit: int | None = None


@dataclass(frozen=True, slots=True)
class Stage:
    """What is copied into the job's scratch folder before, and back after; paths from where it starts."""

    into: tuple[str, ...] = ()
    out: tuple[str, ...] = ()
    keep: bool = False


@dataclass(frozen=True, slots=True)
class Request:
    """A request with every default filled in. Durations in seconds, sizes in MiB, instants in ms."""

    name: str
    account: str
    queues: tuple[str, ...]
    tier: str
    walltime_s: int
    memory: Memory
    nodes: int | None = None
    ranks: int = 1
    threads: int = 1
    whole_nodes: bool = False
    most_nodes: int | None = None
    """With ``nodes``, a range: as many of these as start soonest."""
    anywhere: bool = False
    """Ranks wherever there is room, unevenly too."""
    ranks_per_node: int | None = None
    """Ranks on each node, where their number follows from that of the nodes."""
    gpus: int = 0
    gpu_memory_mib: int = 0
    scratch_mib: int = 0
    traits: str = ""
    on_nodes: tuple[str, ...] = ()
    warn_s: int | None = None
    grace_s: int = 30
    not_before_ms: int | None = None
    failure_retries: int = 0
    lost_retries: int = 1
    arguments: tuple[str, ...] = ()
    prepare: tuple[str, ...] = ()
    directory: str = ""
    output: str = "{name}-{job}.out"
    errors: str = "joined"
    input: str = ""
    environment: tuple[tuple[str, str], ...] = ()
    inherit: bool = False
    modules: tuple[str, ...] = ()
    expect: tuple[str, ...] = ()
    summary: bool = False
    stage: Stage = Stage()
    readable_by: str = ""
    again_at_overtime: bool = False
    after: tuple[tuple[str, str], ...] = ()
    """Jobs, by number or name, and the condition of each: it waits until all are met."""
    array: Array | None = None
    task: int | None = None
    parameters: tuple[tuple[str, str], ...] = ()
    """Of one task of an array: its number, and its parameters by name."""
    rehearsal: Rehearsal = Rehearsal()


@dataclass(frozen=True, slots=True)
class Part:
    """So many nodes of a job that each must give the same."""

    nodes: int
    ranks: int
    cores: int
    memory_mib: int


@dataclass(frozen=True, slots=True)
class Need:
    """A request put to one queue: the nodes that could serve it and what each of the chosen must give.

    ``parts`` has one entry, or two where ranks don't divide evenly, the fuller first. With ``whole``
    a chosen node gives all it has. With ``anywhere`` ranks are put wherever there is room: then the parts
    are the choices for a node, with one rank, two ranks, and so on.
    """

    queue: str
    eligible: tuple[str, ...]
    parts: tuple[Part, ...]
    gpus: int
    scratch_mib: int
    whole: bool
    anywhere: int = 0

    @property
    def node_count(self) -> int:
        """Nodes of the job; with ``anywhere`` the fewest that would do."""
        if self.anywhere:
            return -(-self.anywhere // len(self.parts))
        return sum(part.nodes for part in self.parts)

    @property
    def ranks(self) -> int:
        """Ranks of the job."""
        return self.anywhere or sum(part.nodes * part.ranks for part in self.parts)

    @property
    def memory_mib(self) -> int:
        """Memory of the job."""
        if self.anywhere:
            return self.parts[0].memory_mib * self.anywhere
        return sum(part.nodes * part.memory_mib for part in self.parts)

    @property
    def cores(self) -> int:
        """Cores asked for; with ``whole`` more may be held."""
        if self.anywhere:
            return self.anywhere * self.parts[0].cores
        return sum(part.nodes * part.cores for part in self.parts)


def task_request(request: Request, index: int) -> Request:
    """What one task of an array asks for, a job of its own; ``index`` counts from 0."""
    array = request.array
    if array is None:
        raise ValueError("no array")
    there = (array.nodes[index],) if array.nodes else request.on_nodes
    parameters = tuple(array.values(index).items())
    return replace(request, array=None, task=array.number(index), parameters=parameters, on_nodes=there)


def deal(ranks: int, nodes: int) -> list[tuple[int, int]]:
    """``(nodes, ranks on each)``, fuller first: 10 ranks on 4 nodes are [(2, 3), (2, 2)]."""
    each, fuller = divmod(ranks, nodes)
    return [(count, per) for count, per in ((fuller, each + 1), (nodes - fuller, each)) if count]


def memory_on_node(memory: Memory, ranks_here: int, ranks: int, threads: int) -> int:
    """MiB that a node with ``ranks_here`` of the job's ranks must give; a job's total is shared by rank."""
    match memory.per:
        case "core":
            return memory.mib * ranks_here * threads
        case "rank":
            return memory.mib * ranks_here
        case "node":
            return memory.mib
    return ceil(memory.mib * ranks_here / ranks)


def ranks_on(request: Request, nodes: int) -> int:
    """Ranks in all when the job has so many nodes."""
    return nodes * request.ranks_per_node if request.ranks_per_node else request.ranks


def parts_on(request: Request, nodes: int) -> tuple[Part, ...]:
    """What each node gives when the ranks are dealt onto ``nodes`` of them."""
    ranks = ranks_on(request, nodes)
    return tuple(
        Part(count, each, each * request.threads, memory_on_node(request.memory, each, ranks, request.threads))
        for count, each in deal(ranks, nodes)
    )


def eligible_nodes(request: Request, queue: Queue, site: Site) -> list[Node]:
    """Nodes of the queue that the request's traits and ``on-nodes`` leave, in the site's order."""
    wanted = parse_traits(request.traits) if request.traits else None
    names = set(request.on_nodes)
    members = (site.node[name] for name in queue.nodes)
    return [
        node
        for node in members
        if node.runs_jobs
        and (not names or node.name in names)
        and (not wanted or wanted.met_by(set(node.traits)))
        and node.gpu_memory_mib >= request.gpu_memory_mib
    ]


def _hosts(node: Node, part: Part, request: Request) -> bool:
    return (
        node.cores >= part.cores
        and node.memory_mib >= part.memory_mib
        and node.gpus >= request.gpus
        and node.scratch_mib >= request.scratch_mib
    )


def _fits(parts: Sequence[Part], nodes: Sequence[Node], request: Request) -> bool:
    needed = 0
    for part in parts:  # fuller first, so each later part may also use what is left of the earlier one's hosts
        needed += part.nodes
        if sum(_hosts(node, part, request) for node in nodes) < needed:
            return False
    return True


def needs(request: Request, queue: Queue, site: Site) -> Need:
    """What the request asks of a queue's nodes; of a range of nodes, its fewest.

    Raises :class:`Refused` with the reason and the nearest possible request when even an idle queue
    could never serve it.
    """
    return choices(request, queue, site)[0]


def choices(request: Request, queue: Queue, site: Site) -> list[Need]:
    """All that a queue's nodes may be asked for: one need, or one for each number of nodes of a range.

    Raises :class:`Refused` as :func:`needs` does.
    """
    nodes = eligible_nodes(request, queue, site)
    if not nodes:
        raise Refused(_no_node(request, queue, site))
    if request.anywhere:
        need = _wherever(request, queue, nodes)
        found = [need] if need else []
    elif request.nodes is not None:
        counts = range(request.nodes, min(request.most_nodes or request.nodes, len(nodes)) + 1)
        found = [need for count in counts if (need := _dealt(request, queue, nodes, count))]
    else:
        widest = max(node.cores for node in nodes)
        fewest = max(1, -(-request.ranks * request.threads // widest))
        most = range(fewest, min(request.ranks, len(nodes)) + 1)
        found = next(([need] for count in most if (need := _dealt(request, queue, nodes, count))), [])
    if not found:
        raise Refused(_impossible(request, queue, nodes))
    return found


def _dealt(request: Request, queue: Queue, nodes: Sequence[Node], count: int) -> Need | None:
    if ranks_on(request, count) < count:
        return None
    parts = parts_on(request, count)
    if not _fits(parts, nodes, request):
        return None
    eligible = tuple(node.name for node in nodes if _hosts(node, parts[-1], request))
    return Need(queue.name, eligible, parts, request.gpus, request.scratch_mib, request.whole_nodes)


def _wherever(request: Request, queue: Queue, nodes: Sequence[Node]) -> Need | None:
    parts: list[Part] = []
    eligible: list[Node] = []
    hosted = 0
    for each in range(1, request.ranks + 1):
        memory = memory_on_node(request.memory, each, request.ranks, request.threads)
        part = Part(0, each, each * request.threads, memory)
        hosts = [node for node in nodes if _hosts(node, part, request)]
        if not hosts:
            break
        eligible = eligible or hosts
        hosted += len(hosts)
        parts.append(part)
    if hosted < request.ranks:
        return None
    names = tuple(node.name for node in eligible)
    return Need(queue.name, names, tuple(parts), request.gpus, request.scratch_mib, request.whole_nodes, request.ranks)


def _most_ranks(request: Request, nodes: Sequence[Node]) -> tuple[int, int]:
    """The most ranks that cores allow when they are dealt evenly, and on how many nodes."""
    room = sorted((node.cores // request.threads for node in nodes), reverse=True)
    if request.anywhere:
        return sum(room), len(room)
    counts = [request.nodes] if request.nodes else range(1, len(room) + 1)
    best = (0, 1)
    for count in counts:
        each = room[count - 1]
        fuller = sum(one > each for one in room[:count])
        best = max(best, (each * count + fuller, count))
    return best


def _no_node(request: Request, queue: Queue, site: Site) -> str:
    if request.on_nodes:
        return (
            f"none of the nodes {fold_names(request.on_nodes)} is in queue {queue.name}"
            f"{' with these traits' if request.traits else ''}; it has {fold_names(queue.nodes)}"
        )
    if request.gpu_memory_mib:
        most = max((site.node[name].gpu_memory_mib for name in queue.nodes), default=0)
        if most < request.gpu_memory_mib:
            has = f"the most is {format_size(most)}" if most else "its nodes have no GPUs"
            return f"gpu-memory of {format_size(request.gpu_memory_mib)} is more than any GPU of queue {queue.name} has; {has}"
    if request.traits:
        have = sorted({trait for name in queue.nodes for trait in site.node[name].traits})
        known = ", ".join(have) if have else "no traits"
        return f'no node of queue {queue.name} meets traits "{request.traits}"; its nodes have {known}'
    return f"queue {queue.name} has no node that runs jobs"


def _impossible(request: Request, queue: Queue, nodes: Sequence[Node]) -> str:
    """One sentence on why no idle queue would do, the nearest possible request last."""
    where = f"queue {queue.name}"
    if request.nodes is not None and request.nodes > len(nodes):
        return (
            f"nodes = {request.nodes} is more than the {plural(len(nodes), 'node')} of {where} that may serve it; "
            f"the most is nodes = {len(nodes)}"
        )
    gpus = max(node.gpus for node in nodes)
    if request.gpus > gpus:
        nearest = f"the most is gpus = {gpus}" if gpus else "ask for another queue"
        return f"gpus = {request.gpus} for each node is more than any node of {where} has; {nearest}"
    scratch = max(node.scratch_mib for node in nodes)
    if request.scratch_mib > scratch:
        return (
            f"scratch of {format_size(request.scratch_mib)} is more than any node of {where} has; "
            f"the most is {format_size(scratch)}"
        )
    widest = max(node.cores for node in nodes)
    if request.threads > widest:
        return f"threads = {request.threads} is more than any node of {where} has cores; the most is threads = {widest}"
    most, on_nodes = _most_ranks(request, nodes)
    if request.ranks > most:
        where += f" on {plural(on_nodes, 'node')}" if request.nodes else ""
        return (
            f"{plural(request.ranks, 'rank')} of {plural(request.threads, 'thread')} are more than {where} can hold; "
            f"the most is ranks = {most}"
        )
    count = request.nodes or min(len(nodes), request.ranks)
    part = parts_on(request, count)[0]
    roomy = [node for node in nodes if node.cores >= part.cores]
    memory = max((node.memory_mib for node in roomy), default=0)
    if part.memory_mib > memory:
        return (
            f"memory comes to {format_size(part.memory_mib)} on one node, and the largest of {where} has "
            f"{format_size(memory)}; ask for less memory, or for more nodes with fewer ranks on each"
        )
    return (
        f"{where} has not {plural(count, 'node')} that could each give {plural(part.cores, 'core')} and "
        f"{format_size(part.memory_mib)}; ask for fewer ranks or less memory on each"
    )
