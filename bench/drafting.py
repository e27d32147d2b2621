"""What Draft asks at every key, on 1,000 nodes with 5,000 waiting jobs and the plan at hand: checks, place, ladder, cost.

The reference is NumPy's stable sort of a million numbers, about 0.1 s; the bound is the 100 ms that a
person takes for at once.
"""

import numpy as np

from bench.planning import table
from lazy_quarry.core.engine.engine import Engine, State
from lazy_quarry.probe.script import with_facts
from lazy_quarry.site.drafts import Drafts
from lazy_quarry.site.views import Submission
from lazy_quarry.store.journal import Journal

HEADERS = {
    "draft": "nodes = 4\n# ranks = 64\n# threads = 2",
    "draft-array": 'threads = 4\n#\n# [array]\n# tasks = "1..2000"\n# at-once = 200',
    "draft-anywhere": 'nodes = "any"\n# ranks = 500',
}
BODY = 'set -euo pipefail\nmpirun --hostfile "$LQ_NODES" ./program --case "$LQ_NAME"\n'


def figures(best):
    numbers = np.random.default_rng(1).random(1_000_000)
    sort = best(5, lambda: np.sort(numbers, kind="stable"))
    site, held, requests = table(1000, 2000, 5000, 500)
    engine = Engine(site, State())
    plan = engine.planner.plan(0, held, requests)
    plan.whole()
    journal = Journal(None)
    for name, header in HEADERS.items():
        text = f'#!/usr/bin/env bash\n# /// job\n# walltime = "2h"\n# memory = "2 GiB/core"\n# {header}\n# ///\n{BODY}'
        submission = Submission(text, "x.sh", "/tmp")

        def answer(submission=submission):
            looked = with_facts(submission)
            report = Drafts(engine, plan, journal, "me", (), 0).report(looked)
            assert report.cores and report.ladder, report.diagnostics

        answer()
        yield name, best(5, answer), "s", sort, 1
