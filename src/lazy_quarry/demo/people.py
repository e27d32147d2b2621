"""The jobs of the people of the Oxbow Institute over time: a seeded stream of submissions."""

import json
import math
import random
from collections.abc import Iterator
from datetime import UTC, datetime

from msgspec import Struct

from lazy_quarry.core.job.job import Origin
from lazy_quarry.core.job.request import Memory, Rehearsal, Request
from lazy_quarry.core.units import DAY_MS, HOUR_MS, exact_duration
from lazy_quarry.core.values import replace


class Kind(Struct, frozen=True):
    """A kind of job that somebody runs again and again."""

    name: str
    user: str
    account: str
    queue: str
    nodes: int
    ranks: int
    threads: int
    memory_mib: int
    walltime_h: float
    runs: float
    """Share of its walltime that it takes as a rule."""
    weight: float
    fails: float = 0.04
    gpus: int = 0
    tier: str = "steady"
    spread: float = 0.35
    """Standard deviation of the logarithm of its run time."""
    grows: float = 1.0
    """Its run time grows with this power of its size; the walltime that is asked for grows with the size itself."""
    leap: float = 1.0
    """Factor by which a slower run takes longer: above 1 its run times have two humps."""
    months: tuple[float, ...] = (1.0,) * 12
    """Its amount from January to December, against March."""


_WINTER = (1.4, 1.2, 1, 0.8, 0.7, 0.6, 0.6, 0.6, 0.9, 1.2, 1.4, 1.4)
"""Storms come in autumn and winter."""
_SPRING = (0.3, 0.6, 1, 1.5, 1.6, 1.1, 0.7, 0.6, 1.1, 1.3, 0.7, 0.3)
"""Eels move in spring and autumn."""
_SUMMER = (0.6, 0.7, 1, 1.3, 1.7, 2.1, 2.4, 2.1, 1.5, 1, 0.7, 0.6)
"""Kelp grows, and is photographed, in summer."""
_AT_SEA = (1, 1, 1, 1, 1, 0.1, 0, 0.8, 1.2, 1, 1, 0.7)
"""Somebody is on the ship in June and July."""
_GUEST = (0, 0, 0, 0, 0, 1.4, 2, 2, 1.2, 0, 0, 0)

KINDS = (
    Kind("surge-ens", "imre", "tide-surge", "tidal", 2, 64, 1, 2800, 6, 0.55, 7, spread=0.12, months=_WINTER),
    Kind(
        "surge-coast",
        "imre",
        "tide-surge",
        "tidal",
        4,
        128,
        1,
        2800,
        12,
        0.5,
        2.5,
        spread=0.2,
        grows=1.2,
        months=_WINTER,
    ),
    Kind("boundary", "salka", "tide-surge", "tidal", 1, 8, 2, 2000, 2, 0.4, 9, spread=0.1),
    Kind("eel-drift", "noor", "eel-tracks", "tidal", 1, 16, 1, 1800, 4, 0.45, 12, spread=0.5, months=_AT_SEA),
    Kind("eel-maps", "noor", "eel-tracks", "deep", 1, 16, 1, 9000, 8, 0.5, 2.5, months=_SPRING),
    Kind(
        "kelp-train",
        "bram",
        "kelp-fit",
        "lantern",
        1,
        8,
        1,
        6000,
        12,
        0.45,
        3.5,
        0.09,
        2,
        spread=0.25,
        leap=1.8,
        months=_SUMMER,
    ),
    Kind("kelp-scan", "bram", "kelp-fit", "tidal", 1, 32, 1, 2400, 3, 0.35, 9, 0.06, grows=0.6, months=_SUMMER),
    Kind("kelp-merge", "ilse", "kelp-fit", "deep", 1, 32, 1, 12000, 6, 0.5, 2, spread=0.15),
    Kind("silt-bed", "ilse", "silt", "tidal", 3, 96, 1, 3000, 24, 0.6, 2.2, spread=0.3, grows=0.8),
    Kind("silt-cores", "salka", "silt", "tidal", 1, 1, 4, 1500, 1, 0.3, 10),
    Kind("silt-grain", "noor", "silt", "tidal", 1, 4, 1, 1500, 2, 0.5, 8, 0.1, spread=0.6, months=_AT_SEA),
    Kind("tide-table", "salka", "commons", "tidal", 1, 1, 1, 1000, 0.5, 0.3, 5),
    Kind("try", "bram", "kelp-fit", "trial", 1, 4, 1, 1500, 0.4, 0.4, 4, 0.2, 0, "trial"),
    Kind("surge-north", "tove", "tide-surge", "tidal", 2, 16, 2, 3000, 2.5, 0.4, 3),
    Kind("eel-tracks", "tove", "eel-tracks", "tidal", 1, 24, 1, 2400, 4, 0.5, 2.5, months=_SPRING),
    Kind("eel-tags", "wren", "eel-tracks", "tidal", 1, 8, 1, 2000, 3, 0.5, 6, 0.15, months=_GUEST),
)


SPARE = (
    Kind("kelp-sweep", "bram", "kelp-fit", "tidal", 1, 16, 1, 1500, 8, 0.6, 3, tier="spare"),
    Kind("silt-replay", "ilse", "silt", "tidal", 1, 32, 1, 2000, 12, 0.5, 2, tier="spare"),
)
"""Jobs that fill the gaps, and give way when others need the place."""


class Arrival(Struct, frozen=True):
    """Somebody submits a job."""

    at_ms: int
    user: str
    request: Request
    origin: Origin


