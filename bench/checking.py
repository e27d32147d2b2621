"""The check of the scripts that were written to keep it busy, and of a plain one of a thousand lines."""

import numpy as np

from lazy_quarry.core.header.check import CheckContext, check_script
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.demo.site import oxbow
from tests.hostile import HOSTILE

PLAIN = (
    '#!/bin/bash\n# /// job\n# walltime = "1h"\n# memory = "1 GiB/core"\n# ///\n'
    + 'prog --in "$HOME/a" > "b-$LQ_JOB"\n' * 1000
)


def figures(best):
    numbers = np.random.default_rng(1).random(1_000_000)
    sort = best(5, lambda: np.sort(numbers, kind="stable"))
    site, context = oxbow(), CheckContext("tove", Submission(""))

    def check(text: str) -> None:
        check_script(text + " ", site, context)

    from lazy_quarry.core.header.script_body import read_body

    def fresh(text: str) -> float:
        def once() -> None:
            read_body.cache_clear()
            check(text)

        return best(1, once)

    yield "check-plain", fresh(PLAIN), "s", sort, 2
    yield "check-hostile", max(fresh(text) for text in HOSTILE.values()), "s", sort, 10
