"""Replays a trace under the policies of the plan, on a pool of cores.

Jobs may span nodes and ask for nothing but cores, so a cluster is one pool here, and a plan of it a single
row of free cores over time: what :class:`~lazy_quarry.core.plan.planner.Planner` works out for one node,
only quicker (a test holds the two together). No grace is counted. Times are seconds as in the trace.

At equal instants ends come before submissions before planning.
"""

from typing import Literal, get_args

import numpy as np
from msgspec import Struct

from lazy_quarry.study.columns import Progress
from lazy_quarry.study.easy import easy
from lazy_quarry.study.first_come import first_come
from lazy_quarry.study.planned import planned
from lazy_quarry.study.swf import Trace

Policy = Literal["first-come", "easy", "planned"]
POLICIES: tuple[Policy, ...] = get_args(Policy)
SHORTEST_S = 10.0
"""Runs shorter than this count as so long in the bounded slowdown (Feitelson and others, JSSPP 1997)."""
_POLICIES = {"first-come": first_come, "easy": easy, "planned": planned}


class Replayed(Struct, frozen=True):
    """When each job of a trace started, in its order, and what that amounts to."""

    policy: Policy
    trace: Trace
    cores: int
    starts: tuple[float, ...]

    @property
    def makespan_s(self) -> float:
        """From the first submission to the last end."""
        if not self.starts:
            return 0.0
        last = max(start + job.run_s for start, job in zip(self.starts, self.trace.jobs, strict=True))
        return last - self.trace.jobs[0].submit_s

    @property
    def waits_s(self) -> np.ndarray:
        """Wait of each job in seconds."""
        return np.array([start - job.submit_s for start, job in zip(self.starts, self.trace.jobs, strict=True)])

    @property
    def wait_mean_s(self) -> float:
        """The mean of the waits."""
        return float(self.waits_s.mean()) if self.starts else 0.0

    @property
    def wait_p95_s(self) -> float:
        """The 95th percentile of the waits, interpolated between neighbours."""
        return float(np.percentile(self.waits_s, 95)) if self.starts else 0.0

    @property
    def slowdown_mean(self) -> float:
        """Mean bounded slowdown: (wait + run) / max(run, 10 s), at least 1."""
        if not self.starts:
            return 0.0
        run = np.array([job.run_s for job in self.trace.jobs])
        return float(np.maximum(1.0, (self.waits_s + run) / np.maximum(run, SHORTEST_S)).mean())

    @property
    def use(self) -> float:
        """Share of the cluster's cores that ran jobs, over the makespan."""
        span = self.makespan_s
        return sum(job.cores * job.run_s for job in self.trace.jobs) / (self.cores * span) if span else 0.0


def replay(trace: Trace, cores: int, policy: Policy, told: Progress | None = None) -> Replayed:
    """Replay a trace under a policy. ``told`` is called now and then with the number of jobs that have started."""
    run = _POLICIES[policy]
    return Replayed(policy, trace, cores, tuple(run(trace.columns, cores, told or (lambda started: None))))
