"""The nearest request that an idle site could serve, where the one that was made is too much."""

from collections.abc import Callable, Iterator

from lazy_quarry.core.job.queue_fit import Misfit, queue_fit
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import exact_duration, exact_size
from lazy_quarry.core.values import replace

_ROUNDS = 8
"""Number of keys that may be reduced, one after another."""
MOST_NODES = 200
"""On larger sites it is only tried what the misfit itself says is the most: each try looks at all nodes."""


def nearest_request(request: Request, site: Site, user: str) -> tuple[Request, tuple[str, ...]] | None:
    """A request that fits, and what was changed for that as ``key = value``; None where no smaller one fits either.

    Each key that asks for too much gets the most that would do; what excludes every node is left out.
    """
    changed: dict[str, str] = {}
    for _ in range(_ROUNDS):
        misfits = _misfits(request, site, user)
        if misfits is None:
            return request, tuple(f"{key} = {value}" for key, value in changed.items())
        smaller = next(filter(None, (_reduced(request, site, user, one) for one in misfits)), None)
        if smaller is None:
            return None
        request, key, value = smaller
        changed[key] = value
    return None


def _misfits(request: Request, site: Site, user: str) -> list[Misfit] | None:
    """Why the queues can't serve a request, those of the queue that has the fewest first; None when one can."""
    fits = [queue_fit(request, site.queue[name], site, user) for name in request.queues]
    if any(fit.needs for fit in fits):
        return None
    return [misfit for fit in sorted(fits, key=lambda fit: len(fit.misfits)) for misfit in fit.misfits]


def _reduced(request: Request, site: Site, user: str, misfit: Misfit) -> tuple[Request, str, str] | None:
    """The request with the most of a key that doesn't ask for too much, the key, and its value as it is written."""
    if misfit.walltime_limit_s is not None:
        shorter = replace(request, walltime_s=misfit.walltime_limit_s)
        return shorter, "walltime", f'"{exact_duration(misfit.walltime_limit_s)}"'
    if misfit.key in ("traits", "on-nodes"):
        without = replace(request, traits="") if misfit.key == "traits" else replace(request, on_nodes=())
        return without, misfit.key, "any"
    for key, least, present, change, written in _amounts(request, misfit.key):
        low, high = least, present - 1  # the most that doesn't ask for too much of this key

        def fits(amount: int, key: str = key, change: Callable[[int], Request] = change) -> bool:
            left = _misfits(change(amount), site, user)
            return left is None or all(one.key != key and one.words != misfit.words for one in left)

        if misfit.part is not None and key == misfit.key:
            most, asked = misfit.part
            guess = max(least, min(high, present * most // max(1, asked)))
            if fits(guess):
                low = guess
                if len(site.nodes) > MOST_NODES or not fits(min(high, low + 1)):
                    return change(low), key, written(low)
        if len(site.nodes) > MOST_NODES or high < low or not fits(low):
            continue
        while low < high:
            middle = (low + high + 1) // 2
            low, high = (middle, high) if fits(middle) else (low, middle - 1)
        return change(low), key, written(low)
    return None


def _amounts(
    request: Request, key: str
) -> Iterator[tuple[str, int, int, Callable[[int], Request], Callable[[int], str]]]:
    """The keys that may be reduced for a key that asks for too much: least and present amount, how it is set and written."""

    def size(mib: int) -> str:
        return f'"{exact_size(mib)}"'

    if key == "walltime":
        yield key, 60, request.walltime_s, lambda s: replace(request, walltime_s=s), lambda s: f'"{exact_duration(s)}"'
    if key == "memory":
        per = request.memory.per
        yield (
            key,
            1,
            request.memory.mib,
            lambda mib: replace(request, memory=Memory(mib, per)),
            lambda mib: f'"{exact_size(mib)}/{per}"',
        )
    if key == "gpus":
        yield key, 0, request.gpus, lambda count: replace(request, gpus=count), str
    if key == "gpu-memory":
        yield key, 0, request.gpu_memory_mib, lambda mib: replace(request, gpu_memory_mib=mib), size
    if key == "scratch":
        yield key, 0, request.scratch_mib, lambda mib: replace(request, scratch_mib=mib), size
    if key == "threads":
        yield key, 1, request.threads, lambda count: replace(request, threads=count), str
    if key == "nodes" and request.nodes is not None:
        each = max(1, request.ranks // request.nodes)

        def on(count: int) -> Request:
            return replace(request, nodes=count, most_nodes=None, ranks=each * count, ranks_per_node=None)

        yield key, 1, request.nodes, on, str
    if key in ("ranks", "ranks-per-node", "nodes"):

        def of(count: int) -> Request:
            nodes = None if request.nodes is None else min(request.nodes, count)
            return replace(request, ranks=count, nodes=nodes, most_nodes=None, ranks_per_node=None)

        yield "ranks", 1, request.ranks, of, str
        yield "threads", 1, request.threads, lambda count: replace(request, threads=count), str
