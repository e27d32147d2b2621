"""Consequences of a chain's conditions: order, cycles, conditions that can't both hold, layers, slack."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import networkx as nx

Waits = Mapping[str, Sequence[tuple[str, str]]]
"""By job, what it waits for: (other, condition)."""
_NEEDS = {"succeeds": "succeeds", "each-succeeds": "succeeds", "fails": "fails"}


def graph_of(waits: Waits) -> "nx.DiGraph[str]":
    """An edge from each job to those that wait for it."""
    import networkx as nx  # a tenth of a second, which only chains need

    graph: nx.DiGraph[str] = nx.DiGraph()
    graph.add_nodes_from(waits)
    graph.add_edges_from((other, job) for job, after in waits.items() for other, _ in after if other in waits)
    return graph


def ordered(waits: Waits) -> tuple[str, ...]:
    """Each job after those that it waits for; otherwise as they are given. Raises :class:`ValueError` for a cycle."""
    import networkx as nx

    places = {name: place for place, name in enumerate(waits)}
    try:
        return tuple(nx.lexicographical_topological_sort(graph_of(waits), key=places.__getitem__))
    except nx.NetworkXUnfeasible:
        raise ValueError("a cycle") from None


def cycles(waits: Waits) -> Iterator[tuple[str, ...]]:
    """One cycle of each group of jobs that wait for one another, in the order in which they wait."""
    import networkx as nx

    graph = graph_of(waits)
    for group in sorted(nx.strongly_connected_components(graph), key=min):
        loop = graph.subgraph(group)
        if loop.number_of_edges():
            first = min(group)
            edges = nx.find_cycle(loop, first)
            yield tuple(other for _, other in reversed(edges))


def never(waits: Waits) -> Iterator[tuple[str, str]]:
    """Jobs that can't start however the others end, each with the job that would have to both succeed and fail.

    A job runs only if what it waits for has run, so all that these need it needs too. Of those that follow one that can't
    start, none is told. There is no cycle.
    """
    wanted: dict[str, dict[str, set[str]]] = {}
    lost: set[str] = set()
    for job in ordered(waits):
        needs: dict[str, set[str]] = {}
        inside = [one for one in waits[job] if one[0] in waits]
        for other, condition in inside:
            for name, ends in wanted[other].items():
                needs.setdefault(name, set()).update(ends)
            if condition in _NEEDS:
                needs.setdefault(other, set()).add(_NEEDS[condition])
        wanted[job] = needs
        if any(other in lost for other, _ in inside):
            lost.add(job)
            continue
        both = [name for name, ends in needs.items() if len(ends) > 1]
        if both:
            lost.add(job)
            yield job, both[0]


def layers(waits: Waits) -> list[list[str]]:
    """Jobs by how many stand before them at the most, in an order with few crossings.

    The order within a layer follows the median of those that a job waits for, then of those that wait for it, a few
    times over (Sugiyama, Tagawa and Toda, 1981).
    """
    graph = graph_of(waits)
    depth: dict[str, int] = {}
    for job in ordered(waits):
        depth[job] = max((depth[other] + 1 for other in graph.predecessors(job)), default=0)
    found: list[list[str]] = [[] for _ in range(max(depth.values(), default=-1) + 1)]
    for job in waits:
        found[depth[job]].append(job)
    for turn in range(6):
        backwards = turn % 2 == 1
        place = {job: at for layer in found for at, job in enumerate(layer)}
        beside = graph.successors if backwards else graph.predecessors
        for layer in reversed(found) if backwards else found:
            order = {job: _median([place[other] for other in beside(job)], place[job]) for job in layer}
            layer.sort(key=lambda job: (order[job], place[job]))
            place |= {job: at for at, job in enumerate(layer)}
    return found


def _median(places: list[int], otherwise: int) -> float:
    places.sort()
    middle = len(places) // 2
    if not places:
        return otherwise
    return places[middle] if len(places) % 2 else (places[middle - 1] + places[middle]) / 2


def crossings(waits: Waits, found: Sequence[Sequence[str]]) -> int:
    """Count the pairs of lines between neighbouring layers that cross."""
    place = {job: (level, at) for level, layer in enumerate(found) for at, job in enumerate(layer)}
    total = 0
    for level in range(1, len(found)):
        lines = sorted(
            (place[other][1], place[job][1])
            for job in found[level]
            for other, _ in waits[job]
            if other in place and place[other][0] == level - 1
        )
        total += sum(
            lines[one][0] < lines[other][0] and lines[one][1] > lines[other][1]
            for one in range(len(lines))
            for other in range(one + 1, len(lines))
        )
    return total


def slack(waits: Waits, times: Mapping[str, tuple[int, int]], done: int) -> dict[str, int]:
    """By how much the end of each job may slip before all is done later than ``done``; in the unit of ``times``.

    ``times`` are (start, end) of each. What waits for a beginning follows that; all else follows the end.
    """
    latest: dict[str, int] = {}
    followers: dict[str, list[tuple[str, str]]] = {}
    for job, after in waits.items():
        for other, condition in after:
            followers.setdefault(other, []).append((job, condition))
    for job in reversed(ordered(waits)):
        begin, end = times[job]
        bounds = [done]
        for follower, condition in followers.get(job, ()):
            start = latest[follower] - (times[follower][1] - times[follower][0])
            bounds.append(start + (end - begin) if condition == "begins" else start)
        latest[job] = min(bounds)
    return {job: latest[job] - times[job][1] for job in waits}


def downstream(waits: Waits, jobs: Iterable[str]) -> set[str]:
    """These jobs and all that wait for them, directly or through others."""
    import networkx as nx

    graph = graph_of(waits)
    found = set(jobs)
    for job in list(found):
        found |= nx.descendants(graph, job)
    return found


def twins(waits: Waits, least: int = 3) -> list[tuple[str, ...]]:
    """Jobs that wait for the same and are waited for by the same, in groups of at least so many."""
    followers: dict[str, list[tuple[str, str]]] = {job: [] for job in waits}
    for job, after in waits.items():
        for other, condition in after:
            if other in followers:
                followers[other].append((job, condition))
    groups: dict[tuple[frozenset[tuple[str, str]], ...], list[str]] = {}
    for job, after in waits.items():
        groups.setdefault((frozenset(after), frozenset(followers[job])), []).append(job)
    return [tuple(group) for group in groups.values() if len(group) >= least]
