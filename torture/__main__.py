"""Try the program hard for some minutes and print what came of it; exit 1 when a promise was broken.

``python -m torture [--minutes 10] [--seed N]``: the same seed makes the same choices. What the machine does in between is not the
same each time, so a broken promise is printed with all that is known of it.
"""

import argparse
import os
import random
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from torture.disks import fill_disks
from torture.journals import damage_journals
from torture.rounds import Rounds

SHARES = {"damaged journals": 0.15, "full disks": 0.15}
"""Parts of the time; the rest goes to rounds of kills."""


def main() -> int:
    """Run the whole trial."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--seed", type=int, default=random.SystemRandom().randrange(10**6))
    given = parser.parse_args()
    print(f"seed {given.seed}, {given.minutes:g} minutes", flush=True)
    seconds, figures, broken = given.minutes * 60, Counter[str](), list[str]()
    with tempfile.TemporaryDirectory(prefix="lq-torture-") as base:
        for name, trial in (("damaged journals", damage_journals), ("full disks", fill_disks)):
            chance = random.Random(f"{given.seed} {name}")
            trial(Path(base), chance, time.monotonic() + SHARES[name] * seconds, figures, broken)
        rounds = Rounds(Path(base), random.Random(f"{given.seed} rounds"), figures, broken)
        rounds.run(time.monotonic() + (1 - sum(SHARES.values())) * seconds)
    for name, count in sorted(figures.items()):
        print(f"{name:<44} {count:>8,}")
    for one in broken:
        print(f"BROKEN: {one}")
    print("every promise was kept" if not broken else f"{len(broken)} promises were broken")
    return 1 if broken else 0


if __name__ == "__main__":
    code = main()
    sys.stdout.flush()
    os._exit(code)
