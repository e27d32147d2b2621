"""Warnings of what lies ahead: the share that is false, and the share of what came that was not warned of.

``python -m bench.warning docs/advice.md`` writes the table into the page. The walltime is what nine in ten earlier runs were
done in, and three in ten runs get on more slowly than these did; a run is looked at seven times.
"""

import math
import random
import sys
from pathlib import Path

from bench.advising import demo_year
from bench.tables import put
from lazy_quarry.core.advice.warnings import SURE, SURE_OF_MEMORY, TIGHT, LikeIt, Work, chance_full, chance_late
from lazy_quarry.core.job.curve import curve_of

RUNS, EARLIER, FEW, DEMO_RUNS = 1000, 20, 5, 4000
LOOKS = (0.15, 0.25, 0.4, 0.55, 0.7, 0.85, 0.93)
"""Parts of the walltime after which it is looked."""
LENGTHS = {
    "narrow": lambda chance: 1800 * math.exp(chance.gauss(0, 0.05)),
    "wide": lambda chance: 1800 * math.exp(chance.gauss(0, 0.6)),
    "two humps": lambda chance: (900 if chance.random() < 0.6 else 4000) * math.exp(chance.gauss(0, 0.1)),
    "of seven sizes": lambda chance: (
        120 * chance.choice((1, 2, 3, 4, 6, 8, 12)) ** 1.4 * math.exp(chance.gauss(0, 0.12))
    ),
}
WORK = {
    "even": lambda part: part,
    "reads for 30 %": lambda part: max(0.0, part - 0.3) / 0.7,
    "writes for 20 %": lambda part: min(1.0, part / 0.8),
    "serial, then parallel": lambda part: part / 4 if part < 0.4 else 0.1 + (part - 0.4) * 1.5,
}
"""The part of its CPU time that a run has used after a part of its time."""
CURVE_POINTS = 48


def _like(took, walltime, work):
    """An earlier run, stopped at its walltime if it needs more."""
    had = min(took, walltime)
    samples = [
        (round(1000 * had * (place + 0.5) / CURVE_POINTS), 4 * _rate(work, had / took, place), 100)
        for place in range(CURVE_POINTS)
    ]
    curve = curve_of(samples, CURVE_POINTS)
    return LikeIt(had, 4 * took * work(had / took), took > walltime, 100.0, curve)


def _rate(work, whole, place):
    begin, end = whole * place / CURVE_POINTS, whole * (place + 1) / CURVE_POINTS
    return (work(min(1.0, end)) - work(begin)) / (end - begin)


