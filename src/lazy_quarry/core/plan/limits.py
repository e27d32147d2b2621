"""Limits of users, accounts, queues and tiers, and budgets, over the time of the plan.

A limit says how many jobs, cores and GPUs a user, an account, a queue or a tier may have at the same time. A budget
is used up for good: the plan counts every job at its greatest charge. What a job returns by ending early is there
when the plan is made again.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Mapping

from msgspec import Struct

from lazy_quarry.core.job.request import Request
from lazy_quarry.core.plan.placement import CORES, FAR, GPUS, Claim, Owner
from lazy_quarry.core.plan.waiting import Unplaced
from lazy_quarry.core.site import Limits, Site
from lazy_quarry.core.units import core_hours_apart

Kind = str
"""``user``, ``account``, ``queue`` or ``tier``."""
MEASURES = ("running jobs", "cores", "GPUs")


class ReachedLimit(Struct, frozen=True):
    """A limit that keeps a job from starting: whose, of what, and how much is in use and allowed."""

    kind: Kind
    name: str
    measure: str
    in_use: int
    most: int

    @property
    def words(self) -> str:
        """``the limit of tier spare, 64 cores, of which 48 are in use``."""
        return (
            f"the limit of {self.kind} {self.name}: {self.most:,} {self.measure}, of which {self.in_use:,} are in use"
        )


class _Row:
    """Free amount of one limit over time: ``free[k]`` from ``times[k]`` to the next, the last one for ever."""

    def __init__(self, now_ms: int, most: tuple[int | None, ...]) -> None:
        self.most = tuple(FAR if one is None else one for one in most)
        self.times, self.free = [now_ms], [list(self.most)]

    def _cut(self, at_ms: int) -> int:
        place = bisect_right(self.times, at_ms) - 1
        if self.times[place] == at_ms:
            return place
        self.times.insert(place + 1, at_ms)
        self.free.insert(place + 1, list(self.free[place]))
        return place + 1

    def use(self, begin_ms: int, end_ms: int, claim: Claim) -> None:
        begin_ms = max(begin_ms, self.times[0])
        if end_ms <= begin_ms:
            return
        first, last = self._cut(begin_ms), self._cut(end_ms) if end_ms < FAR else len(self.times)
        for levels in self.free[first:last]:
            for kind, amount in enumerate(claim):
                levels[kind] -= amount

    def earliest(self, at_ms: int, duration_ms: int, claim: Claim) -> int | None:
        """The first instant from which the claim stays within the limit for the whole duration; None for never."""
        if any(amount > most for amount, most in zip(claim, self.most, strict=True)):
            return None
        # After a segment that is too full the search goes on behind it: no start between could avoid that segment. Written out for
        # the three measures, as this is where a plan with limits spends its time.
        place = max(0, bisect_right(self.times, at_ms) - 1)
        start, free = at_ms, self.free
        jobs, cores, gpus = claim
        while True:
            end, fits = start + duration_ms, True
            through = bisect_left(self.times, end)
            for segment in range(max(through, place + 1) - 1, place - 1, -1):
                levels = free[segment]
                if jobs > levels[0] or cores > levels[1] or gpus > levels[2]:
                    place, fits = segment + 1, False
                    break
            if fits:
                return start
            if place >= len(self.times):
                return None
            start = self.times[place]

    def allowed(self, at_ms: int, duration_ms: int, claim: Claim, wanted: int) -> int:
        """The number of such claims, up to ``wanted``, that stay within the limit from an instant on for the whole duration."""
        first = max(0, bisect_right(self.times, at_ms) - 1)
        for levels in self.free[first : max(bisect_left(self.times, at_ms + duration_ms), first + 1)]:
            for amount, left in zip(claim, levels, strict=True):
                wanted = min(wanted, left // amount) if amount else wanted
        return wanted

    def in_use_now(self) -> list[int]:
        """Amounts in use at this instant."""
        return [most - left for most, left in zip(self.most, self.free[0], strict=True)]


class LimitRows:
    """All limits of a site over the time of the plan. Limits of None aren't kept."""

    def __init__(self, site: Site, now_ms: int, budgets: dict[str, int] | None = None) -> None:
        self.site, self.now_ms = site, now_ms
        self.rows: dict[tuple[Kind, str], _Row | None] = {}
        self._each: dict[tuple[Owner, str], list[tuple[Kind, str, _Row]]] = {}
        """The rows that a job of an owner in a queue counts in."""
        self.left = dict(budgets or {})
        """Core-ms of each account that has a budget: what neither was charged nor may yet be."""
        self.coming: dict[str, int] = {}
        """The most that running jobs of an account could give back, had they ended at once."""
        self.held = set[str]()
        """The accounts of whose budgets a job that waits has its part, so that none behind it may use that."""
        self.renewed: dict[str, str] = {}
        """When an account has its budget anew, in words, where it does."""
        self.bounded = bool(self.left) or any(
            any(value is not None for value in limits.of_running) for limits in _all_limits(site)
        )

    def _row(self, kind: Kind, name: str) -> _Row | None:
        key = (kind, name)
        if key not in self.rows:
            most = limits_of(self.site, kind, name).of_running
            self.rows[key] = None if all(one is None for one in most) else _Row(self.now_ms, most)
        return self.rows[key]

    def _rows_of(self, owner: Owner, queue: str) -> list[tuple[Kind, str, _Row]]:
        known = self._each.get((owner, queue))
        if known is None:
            accounts = (("account", name) for name in self.site.lineage(owner.account))
            every = (("user", owner.user), *accounts, ("queue", queue), ("tier", owner.tier))
            known = [(kind, name, row) for kind, name in every if (row := self._row(kind, name)) is not None]
            self._each[owner, queue] = known
        return known

    def use(self, owner: Owner, queue: str, begin_ms: int, end_ms: int, claim: Claim) -> None:
        """Count a job's use from one instant to the other."""
        for _, _, row in self._rows_of(owner, queue):
            row.use(begin_ms, end_ms, claim)

    def earliest(self, owner: Owner, queue: str, at_ms: int, duration_ms: int, claim: Claim) -> int | None:
        """The first instant from which all limits leave enough for a job for the whole duration; None for never."""
        start = at_ms
        while True:
            later = start
            for _, _, row in self._rows_of(owner, queue):
                found = row.earliest(later, duration_ms, claim)
                if found is None:
                    return None
                later = found
            if later == start:
                return start
            start = later

    def allowed(self, owner: Owner, queue: str, at_ms: int, duration_ms: int, claim: Claim, wanted: int) -> int:
        """The number of jobs like one, up to ``wanted``, that all limits allow from an instant on for the whole duration."""
        for _, _, row in self._rows_of(owner, queue):
            wanted = row.allowed(at_ms, duration_ms, claim, wanted)
        return wanted

    def node_measures(self, owner: Owner, queue: str) -> list[int | None]:
        """The amounts of a node that are limited for a job: of GPUs, of cores; [None] for neither."""
        most = [row.most for _, _, row in self._rows_of(owner, queue)]
        found = [(GPUS, any(gpus < FAR for _, _, gpus in most)), (CORES, any(cores < FAR for _, cores, _ in most))]
        return [amount for amount, limited in found if limited] or [None]

    def next_change(self, owner: Owner, queue: str, at_ms: int) -> int:
        """The first instant after this one at which what a limit leaves changes; ``FAR`` for none."""
        return min(
            (time for _, _, row in self._rows_of(owner, queue) for time in row.times if time > at_ms), default=FAR
        )

    def cores_left(self, owner: Owner, queue: str) -> int:
        """The most cores that one more job may have at this instant."""
        most = 2**31
        for _, _, row in self._rows_of(owner, queue):
            jobs, cores, _gpus = row.free[0]
            most = min(most, cores if jobs > 0 else 0)
        return max(0, most)

    def reached_limit(self, owner: Owner, queue: str, claim: Claim) -> ReachedLimit | None:
        """The first limit that leaves no room for a job at this instant."""
        for kind, name, row in self._rows_of(owner, queue):
            for measure, in_use, most, requested in zip(MEASURES, row.in_use_now(), row.most, claim, strict=True):
                if in_use + requested > most:
                    return ReachedLimit(kind, name, measure, in_use, most)
        return None

    def pays(self, owner: Owner, charge: int) -> bool:
        """True when the rest of the budgets covers a job, all that runs being counted in full."""
        return all(charge <= left for _, left in self._bounds(owner))

    def left_for(self, owner: Owner) -> int:
        """Core-ms that the budgets leave for one more job."""
        return max(0, min((left for _, left in self._bounds(owner)), default=2**62))

    def refusal(self, owner: Owner, charge: int, reserves: bool) -> str:
        """Why a job that the budgets don't cover has no place.

        With ``reserves`` what running jobs may give back is kept for it, where that could be enough.
        """
        account, left = min(self._bounds(owner), key=lambda one: one[1])
        most, rest = core_hours_apart(charge, max(0, left))
        cost, told = f"it could be charged {most}", f"{rest} core-hours are left"
        if reserves and all(charge <= left + self.coming.get(name, 0) for name, left in self._bounds(owner)):
            self.hold(owner)
            self.spend(owner, charge)  # what comes back is for the first that waits for it
            return f"waits for the budget of {account}: {cost}, and {told} while jobs run that may yet use theirs"
        return f"the budget of {account} does not cover it: {cost}, and {told}{self.renewed.get(account, '')}"

    def obstacle(self, owner: Owner | None, charge: int) -> Unplaced | None:
        """The budget that does not cover a job which is no part of this plan; None when all cover it."""
        if owner is None or not self.bounded or self.pays(owner, charge):
            return None
        return Unplaced("budget", self.refusal(owner, charge, reserves=False))

    def spend(self, owner: Owner, charge: int, comes_back: bool = False) -> None:
        """Count a job's greatest charge. A job with a place may return some of it."""
        for name in self.site.lineage(owner.account):
            if name in self.left:
                self.left[name] -= charge
                if comes_back:
                    self.coming[name] = self.coming.get(name, 0) + charge

    def hold(self, owner: Owner) -> None:
        """A job that waits counts on its part of the budgets that bound it."""
        self.held.update(name for name, _ in self._bounds(owner))

    def _bounds(self, owner: Owner) -> list[tuple[str, int]]:
        """The budgets that bound a job, with what is left of each.

        One at whose end jobs go on that give way bounds these only as far as a job ahead of them counts on it.
        """
        gives_way = self.site.gives_way(owner.tier)
        return [
            (name, self.left[name])
            for name in self.site.lineage(owner.account)
            if name in self.left
            and (name in self.held or not (gives_way and self.site.account[name].at_end == "give-way"))
        ]


