"""Nodes in use: which are alike, and who has, had or is expected to have their cores."""

from collections.abc import Iterable

from lazy_quarry.views.board import Board, NodeView


def alike(nodes: Iterable[NodeView]) -> list[tuple[NodeView, ...]]:
    """Neighbours that are alike, and alike in use, together; in their order."""
    groups: list[list[NodeView]] = []
    for node in nodes:
        if groups and _same(groups[-1][-1], node):
            groups[-1].append(node)
        else:
            groups.append([node])
    return [tuple(group) for group in groups]


def _same(one: NodeView, other: NodeView) -> bool:
    same = (one.cores, one.memory_mib, one.gpus, one.traits, one.closed, one.quiet_since_ms)
    if same != (other.cores, other.memory_mib, other.gpus, other.traits, other.closed, other.quiet_since_ms):
        return False
    return [(occupant.job, len(occupant.cores)) for occupant in one.occupants] == [
        (occupant.job, len(occupant.cores)) for occupant in other.occupants
    ]


def holders(board: Board) -> dict[str, list[tuple[int, int, int, str]]]:
    """Who has, had or is expected to have how many cores of each node, and from when to when."""
    held: dict[str, list[tuple[int, int, int, str]]] = {}
    for view in board.jobs:
        if view.rows:
            continue
        owner = board.person.owner(view.user, view.account)
        if view.started_ms is not None:
            end = view.ended_ms or max(board.now_ms, view.started_ms + (view.walltime_s + view.grace_s) * 1000)
            for name, cores in view.cores_by_node.items():
                held.setdefault(name, []).append((view.started_ms, end, len(cores), owner))
        elif view.forecast_ms is not None and view.forecast_end_ms is not None and view.forecast_nodes:
            each = -(-view.cores // len(view.forecast_nodes))
            for name in view.forecast_nodes:
                held.setdefault(name, []).append((view.forecast_ms, view.forecast_end_ms, each, "expected"))
    return held
