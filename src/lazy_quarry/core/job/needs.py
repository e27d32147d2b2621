"""The needs of a request from nodes: the spread of its ranks, and the free amounts on each node.

A shape is nodes × ranks × threads. Ranks go onto a given number of nodes as evenly as possible, so counts
differ by one at most and the fuller nodes come first.
"""

from collections import Counter
from collections.abc import Sequence
from math import ceil

from msgspec import Struct

from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.site import Node, Queue, Site
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import fold_names, format_size, plural
from lazy_quarry.core.values import replace
from lazy_quarry.errors import Impossible


class NodeShare(Struct, frozen=True):
    """A number of nodes of a job that each give the same amount."""

    nodes: int
    ranks: int
    cores: int
    memory_mib: int


class Need(Struct, frozen=True):
    """A request put to one queue: the nodes that could serve it and what each of the chosen must give.

    ``parts`` has one entry, or two where ranks don't divide evenly, the fuller first. With ``whole``
    a chosen node gives all it has. With ``anywhere`` ranks are put wherever there is room: then the parts
    are the choices for a node, with one rank, two ranks, and so on.
    """

    queue: str
    eligible: tuple[str, ...]
    parts: tuple[NodeShare, ...]
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
    """The total of ranks when the job has so many nodes."""
    return nodes * request.ranks_per_node if request.ranks_per_node else request.ranks


def parts_on(request: Request, nodes: int) -> tuple[NodeShare, ...]:
    """Amounts that each node gives when the ranks are spread over ``nodes`` of them."""
    ranks = ranks_on(request, nodes)
    return tuple(
        NodeShare(count, each, each * request.threads, memory_on_node(request.memory, each, ranks, request.threads))
        for count, each in deal(ranks, nodes)
    )


def eligible_nodes(request: Request, queue: Queue, site: Site) -> list[Node]:
    """Nodes of the queue that match the request's traits and ``on-nodes``, in the site's order."""
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


def _hosts(node: Node, part: NodeShare, request: Request) -> bool:
    return (
        node.cores >= part.cores
        and node.memory_mib >= part.memory_mib
        and node.gpus >= request.gpus
        and node.scratch_mib >= request.scratch_mib
    )


class _Nodes:
    """Eligible nodes, with how many there are of each shape: of a thousand nodes most are alike."""

    def __init__(self, nodes: Sequence[Node]) -> None:
        self.nodes = nodes
        self._shapes = [(node.cores, node.memory_mib, node.gpus, node.scratch_mib) for node in nodes]
        self._samples = dict(zip(self._shapes, nodes, strict=True))
        self._counts = Counter(self._shapes)

    def fit(self, parts: Sequence[NodeShare], request: Request) -> bool:
        """True when there are enough nodes for each part."""
        needed = 0
        for part in parts:  # fuller first, so each later part may also use what is left of the earlier one's hosts
            needed += part.nodes
            hosts = (self._counts[shape] for shape, node in self._samples.items() if _hosts(node, part, request))
            if sum(hosts) < needed:
                return False
        return True

    def names(self, part: NodeShare, request: Request) -> tuple[str, ...]:
        """The nodes that could host a part."""
        hosts = {shape for shape, node in self._samples.items() if _hosts(node, part, request)}
        return tuple(node.name for node, shape in zip(self.nodes, self._shapes, strict=True) if shape in hosts)


def needs(request: Request, queue: Queue, site: Site) -> Need:
    """Work out the needs of a request from a queue's nodes; of a range of nodes, from its fewest.

    Raises :class:`Impossible` with the reason and the nearest possible request when even an idle queue
    could never serve it.
    """
    return choices(request, queue, site)[0]


