"""The fit of a request in a queue: one rule, which the reader, the planner, the limits and the explanations share.

A list of queues means that any of them will do. It opens none to a request that this queue alone would refuse.
"""

from collections.abc import Iterable, Iterator
from typing import Literal

from msgspec import Struct

from lazy_quarry.core.job.needs import Need, choices
from lazy_quarry.core.job.rates import greatest_charge
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.site import Account, Limits, Queue, Site
from lazy_quarry.core.units import HOUR_MS, format_duration, plural
from lazy_quarry.errors import Impossible


class Misfit(Struct, frozen=True):
    """Why a queue would never run a request: the header key that asks for too much, and a sentence."""

    code: Literal["queue", "tier", "over-limit", "impossible"]
    key: str
    words: str
    walltime_limit_s: int | None = None
    """The walltime that would do."""
    part: tuple[int, int] | None = None
    """The most that there is of it and what was asked, in whatever unit."""


class QueueFit(Struct, frozen=True):
    """The needs of a request from a queue: one for each number of nodes that may do. Without any, why not."""

    needs: tuple[Need, ...]
    misfits: tuple[Misfit, ...]


def queue_fit(request: Request, queue: Queue, site: Site, user: str | None = None) -> QueueFit:
    """Say whether a queue may run a request of this user, however long it has to wait; None is anybody.

    What one job may have by the limits of its queue, tier, account and user is part of it; what they may have together
    is not, since that is a matter of time.
    """
    misfits = [*_closed_to(queue, user), *_other_tier(request, queue), *_over_walltime(request, queue, site)]
    try:
        needs = choices(request, queue, site)
    except Impossible as fault:
        return QueueFit((), (*misfits, Misfit("impossible", fault.key, str(fault), part=fault.part)))
    over = [next(_over_size(need, request, queue, site, user), None) for need in needs]
    small = tuple(need for need, misfit in zip(needs, over, strict=True) if misfit is None)
    if not small and over[0]:
        misfits.append(over[0])
    return QueueFit(() if misfits else small, tuple(misfits))


def admitted(queue: Queue, user: str | None) -> Misfit | None:
    """Why a queue takes no job of this user at all, or None."""
    return next(iter(_closed_to(queue, user)), None)


def walltime_limit_s(site: Site, queue: Queue, tier: str, user: str = "", account: str = "") -> int | None:
    """The longest walltime in a queue for jobs of this tier, user and account; None for no limit."""
    known_tier = site.tier.get(tier)
    limits = [queue.walltime_limit_s, queue.limits.walltime_s, site.limits_of(user).walltime_s]
    limits += [known_tier.walltime_limit_s, known_tier.limits.walltime_s] if known_tier else []
    limits += [one.limits.walltime_s for one in _accounts(site, account)]
    return min((limit for limit in limits if limit is not None), default=None)


def longest_walltime_s(request: Request, site: Site, user: str = "") -> int | None:
    """The longest walltime that a request may ask for in one of its queues; None for no limit."""
    queues = [site.queue[name] for name in request.queues if name in site.queue]
    serving = [queue for queue in queues if not [*_closed_to(queue, user or None), *_other_tier(request, queue)]]
    limits = [walltime_limit_s(site, queue, request.tier, user, request.account) for queue in serving or queues]
    return None if None in limits else max((limit for limit in limits if limit is not None), default=None)


def least_cores(need: Need, site: Site) -> int:
    """The fewest cores that a job holds: whole nodes give all of theirs."""
    if not need.whole:
        return need.cores
    return max(need.cores, sum(sorted(site.node[name].cores for name in need.eligible)[: need.node_count]))


def _accounts(site: Site, account: str) -> list[Account]:
    """An account of the site and those above it."""
    return [site.account[name] for name in site.lineage(account) if name in site.account]


def _closed_to(queue: Queue, user: str | None) -> Iterable[Misfit]:
    if user is not None and queue.users and user not in queue.users:
        yield Misfit("queue", "queue", f"queue {queue.name} is only for {', '.join(queue.users)}")
    elif not queue.open:
        yield Misfit("queue", "queue", f"queue {queue.name} is closed{f': {queue.note}' if queue.note else ''}")


def _other_tier(request: Request, queue: Queue) -> Iterable[Misfit]:
    if queue.tier is not None and request.tier != queue.tier:
        yield Misfit("tier", "tier", f"queue {queue.name} serves only tier {queue.tier}")


def _over_walltime(request: Request, queue: Queue, site: Site) -> Iterable[Misfit]:
    tier = site.tier.get(request.tier)
    limits = [(f"queue {queue.name}", queue.walltime_limit_s)]
    limits += [(f"tier {tier.name}", tier.walltime_limit_s)] if tier else []
    for whose, limit in limits:
        if limit and request.walltime_s > limit:
            asked, most = format_duration(request.walltime_s), format_duration(limit)
            words = f"walltime {asked} is over the limit of {whose}, {most}"
            yield Misfit("over-limit", "walltime", words, limit)


def _over_size(need: Need, request: Request, queue: Queue, site: Site, user: str | None) -> Iterator[Misfit]:
    if queue.max_cores and need.cores > queue.max_cores:
        most = plural(queue.max_cores, "core")
        words = f"{plural(need.cores, 'core')} are over the limit of queue {queue.name}, {most} a job"
        yield Misfit("over-limit", "ranks", words, part=(queue.max_cores, need.cores))
    tier = site.tier.get(request.tier)
    owners = [(f"user {user}", site.limits_of(user))] if user is not None else []
    owners += [(f"account {one.name}", one.limits) for one in _accounts(site, request.account)]
    owners += [(f"tier {tier.name}", tier.limits)] if tier else []
    for whose, limits in (*owners, (f"queue {queue.name}", queue.limits)):
        yield from _over_one_job(limits, whose, request, need, site)


def _over_one_job(limits: Limits, whose: str, request: Request, need: Need, site: Site) -> Iterator[Misfit]:
    """Amounts that these limits never let one job have."""
    may = f"{whose} may have"
    cores, gpus = least_cores(need, site), need.node_count * need.gpus
    if limits.cores is not None and cores > limits.cores:
        words = f"{may} {plural(limits.cores, 'core')} at a time, and this asks for {cores:,}"
        yield Misfit("over-limit", "ranks", words, part=(limits.cores, cores))
    if limits.gpus is not None and gpus > limits.gpus:
        words = f"{may} {plural(limits.gpus, 'GPU')} at a time, and this asks for {gpus:,}"
        yield Misfit("over-limit", "gpus", words, part=(limits.gpus, gpus))
    if limits.running_jobs == 0:
        yield Misfit("over-limit", "queue", f"{may} no running jobs")
    if limits.walltime_s is not None and request.walltime_s > limits.walltime_s:
        most, asked = format_duration(limits.walltime_s), format_duration(request.walltime_s)
        words = f"{may} jobs of {most} at most, and this asks for {asked}"
        yield Misfit("over-limit", "walltime", words, limits.walltime_s)
    if limits.core_hours_each is not None:
        charged = greatest_charge(site, request, need) / HOUR_MS
        if charged > limits.core_hours_each:
            words = f"{may} jobs of {limits.core_hours_each:,g} core-hours at most, and this comes to {charged:,.4g}"
            yield Misfit("over-limit", "walltime", words)
