"""Trying one: the same work as a single job within the limits of the site's trial tier."""

from collections.abc import Iterator, Mapping

from lazy_quarry.core.job.queue_fit import longest_walltime_s, queue_fit
from lazy_quarry.core.job.request import Request, Retries
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import format_duration
from lazy_quarry.core.values import replace
from lazy_quarry.errors import Refused


def trial_of(
    request: Request, site: Site, user: str, task: int | None = None, values: Mapping[str, str] | None = None
) -> Request:
    """The request as its user would try it: one task, in the trial tier, as long and as large as that allows.

    ``task`` is the number of one task of an array, by default its first; ``values`` stand in for some of its
    parameters, or are variables of a script that is no array. Raises :class:`Refused` where the site has no trial tier, or
    nothing of it fits there.
    """
    tier = site.tier.get(site.trial)
    if tier is None:
        raise Refused(f"{site.name} has no tier for trying; submit it with a short walltime")
    own = tuple(queue.name for queue in site.queues if queue.tier == tier.name and queue.open)
    queues = own or request.queues
    number, parameters = chosen_task(request, task, values)
    limit = longest_walltime_s(replace(request, tier=tier.name, queues=queues), site, user)
    walltime = request.walltime_s if limit is None else min(request.walltime_s, limit)
    base = replace(
        request,
        array=None,
        task=number,
        parameters=parameters,
        tier=tier.name,
        queues=queues,
        walltime_s=walltime,
        warn_s=None if request.warn_s and request.warn_s >= walltime else request.warn_s,
        not_before_ms=None,
        after=(),
        retries=Retries(0),
        again_at_overtime=False,
    )
    for smaller in _smaller(base):
        if any(queue_fit(smaller, site.queue[name], site, user).needs for name in queues):
            return smaller
    raise Refused(f"nothing of this fits into tier {tier.name}, at most {format_duration(walltime)} there")


def chosen_task(
    request: Request, task: int | None, values: Mapping[str, str] | None
) -> tuple[int | None, tuple[tuple[str, str], ...]]:
    """The number and the parameters of the task to be tried. Raises :class:`Refused` for what the array hasn't."""
    array = request.array
    if array is None:
        if task is not None:
            raise Refused("this is not an array, so there is no task to choose")
        return None, tuple((values or {}).items())
    if unknown := sorted(set(values or {}) - set(array.names)):
        raise Refused(f"there is no parameter {unknown[0]}; the parameters are {', '.join(array.names) or 'none'}")
    index = 0
    if task is not None:
        found = array.index(task)
        if found is None:
            raise Refused(f"the array has no task {task}")
        index = found
    return array.number(index), tuple((array.values(index) | dict(values or {})).items())


def _smaller(request: Request) -> Iterator[Request]:
    """The request, then the same on one node, then with fewer and fewer ranks and threads."""
    yield request
    plain = replace(request, nodes=None, most_nodes=None, anywhere=False, ranks_per_node=None, whole_nodes=False)
    yield replace(plain, on_nodes=())
    ranks = request.ranks
    plain = replace(plain, on_nodes=(), traits="")
    while ranks > 1:
        ranks //= 2
        yield replace(plain, ranks=ranks)
    threads = request.threads
    while threads > 1:
        threads //= 2
        yield replace(plain, ranks=1, threads=threads)
    yield replace(plain, ranks=1, threads=1, gpus=0, gpu_memory_mib=0, scratch_mib=0)
