"""Twelve hosts reached by SSH beside as many bare ``ssh true``, eight at a time: four hosts here, three users on each."""

import os
import subprocess
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from cluster.cluster import Cluster
from cluster.folder import CLUSTERS
from cluster.hosts import HOSTS

USERS = ("root", "imre", "salka")
AT_ONCE = 8


@dataclass(frozen=True)
class FromHead:
    """The SSH client of the head of the hosts, for the engine's own code."""

    cluster: Cluster
    name: str

    def route(self):
        from lazy_quarry.run.hosts.transport import Route

        return Route()

    def open(self, command):
        from lazy_quarry.run.hosts.transport import Ssh, piped

        return piped(self.cluster.on_head(Ssh(self.name).words(command)))


def figures(best):
    from lazy_quarry.run.hosts.reach import reach

    if os.geteuid() != 0:
        return  # nobody else's session can be opened without root
    with Cluster.made(Path(CLUSTERS) / f"bench-{os.getpid()}") as cluster, ThreadPoolExecutor(AT_ONCE) as pool:
        names = [f"{user}@{host.name}" for user in USERS for host in HOSTS]

        def bare(name: str) -> None:
            subprocess.run(
                cluster.on_head(["ssh", "-o", "BatchMode=yes", name, "true"]), check=True, capture_output=True
            )

        def connect(name: str) -> None:
            reach(FromHead(cluster, name), words=("relay", "bench")).close()

        def seconds(work) -> float:
            began = time.perf_counter()
            list(pool.map(work, names))
            return time.perf_counter() - began

        seconds(connect)  # the agents are there from now on, as they are whenever something runs
        pairs = [(seconds(connect), seconds(bare)) for _ in range(5)]
        value, reference = min(one for one, _ in pairs), min(other for _, other in pairs)
        yield "hosts-connected", value, "s", reference, 1.5
