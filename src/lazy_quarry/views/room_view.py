"""A room as it is shown: its size, and the header keys that request it."""

from lazy_quarry.core.plan.room import Room
from lazy_quarry.core.units import exact_duration, exact_size
from lazy_quarry.views.outcomes import RoomView


def room_view(room: Room) -> RoomView:
    """A room with the header that asks for it; without one where there is no room."""
    request = room.request
    header: list[tuple[str, str | int | bool]] = []
    if request is not None:
        header = [("queue", room.queue), ("walltime", exact_duration(room.walltime_s))]
        if request.anywhere:
            header.append(("nodes", "any"))
        elif request.nodes:
            header.append(("nodes", request.nodes))
        header += [("ranks", request.ranks)] if request.ranks > 1 else []
        header += [("threads", request.threads)] if request.threads > 1 else []
        header.append(("memory", f"{exact_size(request.memory.mib)}/core"))
        header += [("gpus", request.gpus)] if request.gpus else []
        header += [("whole-nodes", True)] if request.whole_nodes else []
    return RoomView(room.queue, room.walltime_s, room.kind, room.cores, room.nodes, room.gpus, tuple(header))
