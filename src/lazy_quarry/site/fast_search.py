"""Loads the compiled search on a site where it pays, without making anybody wait for it.

Compiling takes seconds the first time, loading what was compiled about one. So a process of its own compiles, a thread
loads, and until both are done the plan is made without.
"""

import subprocess
import sys
import threading
from contextlib import suppress
from importlib import import_module
from importlib.util import find_spec
from types import ModuleType

from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan.placement import PlanRequest
from lazy_quarry.core.plan.plan import make_plan
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Account, Node, Queue, Site, Tier

PAYS_FROM = 100_000
"""Waiting jobs × nodes from which on it is loaded: below, all of it is done in less time than loading takes."""


class FastSearch:
    """The compiled search for one planner."""

    def __init__(self, planner: Planner) -> None:
        self.planner = planner
        self.loading: threading.Thread | None = None

    def consider(self, waiting: int) -> None:
        """Begin to load it when so many jobs wait that it pays, and Numba is there."""
        if self.loading is not None or waiting * len(self.planner.table.names) < PAYS_FROM or not find_spec("numba"):
            return
        self.loading = threading.Thread(target=self._load, daemon=True, name="fast-search")
        self.loading.start()

    def _load(self) -> None:
        with suppress(OSError, ImportError):  # without, places are found all the same
            subprocess.run([sys.executable, "-m", __name__], stdin=subprocess.DEVNULL, capture_output=True, check=False)
            self.planner.kernels = loaded()


def loaded() -> ModuleType:
    """The compiled search, with everything in it compiled or read from where that is kept."""
    kernels = import_module("lazy_quarry.core.plan.compiled")
    nodes = tuple(Node(name, 4, 4096) for name in ("a", "b"))
    site = Site("warm", "rehearsal", nodes, (Queue("q", ("a", "b")),), (Account("a"),), (Tier("t"),), "q", "t")
    planner = Planner(site)
    planner.kernels = kernels
    requests = [Request("w", "a", ("q",), "t", 60, Memory(64), count, count or 4) for count in (None, 2, None)]
    len(make_plan(planner, 0, (), [PlanRequest(number, one) for number, one in enumerate(requests)]).placements)
    return kernels


if __name__ == "__main__":
    loaded()
