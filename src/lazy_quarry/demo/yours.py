"""Jobs of yours on the demo site: one in nearly every state, each for a reason you can read."""

from collections.abc import Iterator

from lazy_quarry.core.job.job import Job
from lazy_quarry.core.job.notice import Notify
from lazy_quarry.core.job.request import Memory, Rehearsal, Request, task_request
from lazy_quarry.core.job.sweep import Array, Parameter
from lazy_quarry.core.units import MINUTE_MS
from lazy_quarry.core.values import replace
from lazy_quarry.demo.people import Arrival, origin_of
from lazy_quarry.demo.site import BEGINS_MS, YOU


def _ask(name: str, account: str, nodes: int, ranks: int, threads: int, walltime_h: float, **more: object) -> Request:
    base = Request(
        name,
        account,
        ("tidal",),
        "steady",
        round(walltime_h * 3600),
        Memory(3 * 1024, "core"),
        nodes=nodes,
        ranks=ranks,
        threads=threads,
        output="logs/{name}-{job}.txt",
    )
    return replace(base, **more)  # type: ignore[arg-type]


_SURGE = (("read grid", 0.06), ("spin up", 0.14), ("solve", 0.72), ("write levels", 0.08))
_GAUGES = (("fetch", 0.08), ("clean", 0.84), ("merge", 0.08))


def _ran(
    minutes: float, share: float, exit_status: int | None = None, memory_mib: int | None = None, **more: object
) -> Rehearsal:
    seconds = round(minutes * 60)
    return replace(Rehearsal((seconds, seconds), memory_mib, share, exit_status), **more)  # type: ignore[arg-type]


def _arrival(minutes_ago: float, request: Request) -> Arrival:
    return Arrival(BEGINS_MS - round(minutes_ago * MINUTE_MS), YOU, request, origin_of(YOU, request))


def yours() -> Iterator[Arrival]:
    """Your submissions since yesterday evening, oldest first."""
    tide, eel = "tide-surge", "eel-tracks"
    yield _arrival(
        700, _ask("surge-west", tide, 2, 32, 1, 1, rehearsal=_ran(75, 30.1, phases=_SURGE))
    )  # stopped at its walltime
    yield _arrival(
        640, _ask("eel-merge", eel, 1, 4, 1, 1, rehearsal=_ran(22, 3.6, memory_mib=15_000))
    )  # over its memory
    yield from _fitted()
    prints = "tar: levels/2027-02-28.nc: Cannot open: No such file or directory"
    yield _arrival(
        330, _ask("archive-day", tide, 1, 2, 1, 1, rehearsal=_ran(11, 1.3, prints=prints))
    )  # done, and perhaps not well
    yield _arrival(300, _ask("levels-check", tide, 1, 1, 1, 0.5, rehearsal=_ran(3, 0.9, 2)))  # fails with exit 2
    yield _arrival(260, _ask("surge-south", tide, 2, 16, 2, 2.5, rehearsal=_ran(52, 29.4, phases=_SURGE)))  # done
    mail = Notify("tove@oxbow.example", ("done", "failed", "75%"))
    yield _arrival(
        190, _ask("surge-north", tide, 2, 16, 2, 6, notify=mail, rehearsal=_ran(235, 29.8, phases=_SURGE))
    )  # runs
    yield _arrival(95, _ask("eel-tracks", eel, 1, 24, 1, 4, rehearsal=_ran(180, 6.2)))  # runs, most cores idle
    yield _arrival(
        64, _ask("tide-gauges", tide, 1, 8, 1, 2, rehearsal=_ran(88, 7.4, phases=_GAUGES, spread=960))
    )  # runs


_GRIDS = ("coarse", "mid", "fine", "finest")
_ROUGHNESS = tuple(f"{0.02 + step / 500:.3f}" for step in range(10))
FIT = _ask(
    "roughness-fit",
    "tide-surge",
    1,
    4,
    1,
    1,
    array=Array(((1, 40, 1),), 10, ((Parameter("grid", _GRIDS),), (Parameter("roughness", _ROUGHNESS),))),
    output="logs/{name}-{job}-{task}.txt",
)
"""A sweep that ran this morning: its finest grid needs more memory than was asked for, in most of its tasks."""


def sweep_of(task: Job) -> Request:
    """The sweep that a task of yours belongs to."""
    assert task.request.name == FIT.name
    return FIT


def _fitted() -> Iterator[Arrival]:
    """Its tasks."""
    for index in range(40):
        request = task_request(FIT, index)
        grid, place = _GRIDS.index(dict(request.parameters)["grid"]), index % 10
        minutes = 4.0 * (grid + 1) + place * 0.7 + (41 if index == 16 else 0)
        memory = 15_500 if grid == 3 and place < 8 else 2_400 * (grid + 1) + 130 * place
        told = replace(request, rehearsal=_ran(minutes, 3.6, memory_mib=memory))
        yield Arrival(BEGINS_MS - 420 * MINUTE_MS, YOU, told, origin_of(YOU, FIT))


def yours_waiting() -> Iterator[Arrival]:
    """Your submissions of this morning, which have not started."""
    tide, eel = "tide-surge", "eel-tracks"
    yield _arrival(41, _ask("sediment-big", tide, 8, 256, 1, 10, rehearsal=_ran(400, 240)))
    yield _arrival(33, _ask("eel-season", eel, 2, 64, 1, 3, rehearsal=_ran(95, 60)))
    yield _arrival(27, _ask("estuary-long", tide, 1, 16, 2, 70, rehearsal=_ran(3000, 30)))  # too long before the window
    levels = (Parameter("level", tuple(f"{step / 4:g}" for step in range(8))),)
    grids = (Parameter("grid", ("coarse", "mid", "fine")),)
    array = Array(((1, 24, 1),), 4, (levels, grids))
    sweep = _ask("surge-levels", tide, 1, 4, 1, 1, array=array, output="logs/{name}-{job}-{task}.txt")
    yield _arrival(8, replace(sweep, rehearsal=Rehearsal((600, 2700), None, 3.7)))  # a sweep, four at once
    yield _arrival(12, _ask("night-archive", tide, 1, 8, 1, 5, rehearsal=_ran(200, 4)))  # held
