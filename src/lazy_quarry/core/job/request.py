"""A job's request, with every default filled in."""

from typing import Literal

from msgspec import Struct

from lazy_quarry.core.job.notice import Notify
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.values import replace


class Memory(Struct, frozen=True):
    """An amount and its unit: per core, rank, node or job."""

    mib: int
    per: Literal["core", "rank", "node", "job"] = "core"


class Rehearsal(Struct, frozen=True):
    """The behaviour of a job on the in-memory cluster; None leaves it to the model. Runtime in seconds, from and to."""

    runtime_s: tuple[int, int] | None = None
    memory_mib: int | None = None
    busy: float | None = None
    exit: int | None = None
    phases: tuple[tuple[str, float], ...] = ()
    """Its parts with how long each takes beside the others."""
    spread: int = 0
    """Number of tasks that are spread, in its longest part."""
    prints: str = ""
    """A line that it prints near its end."""


RETRIED = ("failed", "lost", "overmemory", "overtime")
"""The ends after which a job may run again."""


class Retries(Struct, frozen=True):
    """The number of times that a job runs again in all, and the ends after which it does (words of ``RETRIED``)."""

    times: int = 1
    on: tuple[str, ...] = ("lost",)


class Stage(Struct, frozen=True):
    """Files copied into the job's scratch folder before, and back after; paths from where it starts."""

    into: tuple[str, ...] = ()
    out: tuple[str, ...] = ()
    keep: bool = False


class Request(Struct, frozen=True):
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
    retries: Retries = Retries()
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
    notify: Notify | None = None
    """To whom mail goes, and when."""
    after: tuple[tuple[str, str], ...] = ()
    """Jobs, by number or name, and the condition of each: it waits until all are met."""
    array: Array | None = None
    task: int | None = None
    parameters: tuple[tuple[str, str], ...] = ()
    """For one task of an array: its number, and its parameters by name."""
    rehearsal: Rehearsal = Rehearsal()


def task_request(request: Request, index: int) -> Request:
    """The request of one task of an array, as a job of its own; ``index`` counts from 0."""
    array = request.array
    if array is None:
        raise ValueError("no array")
    there = (array.nodes[index],) if array.nodes else request.on_nodes
    parameters = tuple(array.values(index).items())
    return replace(request, array=None, task=array.number(index), parameters=parameters, on_nodes=there)
