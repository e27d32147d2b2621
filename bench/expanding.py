"""A sweep of a million tasks, opened, found in and sorted, its first fifty tasks made; and a chain of 200 laid out."""

import numpy as np

from lazy_quarry.core.chain.graph import layers
from lazy_quarry.core.job.expansion import Expansion
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.job.sweep import Array, Parameter


def figures(best):
    numbers = np.random.default_rng(1).random(1_000_000)
    sort = best(5, lambda: np.sort(numbers, kind="stable"))
    values = tuple(str(number) for number in range(1000))
    array = Array(((1, 10**6, 1),), None, ((Parameter("a", values),), (Parameter("b", values),)))
    request = Request("n", "a", ("q",), "t", 60, Memory(1), output="{job}-{task}.txt", array=array)

    def opened() -> None:
        found = Expansion(request, ["run $a $b"], ["x-$a-$b.txt"])
        found.clashes()
        list(found.rows(0, 50))

    found = Expansion(request, ["run $a $b"], ["x-$a-$b.txt"])

    def shown() -> None:
        found.show("77", "b", True)
        list(found.rows(0, 50))

    waits = {
        f"j{n}": tuple((f"j{m}", "succeeds") for m in sorted({n // 2, n // 3, n - 7}) if 0 <= m < n) for n in range(200)
    }

    yield "chain-layout-200", best(5, lambda: layers(waits)), "s", sort, 1
    yield "expand-million", best(5, opened), "s", sort, 0.5
    yield "expand-million-found-sorted", best(5, shown), "s", sort, 2
