"""Room now, as values: the most that could start at this instant, by walltime and shape."""

from typing import Literal

from msgspec import Struct

from lazy_quarry.core.job.request import Request

WALLTIMES_S = (900, 3600, 4 * 3600, 12 * 3600, 2 * 86400)
RoomKind = Literal["one node", "many nodes", "GPUs", "whole nodes"]
KINDS: tuple[RoomKind, ...] = ("one node", "many nodes", "GPUs", "whole nodes")


class Room(Struct, frozen=True):
    """The most of one kind that could start now in a queue for a walltime; no request where there is nothing."""

    queue: str
    walltime_s: int
    kind: RoomKind
    cores: int = 0
    nodes: int = 0
    gpus: int = 0
    request: Request | None = None