def late(length, work, generous=1.0, count=EARLIER):
    """(in time, of these warned of; late, of these not warned of) of made-up runs."""
    chance, counts = random.Random(f"late {length} {work} {generous} {count}"), [0, 0, 0, 0]
    draw, done = LENGTHS[length], WORK[work]
    for _ in range(RUNS):
        earlier = [draw(chance) for _ in range(count)]
        walltime = generous * sorted(earlier)[count * 9 // 10]
        known = [_like(one, walltime, done) for one in earlier]
        slower = chance.uniform(1.2, 2.0) if chance.random() < 0.3 else 1.0
        usual = draw(chance)
        _count(counts, usual * slower > walltime, _warned(known, walltime, usual, slower, done))
    return counts


def _warned(known, walltime, usual, slower, done):
    """Whether a run that usually takes so long is warned of, if it gets on so much more slowly."""
    for part in LOOKS:
        elapsed = part * walltime
        if elapsed < usual * slower:
            at = elapsed / slower / usual
            cpu, busy = 4 * usual * done(at), 4 * (done(at) - done(max(0.0, at - 0.01))) / min(0.01, at) / slower
            ahead = chance_late(Work(elapsed, cpu, busy), walltime, known)
            if ahead is not None and ahead.chance >= SURE:
                return True
    return False


def demo():
    """The same of the demo's year, as its runs were."""
    chance, counts, done = random.Random("late demo"), [0, 0, 0, 0], WORK["even"]
    histories = demo_year(EARLIER)
    for _ in range(DEMO_RUNS):
        runs = chance.choice(histories)
        at = chance.randrange(EARLIER, len(runs))
        took, over, walltime = runs[at]
        known = [_like(one * (1.001 if stopped else 1), one, done) for one, stopped, _ in runs[at - EARLIER : at]]
        slower = chance.uniform(1.2, 2.0) if chance.random() < 0.3 else 1.0
        if over:
            continue  # how long it needs is not known
        _count(counts, took * slower > walltime, _warned(known, walltime, took, slower, done))
    return counts


MEMORY = {
    "steady": lambda part: part,
    "levelling off": lambda part: (1 - math.exp(-4 * part)) / (1 - math.exp(-4)),
    "level from 30 % on": lambda part: min(1.0, part / 0.3),
    "ever faster": lambda part: part**2,
    "a jump at 80 %": lambda part: 0.4 if part < 0.8 else 1.0,
    "up and down": lambda part: 0.55 + 0.45 * math.sin(9 * part - 2),
}


def full(shape, count=EARLIER):
    """The same of memory that grows in some way. That it is near its limit is never false, and counts where it passes it."""
    chance, counts, asked = random.Random(f"full {shape} {count}"), [0, 0, 0, 0], 8192.0
    for _ in range(RUNS // 2):
        known = []
        while len(known) < count:
            samples, passes, took = _run(chance, shape, asked)
            if not passes:
                peak = max(mib for _, _, mib in samples)
                known.append(LikeIt(took, took, False, peak, curve_of(samples, CURVE_POINTS)))
        samples, passes, took = _run(chance, shape, asked)
        warned = near = False
        for minute in range(3, len(samples), 3):
            so_far = samples[:minute]
            ahead = chance_full([mib for _, _, mib in so_far], minute * 60, asked, known)
            warned = warned or (ahead is not None and ahead.chance >= SURE_OF_MEMORY)
            near = near or so_far[-1][2] >= asked * TIGHT
        _count(counts, passes, warned or (passes and near))
    return counts


def _run(chance, shape, asked):
    """(samples, whether it passes what was asked for, the seconds it takes) of a run."""
    end, minutes = asked * _end(chance), round(60 * math.exp(chance.gauss(0, 0.08)))
    samples = []
    for minute in range(minutes):
        mib = end * MEMORY[shape]((minute + 1) / minutes) * math.exp(chance.gauss(0, 0.005))
        if mib > asked:
            return samples, True, minutes * 60
        samples.append((minute * 60_000, 1.0, max(1, round(mib))))
    return samples, False, minutes * 60


def _end(chance):
    """The peak of memory as a part of what was requested: about one in six passes it."""
    return 0.7 * math.exp(chance.gauss(0, 0.35))


def _count(counts, bad, warned):
    counts[2 if bad else 0] += 1
    counts[3 if bad else 1] += bool(warned) is not bad


def rows():
    """(what, runs in time or within, of these warned of falsely, runs that were not, of these not warned of)."""
    for length in LENGTHS:
        for work in WORK:
            yield f"late: {length}, {work}", *late(length, work)
    yield f"late: narrow, even, {FEW} before", *late("narrow", "even", count=FEW)
    yield f"late: narrow, reads for 30 %, {FEW} before", *late("narrow", "reads for 30 %", count=FEW)
    for work in WORK:
        yield f"late: narrow, {work}, three times the walltime", *late("narrow", work, 3.0)
    yield "late: the demo's year", *demo()
    for shape in MEMORY:
        yield f"memory: {shape}", *full(shape)
        yield f"memory: {shape}, {FEW} before", *full(shape, FEW)


def figures(best):
    for what, well, false, bad, missed in rows():
        name = "-".join("".join(letter if letter.isalnum() else " " for letter in what).split())
        yield f"warned-{name}-falsely", false / max(1, well), "of those in time", 1.0, 0.06
        if bad >= 30:
            yield f"warned-{name}-missed", missed / max(1, bad), "of those that were not", 1.0, 0.45


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
