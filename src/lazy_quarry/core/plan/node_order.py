"""The order in which a request takes nodes: from the request and the site alone, never from what is free.

So a job finds the same nodes when it is planned and when it starts, whatever has started behind it meanwhile: that took
nothing of its place, and of the nodes that are left its own still come first. An order by what is free *now* packs as well, but a
job then changes its nodes when its planned start arrives, and jobs behind it shift. docs/policies.md has mean waits with
others: wide jobs from the other end, which leaves nodes broken in the middle, cost a tenth more on the demo's own past.
"""

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.job.needs import Need
from lazy_quarry.core.plan.node_table import NodeTable
from lazy_quarry.core.plan.placement import CORES, GPUS, MEMORY


def node_order(
    table: NodeTable, nodes: NDArray[np.int64] | slice, need: Need, measure: int | None = None
) -> NDArray[np.int64]:
    """For each of ``nodes`` its place in the order, from 0: those to take first are the least.

    Fewest traits first, as those that weren't requested are left for others; then nodes of the fewest queues, as jobs of the
    others have only those; then the smallest that fits; then by name. With a ``measure`` that is limited (cores or GPUs), first of
    all the nodes of which whole ones have the least, or that hold the most ranks.
    """
    capacity, rank = table.capacity[:, nodes].astype(np.int64), table.rank[nodes]
    first = np.zeros(len(rank), dtype=np.int64)
    if measure is not None and need.anywhere:
        first = -_hosted(capacity, need)
    elif measure is not None and need.whole:
        first = capacity[measure]
    keys = (rank, capacity[MEMORY], capacity[CORES], capacity[GPUS], table.queues[nodes], table.traits[nodes], first)
    order = np.empty(len(rank), dtype=np.int64)
    order[np.lexsort(keys)] = np.arange(len(rank))
    return order


def _hosted(capacity: NDArray[np.int64], need: Need) -> NDArray[np.int64]:
    """The most ranks that each node can hold."""
    hosted = np.zeros(capacity.shape[1], dtype=np.int64)
    for part in need.parts:
        hosted += (capacity[CORES] >= part.cores) & (capacity[MEMORY] >= part.memory_mib)
    return hosted
