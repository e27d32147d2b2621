"""The share of advice that would have been too small, and its size, by the number of runs; beside a fixed margin.

``python -m bench.advising docs/advice.md`` writes the table into the page; without a page it is that of other seeds.
"""

import math
import random
import sys
from dataclasses import dataclass
from pathlib import Path
from statistics import median

from bench.tables import put
from lazy_quarry.core.advice.next_time import Measured, bound_of, round_time
from lazy_quarry.demo.past import ran
from lazy_quarry.demo.people import arrivals
from lazy_quarry.demo.site import BEGINS_MS, oxbow

COUNTS = (3, 5, 10, 30, 60, 100)
HISTORIES = 3000
MARGIN = 1.5
"""The fixed rule: a half more than the longest run so far."""
NINETY_EIGHT = 2.0537
"""Standard normal quantile of 98 in 100."""


@dataclass(frozen=True)
class History:
    """Runs, oldest first, with their seconds, whether that was enough, and parameters; the run that came after.

    ``least`` is the smallest walltime that at most one in fifty such runs needs more than, for who knows how they are made.
    """

    runs: list[tuple[float, bool, tuple[tuple[str, str], ...]]]
    took_s: float
    least: float
    parameters: tuple[tuple[str, str], ...] = ()


def _spread(deviation):
    """Logarithms that differ by this deviation."""

    def made(chance, count):
        values = [1800 * math.exp(chance.gauss(0, deviation)) for _ in range(count + 1)]
        return _plain(values, 1800 * math.exp(NINETY_EIGHT * deviation))

    return made


def _plain(values, least):
    return History([(one, True, ()) for one in values[:-1]], values[-1], least)


def _drawn(draw, least):
    return lambda chance, count: _plain([draw(chance) for _ in range(count + 1)], least)


def _humps(parts, deviation):
    """Runs of several kinds: (share, seconds) of each."""

    def draw(chance):
        (middle,) = chance.choices([one for _, one in parts], [share for share, _ in parts])
        return middle * math.exp(chance.gauss(0, deviation))

    low, high = 1.0, 1e7
    while high / low > 1.0001:
        least = math.sqrt(low * high)
        above = sum(share * _passed(math.log(least / one) / deviation) for share, one in parts)
        low, high = (least, high) if above > 0.02 else (low, least)
    return _drawn(draw, high)


def _passed(z):
    return 0.5 * math.erfc(z / math.sqrt(2))


def _sized(law, deviation, sizes, ahead=None):
    """Runs that follow a size; ``ahead`` is that of the next, else one of the same."""

    def made(chance, count):
        def one(size):
            return law(size) * math.exp(chance.gauss(0, deviation)), True, (("cells", str(size)),)

        runs = [one(chance.choice(sizes)) for _ in range(count)]
        size = ahead or chance.choice(sizes)
        return History(runs, one(size)[0], law(size) * math.exp(NINETY_EIGHT * deviation), (("cells", str(size)),))

    return made


def _stopped(deviation):
    """Half of the runs reach their walltime."""

    def made(chance, count):
        values = [1800 * math.exp(chance.gauss(0, deviation)) for _ in range(count + 1)]
        runs = [(min(one, 1800), one <= 1800, ()) for one in values[:-1]]
        return History(runs, values[-1], 1800 * math.exp(NINETY_EIGHT * deviation))

    return made


def _over_time(factor, deviation):
    """``factor(at, count)`` times as long as usual at each run."""

    def made(chance, count):
        values = [1800 * factor(at, count) * math.exp(chance.gauss(0, deviation)) for at in range(count + 1)]
        return _plain(values, 1800 * factor(count, count) * math.exp(NINETY_EIGHT * deviation))

    return made