def limits_of(site: Site, kind: Kind, name: str) -> Limits:
    """The limits of a user, an account, a queue or a tier."""
    if kind == "user":
        return site.limits_of(name)
    known = {"account": site.account, "queue": site.queue, "tier": site.tier}[kind].get(name)  # type: ignore[attr-defined]
    return known.limits if known else Limits()


def _all_limits(site: Site) -> Iterable[Limits]:
    yield from (limits for _, limits in site.user_limits)
    for group in (site.accounts, site.queues, site.tiers):
        yield from (one.limits for one in group)


def too_many_waiting(
    site: Site,
    user: str,
    request: Request,
    queues: Iterable[str],
    waiting: Callable[[], Mapping[tuple[Kind, str], int]],
) -> str:
    """The limit of waiting jobs that one more would exceed, in words; empty for none.

    ``queues`` are those that may run it: it waits in each. ``waiting`` counts the jobs that wait, by (kind, name); it
    is called only where that is limited.
    """
    owners = [("user", user), *(("account", name) for name in site.lineage(request.account)), ("tier", request.tier)]
    owners += [("queue", queue) for queue in queues]
    limited = {one: most for one in owners if (most := limits_of(site, *one).waiting_jobs) is not None}
    counts = waiting() if limited else {}
    for (kind, name), most in limited.items():
        count = counts.get((kind, name), 0)
        if count >= most:
            return f"{kind} {name} may have {most:,} waiting jobs, and {count:,} wait already"
    return ""
