"""The call that Draft makes at every key, on 1,000 nodes with 5,000 waiting jobs and the plan at hand: checks, place, ladder, cost.

The reference is NumPy's stable sort of a million numbers, about 0.1 s; the bound is the 100 ms that a
person takes for at once.
"""

import numpy as np

from bench.planning import table
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.plan.plan import make_plan
from lazy_quarry.probe.script import with_surroundings
from lazy_quarry.run.rehearsal import RehearsalRunner
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.session import Session
from lazy_quarry.site.site_in_use import SiteInUse
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
    used = SiteInUse(Session(site, Journal(None), RehearsalRunner(1), clock=lambda: 0))
    plans = used.session.engine.plans
    plans._kept, plans._order_until_ms = make_plan(plans.planner, 0, held, requests), 2**62  # the plan at hand
    plans._kept.whole()
    for name, header in HEADERS.items():
        text = f'#!/usr/bin/env bash\n# /// job\n# walltime = "2h"\n# memory = "2 GiB/core"\n# {header}\n# ///\n{BODY}'
        submission = Submission(text, "x.sh", "/tmp")

        def answer(submission=submission):
            looked = with_surroundings(submission)
            report = used.drafts.check(Caller("me"), looked)
            assert report.shape.cores and report.starts.ladder, report.diagnostics

        answer()
        yield name, best(5, answer), "s", sort, 1
