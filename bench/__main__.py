"""``make bench``: a line a figure: name value unit reference ratio bound ok|missed. Exit 1 on a miss.

Absolute times aren't stable from one machine or minute to the next; ratios to a reference taken beside
them are. Each is the best of a few, which is what the code costs when nothing else disturbs it. With ``QUICK=1`` only what a
careless change breaks first, each against twice its bound, in two minutes.
"""

import os
import sys
from dataclasses import dataclass

from bench import (
    advising,
    arrays,
    beside,
    books,
    channel,
    checking,
    commands,
    connections,
    drafting,
    expanding,
    files,
    forecasting,
    hosts,
    inside,
    jobs,
    journal,
    large,
    laws,
    planning,
    replaying,
    searching,
    starting,
    studying,
    terminal,
    warning,
    watching,
)
from bench.timing import best


@dataclass(frozen=True)
class Figure:
    name: str
    value: float
    unit: str
    reference: float
    bound: float

    @property
    def ratio(self) -> float:
        return self.value / self.reference

    def line(self) -> str:
        verdict = "ok" if self.ratio <= self.bound else "missed"
        return (
            f"{self.name} {self.value:.4g} {self.unit} {self.reference:.4g} {self.ratio:.2f} {self.bound:g} {verdict}"
        )


QUICK: dict[str, set[str]] = {
    "planning": {"replan"},
    "large": {"starting", "submit-100k", "board-first", "board-unchanged", "board-one-changed"},
    "commands": {"jobs", "submit"},
    "watching": {"watch-step", "watch-page", "watch-refresh"},
}
"""The figures of each group that are measured in short: none that follows the disk or the garbage collector."""
QUICK_SLACK = 2.0


def main() -> None:
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program has its bytecode, so the one measured has
    quick = os.environ.get("QUICK", "") not in ("", "0")
    wanted = sys.argv[1:] or (list(QUICK) if quick else [])
    missed = False
    for module in (
        planning,
        large,
        replaying,
        searching,
        books,
        advising,
        laws,
        warning,
        forecasting,
        studying,
        arrays,
        expanding,
        inside,
        checking,
        drafting,
        journal,
        jobs,
        connections,
        channel,
        hosts,
        files,
        beside,
        commands,
        starting,
        watching,
        terminal,
    ):
        group = module.__name__.removeprefix("bench.")
        if wanted and group not in wanted:
            continue
        left = set(QUICK.get(group, ())) if quick else None
        for name, value, unit, reference, bound in module.figures(best):
            if left is None or name in left:
                figure = Figure(name, value, unit, reference, bound * (QUICK_SLACK if quick else 1))
                print(figure.line(), flush=True)
                missed = missed or figure.ratio > figure.bound
            if left is not None:
                left.discard(name)
                if not left:
                    break
    sys.exit(1 if missed else 0)


main()