def request_of(kind: Kind, chance: random.Random) -> Request:
    """One job of a kind, with its own walltime and its own fate in the model."""
    size = chance.choice((0.5, 0.75, 1, 1, 1, 1.5))
    walltime_s = int(kind.walltime_h * 3600 * size)
    walltime_s = min(walltime_s, {"trial": 1800, "lantern": 172_800}.get(kind.queue, 259_200))
    luck = chance.lognormvariate(0, kind.spread)
    share = min(1.4, kind.runs * size ** (kind.grows - 1) * (luck * kind.leap if luck > 1 else luck))
    runtime_s = max(20, round(walltime_s * share))
    failed = chance.random() < kind.fails
    if failed:
        runtime_s = max(15, round(runtime_s * chance.uniform(0.02, 0.5)))
    cores = kind.ranks * kind.threads
    asked = kind.memory_mib * cores
    memory = round(asked * chance.uniform(0.2, 0.8)) if chance.random() > 0.012 else round(asked * 1.2)
    status = chance.choice((1, 1, 2, 134)) if failed else 0
    busy = round(cores * chance.uniform(0.7, 0.99), 2)
    return Request(
        name=kind.name,
        account=kind.account,
        queues=(kind.queue,),
        tier=kind.tier,
        walltime_s=walltime_s,
        memory=Memory(kind.memory_mib, "core"),
        nodes=kind.nodes,
        ranks=kind.ranks,
        threads=kind.threads,
        gpus=kind.gpus,
        output="logs/{name}-{job}.txt",
        rehearsal=Rehearsal((runtime_s, runtime_s), memory, busy, status),
    )


def _commands_of(request: Request) -> Iterator[str]:
    """The commands of the script: its parts where it has any, and in the longest of them what it spreads."""
    program = request.name.partition("-")[0]
    run = f'mpirun --hostfile "$LQ_NODES" {program} --case "{request.name}"'
    parts, spread = request.rehearsal.phases or (("", 1.0),), request.rehearsal.spread
    longest = max(parts, key=lambda part: part[1])[0]
    for name, _ in parts:
        word = name.partition(" ")[0]
        if name != longest:
            yield f'lq phase "{name}" -- {program} {word} --case "{request.name}"'
            continue
        part = f"{program} {word} --number {{n}}".replace("  ", " ")
        what = f"lq spread --with n='range 1..{spread}' -- {part}" if spread else run
        yield f'lq phase "{name}" -- {what}' if name else what


def origin_of(user: str, request: Request) -> Origin:
    """A script that says what the request asks for, as its user would have written it."""
    lines = [
        "#!/usr/bin/env bash",
        "# /// job",
        f'# name     = "{request.name}"',
        f'# account  = "{request.account}"',
        f'# queue    = "{request.queues[0]}"',
        f'# walltime = "{exact_duration(request.walltime_s)}"',
        f"# nodes    = {request.nodes or 1}",
        f"# ranks    = {request.ranks}",
        f"# threads  = {request.threads}",
        f'# memory   = "{request.memory.mib} MiB/core"',
        *([f"# gpus     = {request.gpus}"] if request.gpus else []),
        f'# output   = "{request.output}"',
        *_array_of(request),
        "# ///",
        "set -euo pipefail",
        *_commands_of(request),
        "",
    ]
    return Origin("\n".join(lines), f"/home/{user}/work/{request.name}.sh", f"/home/{user}/work")


def _array_of(request: Request) -> Iterator[str]:
    """The part of the header about tasks whose parameters are combined."""
    array = request.array
    if array is None:
        return
    yield "# [array]"
    yield from [f"# at-once = {array.at_once}"] if array.at_once else []
    yield "# [array.sweep]"
    for parameter in (one for group in array.groups for one in group):
        yield f"# {parameter.name} = [{', '.join(json.dumps(value) for value in parameter.values)}]"


def busyness(at_ms: int) -> float:
    """Submissions at this time, as a part of those of the busiest time: most on weekdays, in the morning and the afternoon."""
    day, hour = at_ms // DAY_MS % 7, at_ms % DAY_MS / HOUR_MS
    weekday = 0.35 if day in (2, 3) else 1.0  # the epoch was a Thursday: Saturday and Sunday
    return weekday * (0.25 + 0.75 * math.exp(-(((hour - 13.5) / 4.2) ** 2)))


def arrivals(seed: int | str, from_ms: int, a_day: float, kinds: tuple[Kind, ...] = KINDS) -> Iterator[Arrival]:
    """Submissions from an instant on, without end: about ``a_day`` on a working day."""
    chance = random.Random(f"arrivals:{seed}")
    usual = sum(kind.weight for kind in kinds)
    at = float(from_ms)
    busiest = a_day / 0.52  # the mean of a working day's busyness
    while True:
        month = datetime.fromtimestamp(at / 1000, UTC).month - 1
        weights = [kind.weight * kind.months[month] for kind in kinds]
        at += chance.expovariate(busiest * sum(weights) / usual / DAY_MS)
        if chance.random() > busyness(round(at)):
            continue
        kind = chance.choices(kinds, weights)[0]
        request = request_of(kind, chance)
        several = chance.choice((1, 1, 1, 2, 3, 5)) if kind.nodes == 1 else 1
        for number in range(several):
            more = replace(request) if number == 0 else request_of(kind, chance)
            yield Arrival(round(at) + 1000 * number, kind.user, more, origin_of(kind.user, more))
