"""The charges of a site for what a job holds.

On each of its nodes a job holds a share: the larger of its shares of the node's cores, memory and GPUs; of a whole node all of
it. The share times the node's size, times the factors of its traits and of the queue, is what the node counts for, in
thousandths of a core, rounded down. The sum over the nodes, times how long it was held, times the tier's factor, is the
charge in core-milliseconds, rounded down once. The site file says which shares count, and what the sizes and factors are.
"""

from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import Protocol

from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.job.needs import Need
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import SECOND_MS

Amount = tuple[int, int, int, int]
"""Cores, memory in MiB, GPUs, scratch in MiB."""
ONE = 1000
"""A core, and a factor of 1, in thousandths."""


class Held(Protocol):
    """Amounts held on one node: the allocation of a job, or of a place in the plan."""

    @property
    def node(self) -> str:
        """The node's name."""
        ...

    @property
    def amount(self) -> Amount:
        """The amount of it."""
        ...


def counted(site: Site, queue: str, held: Iterable[Held]) -> int:
    """For how many thousandths of a core all this counts while it is held.

    A node that the site no longer has counts by its cores.
    """
    factor = site.rates.factor_of(queue)
    return sum(_on(site, one.node, one.amount) for one in held) * factor // ONE


def charge(site: Site, tier: str, thousandths: int, lasting_ms: int) -> int:
    """Core-ms charged for what counts for so much, held for so long, at the tier's factor."""
    known = site.tier.get(tier)
    return thousandths * lasting_ms * (known.charge_permille if known else ONE) // (ONE * ONE)


def charge_of(site: Site, job: Job, lasting_ms: int) -> int:
    """Core-ms charged for what a job holds, for so long."""
    return charge(site, job.request.tier, counted(site, job.queue, job.allocations), max(0, lasting_ms))


def charge_so_far(site: Site, job: Job, now_ms: int) -> int:
    """Core-ms that the present attempt of a job comes to by now."""
    return 0 if job.started_ms is None else charge_of(site, job, now_ms - job.started_ms)


def is_free(site: Site, phase: Phase, again: bool, gave_way: bool) -> bool:
    """True when an attempt that ended so is charged nothing. ``again``: it did not do, and another attempt follows."""
    words = {"gave-way"} if gave_way else {phase.value, *(["retried"] if again else [])}
    return not words.isdisjoint(site.rates.free)


def most_counted(site: Site, need: Need) -> int:
    """For how many thousandths of a core a job counts at most, on whichever nodes of the need."""
    if need.whole:
        sizes = sorted((site.node_rate[name][-1] for name in need.eligible), reverse=True)
        most = sum(sizes[: need.anywhere or need.node_count])
    elif need.anywhere:
        one = need.parts[0]
        amount = (one.cores, one.memory_mib, need.gpus, 0)
        most = need.anywhere * max((_on(site, name, amount, up=True) for name in need.eligible), default=0)
    else:
        most = sum(
            part.nodes * max(_counts(site, need.eligible, (part.cores, part.memory_mib, need.gpus, 0)), default=0)
            for part in need.parts
        )
    return -(-most * site.rates.factor_of(need.queue) // ONE)


def greatest_charge(site: Site, request: Request, need: Need, tasks: int = 1) -> int:
    """Core-ms charged at most: all of the walltime and grace, for all tasks, on those nodes of the need that count for most."""
    lasting_ms = (request.walltime_s + request.grace_s) * SECOND_MS
    return tasks * charge(site, request.tier, most_counted(site, need), lasting_ms)


def _counts(site: Site, names: Sequence[str], amount: Amount) -> Iterable[int]:
    """For how much an amount counts on each kind of node that can give it."""
    for rate in {site.node_rate[name] for name in names}:
        if amount[0] <= rate[0]:
            yield _share(rate, amount)


def _on(site: Site, name: str, amount: Amount, up: bool = False) -> int:
    rate = site.node_rate.get(name)
    return amount[0] * ONE if rate is None else _share(rate, amount, up)


@lru_cache(4096)
def _share(rate: tuple[int, int, int, int], amount: Amount, up: bool = False) -> int:
    """The largest share of a node's cores, memory and GPUs, of all that the node counts for; 0 of a kind doesn't count."""
    *capacity, size = rate
    counts = (held * size // most for held, most in zip(amount, capacity, strict=False) if most)
    return min(size, max(counts, default=0) + up)
