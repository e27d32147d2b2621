"""Warnings of what lies ahead: the share that is false, and the share of what came that was not warned of.

``python -m bench.warning docs/advice.md`` writes the table into the page. Runs are those of :mod:`bench.advising`: their
walltime is what nine in ten earlier ones were done in, and three in ten of them get on more slowly than these did.
"""

import math
import random
import sys
from pathlib import Path

from bench.advising import SHAPES, demo_year
from bench.tables import put
from lazy_quarry.core.advice.warnings import SURE, SURE_OF_MEMORY, TIGHT, LikeIt, chance_full, chance_late

RUNS, EARLIER = 3000, 20
LOOKS = (0.25, 0.4, 0.55, 0.7, 0.85)
"""Parts of the walltime after which it is looked."""


def late(shape):
    """(in time, of these warned of; late, of these not warned of) of made-up runs."""
    chance, counts = random.Random(f"late {shape}"), [0, 0, 0, 0]
    for _ in range(RUNS):
        earlier = [SHAPES[shape](chance, None)[0] for _ in range(EARLIER)]
        walltime = sorted(earlier)[EARLIER * 9 // 10]
        known = [LikeIt(min(one, walltime), min(one, walltime), one > walltime) for one in earlier]
        slower = chance.uniform(1.2, 2.0) if chance.random() < 0.3 else 1.0
        took = SHAPES[shape](chance, None)[0] * slower
        warned = any(
            chance_late(part * walltime, part * walltime / slower, walltime, known)[0] >= SURE
            for part in LOOKS
            if part * walltime < took
        )
        _count(counts, took > walltime, warned)
    return counts


def demo():
    """The same of the demo's year, as its runs were."""
    chance, counts = random.Random("late demo"), [0, 0, 0, 0]
    for runs in demo_year(EARLIER):
        for at in range(EARLIER, len(runs)):
            took, over, walltime = runs[at]
            known = [LikeIt(one, one, stopped) for one, stopped, _ in runs[at - EARLIER : at]]
            slower = chance.uniform(1.2, 2.0) if chance.random() < 0.3 else 1.0
            needs = math.inf if over else took * slower
            warned = any(
                chance_late(part * walltime, part * walltime / slower, walltime, known)[0] >= SURE
                for part in LOOKS
                if part * walltime < needs
            )
            _count(counts, needs > walltime, warned)
    return counts


def full(shape):
    """The same of memory that grows in some way, told of when it is near its limit, or before."""
    chance, counts, asked, span = random.Random(f"full {shape}"), [0, 0, 0, 0], 8192.0, 3600.0
    grown = {
        "steady": lambda part: part,
        "levelling off": lambda part: (1 - math.exp(-4 * part)) / (1 - math.exp(-4)),
        "soon, then steady": lambda part: min(1.0, part * 3),
        "ever faster": lambda part: part**2,
    }[shape]
    for _ in range(RUNS // 3):
        peaks = [one for one in (asked * _end(chance) for _ in range(EARLIER)) if one < asked]
        end, samples, warned, passes = asked * _end(chance), [], False, False
        for minute in range(60):
            mib = end * grown((minute + 1) / 60) * math.exp(chance.gauss(0, 0.005))
            if mib > asked:
                passes = True
                break
            samples.append((minute * 60_000, 1.0, round(mib)))
            if minute % 3 == 2:
                ahead = chance_full(samples, asked, span - minute * 60, peaks)[0] >= SURE_OF_MEMORY
                warned = warned or ahead or mib >= asked * TIGHT
        _count(counts, passes, warned)
    return counts


def _end(chance):
    """The peak of memory as a part of what was requested: about one in six passes it."""
    return 0.7 * math.exp(chance.gauss(0, 0.35))


def _count(counts, bad, warned):
    counts[2 if bad else 0] += 1
    counts[3 if bad else 1] += bool(warned) is not bad


def rows():
    """(what, runs in time or within, of these warned of falsely, runs that were not, of these not warned of)."""
    for shape in SHAPES:
        yield f"late: {shape}", *late(shape)
    yield "late: the demo's year", *demo()
    for shape in ("steady", "levelling off", "soon, then steady", "ever faster"):
        yield f"memory: {shape}", *full(shape)


def figures(best):
    for what, well, false, bad, missed in rows():
        name = "".join(letter if letter.isalnum() else "-" for letter in what).replace("--", "-")
        yield f"warned-{name}-falsely", false / max(1, well), "of those in time", 1.0, 0.12
        yield f"warned-{name}-missed", missed / max(1, bad), "of those that were not", 1.0, 0.6


def table():
    """The table of docs/advice.md."""
    yield "| history | runs that were well | warned of falsely | runs that were not | not warned of |"
    yield "| --- | ---: | ---: | ---: | ---: |"
    for what, well, false, bad, missed in rows():
        yield f"| {what} | {well:,} | {false / max(1, well):.1%} | {bad:,} | {missed / max(1, bad):.1%} |"


if __name__ == "__main__":
    if len(sys.argv) > 1:
        put(Path(sys.argv[1]), "warnings", table())
    else:
        print("\n".join(table()))
