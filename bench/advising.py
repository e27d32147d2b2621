"""The share of advice that would have been too small, and its size, by the number of runs; beside a fixed margin.

``python -m bench.advising docs/advice.md`` writes the table into the page.
"""

import math
import random
import sys
from pathlib import Path

from bench.tables import put
from lazy_quarry.core.advice.next_time import RunToLearnFrom, next_time, round_time
from lazy_quarry.demo.past import ran
from lazy_quarry.demo.people import arrivals
from lazy_quarry.demo.site import BEGINS_MS, oxbow

COUNTS = (3, 5, 10, 30, 100)
HISTORIES = 3000
MARGIN = 1.5
"""The fixed rule: a half more than the longest run so far."""


def _narrow(chance, size):
    return 1800 * math.exp(chance.gauss(0, 0.05)), ()


def _wide(chance, size):
    return 1800 * math.exp(chance.gauss(0, 0.6)), ()


def _humps(chance, size):
    return (900 if chance.random() < 0.6 else 4000) * math.exp(chance.gauss(0, 0.1)), ()


def _growing(chance, size):
    cells = chance.choice((1, 2, 3, 4, 6, 8, 12))
    return 120 * cells**1.4 * math.exp(chance.gauss(0, 0.12)), (("cells", str(cells)),)


SHAPES = {"narrow": _narrow, "wide": _wide, "two humps": _humps, "growing with a parameter": _growing}


def made_up(shape):
    """Histories of one shape, each with a run that came after it."""
    chance = random.Random(shape)
    while True:
        yield lambda: SHAPES[shape](chance, None)


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


def tried(histories):
    """(too small by advice, by the fixed margin, seconds asked for by each, seconds taken) of histories with what came next."""
    small = fixed = total = 0
    asked = fixed_asked = taken = 0.0
    for runs, (took, own) in histories:
        past = [RunToLearnFrom(value, 0.0, 1, 1.0, 0, 0.0, parameters=parameters) for value, parameters in runs]
        advice = next_time(past, [own] if own else ()).walltime_s
        margin = round_time(MARGIN * max(value for value, _ in runs))
        small, fixed, total = small + (took > advice), fixed + (took > margin), total + 1
        asked, fixed_asked, taken = asked + advice, fixed_asked + margin, taken + took
    return small / total, fixed / total, asked / total, fixed_asked / total, taken / total


def rows():
    """(history, runs, then as :func:`tried`)."""
    for shape in SHAPES:
        chance = random.Random(shape)
        for count in COUNTS:
            histories = []
            for _ in range(HISTORIES):
                drawn = [SHAPES[shape](chance, None) for _ in range(count + 1)]
                histories.append((drawn[:-1], drawn[-1]))
            yield shape, count, *tried(histories)
    chance = random.Random("demo")
    for count in COUNTS:
        known, histories = demo_year(count), []
        for runs in known:
            for _ in range(max(1, HISTORIES // len(known))):
                at = chance.randrange(count, len(runs))
                took, late, _ = runs[at]
                if not late:
                    histories.append(([(value, ()) for value, _, _ in runs[at - count : at]], (took, ())))
        if histories:
            yield "the demo's year", count, *tried(histories)


def figures(best):
    for shape, count, small, *_ in rows():
        if count >= 10:
            yield f"advice-{shape.replace(' ', '-')}-{count}", small, "too small", 1.0, 0.02


def table():
    """The table of docs/advice.md."""
    yield "| history | runs | too small: advice | a half more | asked for, in times of what was needed: advice | a half more |"
    yield "| --- | ---: | ---: | ---: | ---: | ---: |"
    for shape, count, small, fixed, asked, fixed_asked, taken in rows():
        yield f"| {shape} | {count} | {small:.1%} | {fixed:.1%} | {asked / taken:.2f} | {fixed_asked / taken:.2f} |"


if __name__ == "__main__":
    if len(sys.argv) > 1:
        put(Path(sys.argv[1]), "table", table())
    else:
        print("\n".join(table()))
