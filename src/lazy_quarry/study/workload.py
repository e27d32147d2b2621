"""Made-up traces after a published model of what people submit.

Sizes, run times and arrivals are drawn as U. Lublin and D. G. Feitelson found them in logs of batch machines: "The workload on
parallel supercomputers: modeling the characteristics of rigid jobs", JPDC 63 (11), 2003,
with their parameters for batch jobs. Walltimes are as in A. W. Mu'alem and D. G. Feitelson, "Utilization, predictability,
workloads, and user runtime estimates", IEEE TPDS 12 (6), 2001: evenly between the run time and six times as much, here
rounded up to a time that people ask for. Arrivals are then stretched so that the trace has the load that is wanted.
"""

import numpy as np

from lazy_quarry.study.swf import TraceJob

SERIAL, POWER_OF_TWO = 0.244, 0.576
SIZE_LOW, SIZE_TO_MIDDLE, SIZE_SMALL = 0.8, 2.5, 0.86
"""log2 of sizes: even from ``low`` to (log2 of the cluster) − ``to middle`` mostly, and on to the whole at times."""
SHORT_RUN, LONG_RUN = (4.2, 0.94), (312.0, 0.03)
"""Gamma distributions (shape, scale) of the run time's natural logarithm, and how their mixture goes with size."""
SHORT_SLOPE, SHORT_AT_ZERO = -0.0054, 0.78
GAP = (10.2303, 0.4871)
"""Gamma of log2 of the time between arrivals, in its original seconds."""
DAILY = (8.1737, 3.9631)
"""Gamma of the half-hours of the day in which jobs arrive; the fullest is early in the afternoon."""
ESTIMATE_FACTOR = 5.0
LONGEST_S = 5 * 86_400
_MINUTES = (
    5,
    10,
    15,
    20,
    30,
    45,
    60,
    90,
    120,
    180,
    240,
    300,
    360,
    480,
    600,
    720,
    960,
    1080,
    1440,
    2160,
    2880,
    4320,
    5760,
    7200,
)
_ASKED_S = np.array([minutes * 60 for minutes in _MINUTES], dtype=np.int64)


def make_trace(count: int, cores: int, load: float = 0.85, seed: int = 1) -> list[TraceJob]:
    """``count`` jobs for a cluster of so many cores, the same for the same seed.

    ``load`` is the core-seconds that they run, against those that the cluster has from the first arrival to the last.
    """
    chance = np.random.default_rng(seed)
    size = _sizes(chance, count, cores)
    run = _run_times(chance, size)
    arrive = _arrivals(chance, count)
    asked = run * (1 + chance.random(count) * ESTIMATE_FACTOR)
    walltime = _ASKED_S[np.minimum(np.searchsorted(_ASKED_S, asked), len(_ASKED_S) - 1)]
    run = np.minimum(run, walltime)
    span = float(np.sum(size * run)) / (cores * load)
    submit = np.rint(arrive * (span / max(arrive[-1], 1e-9))).astype(np.int64) if count else arrive
    return [
        TraceJob(number, int(at), int(ran), int(most), int(wide))
        for number, (at, ran, most, wide) in enumerate(zip(submit, run, walltime, size, strict=True), 1)
    ]


def _sizes(chance: np.random.Generator, count: int, cores: int) -> np.ndarray:
    top = np.log2(cores)
    low, middle = min(SIZE_LOW, top), max(min(SIZE_LOW, top), top - SIZE_TO_MIDDLE)
    small = chance.random(count) < SIZE_SMALL
    power = np.where(small, chance.uniform(low, middle, count), chance.uniform(middle, top, count))
    kind = chance.random(count)
    rounded = np.where(kind < SERIAL + POWER_OF_TWO, 2.0 ** np.rint(power), np.rint(2.0**power))
    size = np.where(kind < SERIAL, 1, rounded)
    return np.clip(size, 1, cores).astype(np.int64)


def _run_times(chance: np.random.Generator, size: np.ndarray) -> np.ndarray:
    count = len(size)
    short = chance.random(count) < np.clip(SHORT_SLOPE * size + SHORT_AT_ZERO, 0, 1)
    log = np.where(short, chance.gamma(*SHORT_RUN, count), chance.gamma(*LONG_RUN, count))
    return np.clip(np.rint(np.exp(log)), 1, LONGEST_S).astype(np.int64)


def _arrivals(chance: np.random.Generator, count: int) -> np.ndarray:
    """Seconds, rising; gaps are shorter in the busy half-hours of the day."""
    gaps = 2.0 ** chance.gamma(*GAP, count)
    gaps *= 480.0 / gaps.mean() if count else 1.0  # some 180 a day, before the stretching to a load
    slots = np.bincount((chance.gamma(*DAILY, 20_000) % 48).astype(np.int64), minlength=48) + 100.0
    pace = slots / slots.mean()
    at, arrive = 0.0, np.empty(count)
    for place, gap in enumerate(gaps):
        at += gap / pace[int(at // 1800) % 48]
        arrive[place] = at
    return arrive - arrive[0] if count else arrive
