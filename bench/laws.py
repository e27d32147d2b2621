"""How often the ranges of scaling and growth hold, on made-up runs of known laws.

``python -m bench.laws docs/advice.md`` writes the table into the page.
"""

import math
import random
import sys
from pathlib import Path

from bench.tables import put
from lazy_quarry.core.advice.growth_law import growth_law
from lazy_quarry.core.advice.scaling import scaling

RUNS = 300
NOISES = (0.01, 0.05, 0.2)
"""Deviations of the logarithms of runs."""
SIZES, TWICE, FAR = (10, 20, 50, 100, 200), 2, 4
LAWS = {
    "size^1.3": lambda size: 2 * size**1.3,
    "600 s + 6 s × size": lambda size: 600 + 6 * size,
    "600 s + 0.3 s × size^1.5": lambda size: 600 + 0.3 * size**1.5,
    "300 s + 0.02 s × size²": lambda size: 300 + 0.02 * size * size,
    "size × log(size)": lambda size: size * math.log(size),
}
CORES = (1, 2, 4, 8, 16)
SERIAL = (0.0, 0.02, 0.1, 0.4)


def grown(law, noise, times):
    """(share of further runs within the range, its end over its begin in the middle), so many times beyond the largest size."""
    chance, held, widths = random.Random(f"{law} {noise} {times}"), 0, []

    def run(size):
        return LAWS[law](size) * math.exp(chance.gauss(0, noise))

    for _ in range(RUNS):
        found = growth_law([(size, run(size)) for size in SIZES for _ in range(TWICE)])
        low, _, high = found.at(SIZES[-1] * times)
        held += low <= run(SIZES[-1] * times) <= high
        widths.append(high / low)
    return held / RUNS, sorted(widths)[RUNS // 2]


def serial(part, noise):
    """(share of ranges that the serial part lies in, their width in the middle)."""
    chance, held, widths = random.Random(f"serial {part} {noise}"), 0, []
    for _ in range(RUNS):
        seconds = [
            (n, 1000 * (part + (1 - part) / n) * math.exp(chance.gauss(0, noise))) for n in CORES for _ in range(TWICE)
        ]
        fit = scaling(seconds).fit
        held += fit.serial_low <= part <= fit.serial_high
        widths.append(fit.serial_high - fit.serial_low)
    return held / RUNS, sorted(widths)[RUNS // 2]


def figures(best):
    for law in LAWS:
        held, _ = grown(law, 0.05, FAR)
        name = "-".join("".join(letter if letter.isalnum() else " " for letter in law).split())
        yield f"law-{name}", 1 - held, "outside its range", 1.0, 0.9 if "log" in law else 0.35
    yield "law-serial", 1 - serial(0.1, 0.05)[0], "outside its range", 1.0, 0.35


def table():
    """The table of docs/advice.md."""
    yield f"| law, {len(SIZES) * TWICE} runs | {' | '.join(f'they differ by {noise:.0%}' for noise in NOISES)} |"
    yield f"| --- |{' ---: |' * len(NOISES)}"
    for law in LAWS:
        for times, where in ((1, "within the sizes"), (FAR, f"{FAR} times beyond")):
            cells = [grown(law, noise, times) for noise in NOISES]
            yield f"| {law}, {where} | {' | '.join(f'{held:.0%}, × {width:.2f}' for held, width in cells)} |"
    for part in SERIAL:
        cells = [serial(part, noise) for noise in NOISES]
        yield f"| {part:.0%} serial | {' | '.join(f'{held:.0%}, {100 * width:.1f} points' for held, width in cells)} |"


if __name__ == "__main__":
    if len(sys.argv) > 1:
        put(Path(sys.argv[1]), "laws", table())
    else:
        print("\n".join(table()))
