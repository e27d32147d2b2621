"""``make bench``: a line a figure: name value unit reference ratio bound ok|missed. Exit 1 on a miss.

Absolute times aren't stable from one machine or minute to the next; ratios to a reference taken beside
them are. Each is the best of a few, which is what the code costs when nothing else disturbs it.
"""

import gc
import os
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass

from bench import (
    advising,
    arrays,
    books,
    checking,
    commands,
    connections,
    drafting,
    expanding,
    forecasting,
    inside,
    jobs,
    journal,
    large,
    planning,
    replaying,
    searching,
    starting,
    studying,
    warning,
    watching,
)


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


def best(of: int, work: Callable[[], object]) -> float:
    """Seconds of the quickest of several runs."""
    quickest = float("inf")
    for _ in range(of):
        gc.collect()
        began = time.perf_counter()
        work()
        quickest = min(quickest, time.perf_counter() - began)
    return quickest


def main() -> None:
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program has its bytecode, so the one measured has
    wanted = sys.argv[1:]
    missed = False
    for module in (
        planning,
        large,
        replaying,
        searching,
        books,
        advising,
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
        commands,
        starting,
        watching,
    ):
        if wanted and module.__name__.removeprefix("bench.") not in wanted:
            continue
        for name, value, unit, reference, bound in module.figures(best):
            figure = Figure(name, value, unit, reference, bound)
            print(figure.line(), flush=True)
            missed = missed or figure.ratio > bound
    sys.exit(1 if missed else 0)


main()