def choices(request: Request, queue: Queue, site: Site) -> list[Need]:
    """All needs of a request in a queue: one, or one for each number of nodes of a range.

    Raises :class:`Impossible` as :func:`needs` does.
    """
    nodes = eligible_nodes(request, queue, site)
    if not nodes:
        raise Impossible(*_no_node(request, queue, site))
    if site.apart:
        if (request.nodes or 1) > 1:
            words = f"nodes = {request.nodes} is more than one, and on this site a job runs on one host; the most is nodes = 1"
            raise Impossible("nodes", words, (1, request.nodes or 1))
        request = replace(request, nodes=1, most_nodes=None, anywhere=False)
    if request.anywhere:
        need = _wherever(request, queue, nodes)
        found = [need] if need else []
    elif request.nodes is not None:
        shapes = _Nodes(nodes)
        counts = range(request.nodes, min(request.most_nodes or request.nodes, len(nodes)) + 1)
        found = [need for count in counts if (need := _dealt(request, queue, shapes, count))]
    else:
        shapes = _Nodes(nodes)
        widest = max(node.cores for node in nodes)
        fewest = max(1, -(-request.ranks * request.threads // widest))
        most = range(fewest, min(request.ranks, len(nodes)) + 1)
        found = next(([need] for count in most if (need := _dealt(request, queue, shapes, count))), [])
    if not found:
        raise Impossible(*_impossible(request, queue, nodes))
    return found


def _dealt(request: Request, queue: Queue, nodes: _Nodes, count: int) -> Need | None:
    if ranks_on(request, count) < count:
        return None
    parts = parts_on(request, count)
    if not nodes.fit(parts, request):
        return None
    return Need(
        queue.name, nodes.names(parts[-1], request), parts, request.gpus, request.scratch_mib, request.whole_nodes
    )


def _wherever(request: Request, queue: Queue, nodes: Sequence[Node]) -> Need | None:
    parts: list[NodeShare] = []
    eligible: list[Node] = []
    hosted = 0
    for each in range(1, request.ranks + 1):
        memory = memory_on_node(request.memory, each, request.ranks, request.threads)
        part = NodeShare(0, each, each * request.threads, memory)
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


def _no_node(request: Request, queue: Queue, site: Site) -> tuple[str, str]:
    """The header key that excludes every node of the queue, and why."""
    if request.on_nodes:
        beside = " with these traits" if request.traits else ""
        return "on-nodes", (
            f"none of the nodes {fold_names(request.on_nodes)} is in queue {queue.name}{beside}; "
            f"it has {fold_names(queue.nodes)}"
        )
    most = max((site.node[name].gpu_memory_mib for name in queue.nodes), default=0)
    if request.gpu_memory_mib > most:
        has = f"the most is {format_size(most)}" if most else "its nodes have no GPUs"
        wanted = format_size(request.gpu_memory_mib)
        return "gpu-memory", f"gpu-memory of {wanted} is more than any GPU of queue {queue.name} has; {has}"
    if request.traits:
        have = sorted({trait for name in queue.nodes for trait in site.node[name].traits})
        known = ", ".join(have) if have else "no traits"
        return "traits", f'no node of queue {queue.name} meets traits "{request.traits}"; its nodes have {known}'
    return "queue", f"queue {queue.name} has no node that runs jobs"


def _impossible(request: Request, queue: Queue, nodes: Sequence[Node]) -> tuple[str, str, tuple[int, int] | None]:
    """The key that asks for too much, a sentence that ends with the nearest possible request, and (most, asked)."""
    where = f"queue {queue.name}"
    if request.nodes is not None and request.nodes > len(nodes):
        return (
            "nodes",
            (
                f"nodes = {request.nodes} is more than the {plural(len(nodes), 'node')} of {where} that may serve it; "
                f"the most is nodes = {len(nodes)}"
            ),
            (len(nodes), request.nodes),
        )
    gpus = max(node.gpus for node in nodes)
    if request.gpus > gpus:
        nearest = f"the most is gpus = {gpus}" if gpus else "ask for another queue"
        words = f"gpus = {request.gpus} for each node is more than any node of {where} has; {nearest}"
        return "gpus", words, (gpus, request.gpus)
    scratch = max(node.scratch_mib for node in nodes)
    if request.scratch_mib > scratch:
        wanted = format_size(request.scratch_mib)
        return (
            "scratch",
            (f"scratch of {wanted} is more than any node of {where} has; the most is {format_size(scratch)}"),
            (scratch, request.scratch_mib),
        )
    widest = max(node.cores for node in nodes)
    if request.threads > widest:
        return (
            "threads",
            (f"threads = {request.threads} is more than any node of {where} has cores; the most is threads = {widest}"),
            (widest, request.threads),
        )
    most, on_nodes = _most_ranks(request, nodes)
    if request.ranks > most:
        where += f" on {plural(on_nodes, 'node')}" if request.nodes else ""
        return (
            "ranks",
            (
                f"{plural(request.ranks, 'rank')} of {plural(request.threads, 'thread')} are more than {where} can hold; "
                f"the most is ranks = {most}"
            ),
            (most, request.ranks),
        )
    count = request.nodes or min(len(nodes), request.ranks)
    part = parts_on(request, count)[0]
    roomy = [node for node in nodes if node.cores >= part.cores]
    memory = max((node.memory_mib for node in roomy), default=0)
    if part.memory_mib > memory:
        return (
            "memory",
            (
                f"memory comes to {format_size(part.memory_mib)} on one node, and the largest of {where} has "
                f"{format_size(memory)}; ask for less memory, or for more nodes with fewer ranks on each"
            ),
            (memory, part.memory_mib),
        )
    return (
        "ranks",
        (
            f"{where} has not {plural(count, 'node')} that could each give {plural(part.cores, 'core')} and "
            f"{format_size(part.memory_mib)}; ask for fewer ranks or less memory on each"
        ),
        None,
    )