def _updated_lately(chance, count):
    """All are slower from some run of the last three quarters on, one of the last at the latest."""
    since = chance.randrange(count // 4, max(count // 4 + 1, count - 1))
    return _over_time(lambda at, _: 1.6 if at > since else 1.0, 0.15)(chance, count)


def _weekly(chance, count):
    """Two in seven runs take longer: those of weekends."""
    first = chance.randrange(7)
    values = [1800 * (1.8 if (at + first) % 7 > 4 else 1) * math.exp(chance.gauss(0, 0.1)) for at in range(count)]
    coming = 1800 * (1.8 if chance.random() < 2 / 7 else 1) * math.exp(chance.gauss(0, 0.1))
    return _plain([*values, coming], 1800 * 1.8 * math.exp(1.476 * 0.1))


def _walking(chance, count):
    """Each run begins where the one before was, and a little aside."""
    level, values, levels = math.log(1800), [], []
    for _ in range(count + 1):
        levels.append(level)
        values.append(math.exp(level + chance.gauss(0, 0.1)))
        level += chance.gauss(0, 0.05)
    return _plain(values, math.exp(levels[-2] + NINETY_EIGHT * math.hypot(0.1, 0.05)))


CELLS, FEWER_CELLS = (1, 2, 3, 4, 6, 8, 12), (1, 2, 4, 8, 16)
SHAPES = {
    "narrow": _spread(0.05),
    "middling": _spread(0.3),
    "wide": _spread(0.6),
    "two humps": _humps([(0.6, 900), (0.4, 4000)], 0.1),
    "three humps": _humps([(0.5, 900), (0.35, 2500), (0.15, 7000)], 0.1),
    "one in a hundred is long": _humps([(0.99, 1200), (0.01, 14_400)], 0.1),
    "growing with a parameter": _sized(lambda cells: 120 * cells**1.4, 0.12, CELLS),
    "with a set-up time": _sized(lambda cells: 600 + 60 * cells, 0.05, FEWER_CELLS),
    "beyond the sizes seen": _sized(lambda cells: 600 + 60 * cells, 0.05, FEWER_CELLS, ahead=64),
    "half are stopped, narrow": _stopped(0.2),
    "half are stopped, wide": _stopped(0.6),
    "3 % more each run": _over_time(lambda at, count: 1.03**at, 0.1),
    "3 % more each run, wide": _over_time(lambda at, count: 1.03**at, 0.3),
    "1.6 times as long since half": _over_time(lambda at, count: 1.6 if at >= count // 2 else 1.0, 0.1),
    "the same, wide": _over_time(lambda at, count: 1.6 if at >= count // 2 else 1.0, 0.3),
    "1.6 times as long since any": _updated_lately,
    "half as long since half": _over_time(lambda at, count: 0.5 if at >= count // 2 else 1.0, 0.15),
    "heavy tail (Pareto 1.5)": _drawn(lambda chance: 600 * chance.paretovariate(1.5), 600 * 50 ** (1 / 1.5)),
    "exponential": _drawn(lambda chance: 60 + chance.expovariate(1 / 1800), 60 + 1800 * math.log(50)),
    "anything between": _drawn(lambda chance: chance.uniform(600, 3600), 3540),
    "longer at weekends": _weekly,
    "walking": _walking,
}


def demo_year(count):
    """Runs of one name on the demo, and the one that came after: from a year of its people, those that came to their end."""
    by_name = {}
    stream = arrivals("7:past", BEGINS_MS - 365 * 86_400_000, 105)
    for job in ran(oxbow(), stream, 1, frozenset()):
        if (job.ended_ms or 0) > BEGINS_MS:
            break
        key = job.user, job.request.name
        took = (job.ended_ms - job.started_ms) / 1000
        by_name.setdefault(key, []).append((took, job.phase == "overtime", job.request.walltime_s))
    return [runs for runs in by_name.values() if len(runs) > count]


@dataclass(frozen=True)
class Tried:
    """Shares of histories, and medians of what was asked for in times of the least that would do."""

    promised: float
    small: float
    """Of those of which something was promised, where it was too small; and of all."""
    small_of_all: float
    asked: float
    asked_of_all: float
    fixed_small: float
    fixed_asked: float


def tried(histories):
    """Advise on each history, and hold that against what came."""
    count = promised = small = small_of_all = fixed_small = 0
    asked, asked_of_all, fixed_asked = [], [], []
    for one in histories:
        known = [Measured(value, enough, own, at) for at, (value, enough, own) in enumerate(one.runs)]
        bound = bound_of(known[::-1], [one.parameters] if one.parameters else [])
        advice, margin = round_time(bound.value), round_time(MARGIN * max(value for value, _, _ in one.runs))
        count, late = count + 1, one.took_s > advice
        small_of_all, fixed_small = small_of_all + late, fixed_small + (one.took_s > margin)
        asked_of_all.append(advice / one.least)
        fixed_asked.append(margin / one.least)
        if bound.doubt is None:
            promised, small = promised + 1, small + late
            asked.append(advice / one.least)
    return Tried(
        promised / count,
        small / promised if promised else 0.0,
        small_of_all / count,
        median(asked) if asked else 0.0,
        median(asked_of_all),
        fixed_small / count,
        median(fixed_asked),
    )


def made_up(shape, count, histories, seed=""):
    """Histories of one shape with so many runs."""
    chance = random.Random(f"{seed}{shape} {count}")
    return (SHAPES[shape](chance, count) for _ in range(histories))


def of_demo(count, histories):
    """Histories of the demo's year; the least that would do isn't known there, so what the run took stands for it."""
    chance, known = random.Random("demo"), demo_year(count)
    for runs in known:
        for _ in range(max(1, histories // len(known))):
            at = chance.randrange(count, len(runs))
            took, late, _ = runs[at]
            if not late:
                yield History([(value, not stopped, ()) for value, stopped, _ in runs[at - count : at]], took, took)


def rows(counts=COUNTS, histories=HISTORIES, seed=""):
    """(history, how it did with so many runs, for each)."""
    for shape in SHAPES:
        yield shape, [tried(made_up(shape, count, histories, seed)) for count in counts]
    yield "the demo's year", [tried(of_demo(count, histories)) for count in counts]


SELDOM_PROMISED, FEWER_HISTORIES = 0.05, 800
"""Where it is promised less often, the runs look alike by chance. The figures are from fewer histories than the table."""


def figures(best):
    counts = [count for count in COUNTS if count >= 10]
    for shape, found in rows(counts, FEWER_HISTORIES):
        name = "-".join("".join(letter if letter.isalnum() else " " for letter in shape).split())
        for count, one in zip(counts, found, strict=True):
            if one.promised > SELDOM_PROMISED:
                yield f"advice-{name}-{count}", one.small, "too small", 1.0, 0.035


def table(seed=""):
    """The table of docs/advice.md."""
    yield f"| history | {' | '.join(f'{count} runs' for count in COUNTS)} | a half more, from 10 | from 100 |"
    yield f"| --- |{' ---: |' * (len(COUNTS) + 2)}"
    for shape, found in rows(seed=seed):
        fixed = [found[COUNTS.index(count)] for count in (10, 100)]
        cells = [*map(_cell, found), *(f"{one.fixed_small:.1%}, {one.fixed_asked:.2f}" for one in fixed)]
        yield f"| {shape} | {' | '.join(cells)} |"


def _cell(one):
    if one.promised > SELDOM_PROMISED:
        often = "" if one.promised > 0.995 else f" ({one.promised:.0%})"
        return f"**{one.small:.1%}**, {one.asked:.2f}{often}"
    return f"{one.small_of_all:.1%}, {one.asked_of_all:.2f}"


if __name__ == "__main__":
    if len(sys.argv) > 1:
        put(Path(sys.argv[1]), "table", table())
    else:
        print("\n".join(table("another ")))
