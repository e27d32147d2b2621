"""A site's nodes as arrays."""

from collections import Counter

import numpy as np

from lazy_quarry.core.site import Site


class NodeTable:
    """The nodes that run jobs, each known by its place: ``capacity`` (4 × nodes: cores, memory in MiB, GPUs, scratch in MiB).

    ``rank`` (nodes) orders them by name; ``traits`` and ``queues`` (nodes) count the traits of each, and the queues that it is in.
    """

    def __init__(self, site: Site) -> None:
        nodes = [node for node in site.nodes if node.runs_jobs]
        self.names = [node.name for node in nodes]
        self.index = {name: number for number, name in enumerate(self.names)}
        self.capacity = np.array(
            [(node.cores, node.memory_mib, node.gpus, node.scratch_mib) for node in nodes], dtype=np.int32
        ).T.reshape(4, len(nodes))
        self.numbers = np.arange(len(self.names))
        self.traits = np.array([len(node.traits) for node in nodes], dtype=np.int64)
        in_queues = Counter(name for queue in site.queues for name in queue.nodes)
        self.queues = np.array([in_queues[name] for name in self.names], dtype=np.int64)
        order = sorted(range(len(nodes)), key=lambda number: self.names[number])
        self.rank = np.empty(len(nodes), dtype=np.int64)
        self.rank[order] = np.arange(len(nodes))
        self.rank_of = self.rank.tolist().__getitem__
        """The same of one node."""
