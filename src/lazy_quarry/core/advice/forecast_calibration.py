"""Corrects forecast ranges by how earlier ones did.

A range is moved at both ends by what its predecessors were off by: split conformal prediction for quantiles (Y. Romano,
E. Patterson, E. Candès, "Conformalized quantile regression", NeurIPS 2019), on the logarithm of the wait. What has not started
yet is counted as censored (E. L. Kaplan, P. Meier, 1958): leaving it out would learn only from those that came soon. How far
the ends are moved follows the share of misses (I. Gibbs, E. Candès, "Adaptive conformal inference under distribution shift",
NeurIPS 2021), so that 8 in 10 are held when the load changes too.
"""

import math
from collections import Counter, deque
from collections.abc import Iterable, Sequence
from heapq import heapify, heappop, heappush
from itertools import zip_longest
from typing import Literal

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from lazy_quarry.core.values import replace

OUTSIDE = 0.2
"""A range is to miss so often: half of that on each side."""
NEWEST, FEWEST = 300, 30
"""A range is corrected by so many of the newest, and by none as long as there are fewer."""
UNTRIED = 0.25
"""So much wider, as a logarithm, both ends of a range are until then: ranges as they are drawn hold too seldom."""
STEP = 0.01
"""Change of the allowance on a side by one miss there."""
BEYOND = 0.02
"""No late end lies further behind the plan's own start than all but this share of the starts before."""
DEBT = -0.2
"""Lowest allowance, below nothing: after many misses the widest range stays until they are made up for."""
WIDTH, LEAST_WIDTH, LEAST_WEIGHT = 0.5, 0.2, 0.2
"""Earlier forecasts count by how near they are by the plan: a part of the spread of their logarithms, no less than this; and the
least that any counts."""
_SCALE_S = 600.0
"""Waits count by their logarithm from about here on, and by their length below."""
_SLACK_S = 0.5

Logs = NDArray[np.float64]
Stage = Literal["new", "later"]
"""The first forecast of a job, or one after it has waited for some time, which says something of it."""
Group = tuple[Stage, str]
"""Forecasts that are corrected together: of one stage and tier, as jobs of some are overtaken more often; "" for all tiers."""


class Waits(Struct, frozen=True):
    """A forecast in seconds from when it was made: the early end, the middle and the late end."""

    early_s: float
    likely_s: float
    late_s: float

    def no_sooner(self, soonest_s: float) -> "Waits":
        """The part of it that is possible, where something that is certain allows no sooner start."""
        return Waits(*(max(one, soonest_s) for one in (self.early_s, self.likely_s, self.late_s)))


class Look(Struct):
    """A forecast that was made of a job, as drawn and as shown, and how long it waited; None until that is known.

    As long as none were corrected, ``shown`` is as drawn: the allowances begin with how draws did.
    """

    job: int
    made_ms: int
    drawn: Waits
    shown: Waits
    waited_s: float | None = None
    planned_s: float | None = None
    """Seconds to its start by the plan."""
    new_name: str = ""
    """Its user and name, where nothing was known yet of how long such jobs take."""


class Kept(Struct):
    """The record of a group: its newest looks, and the shares of misses that are allowed early and late at present."""

    looks: list[Look]
    early: float = OUTSIDE / 2
    late: float = OUTSIDE / 2


class _Record:
    """The looks of one group."""

    def __init__(self, kept: Kept | None, outside: float) -> None:
        kept = kept or Kept([], outside / 2, outside / 2)
        self.outside = outside
        self.looks = deque(kept.looks, maxlen=NEWEST)
        self.early, self.late = kept.early, kept.late
        self.of_name = Counter(look.new_name for look in kept.looks)
        self.overdue = [
            (look.made_ms + look.shown.late_s * 1000, look.job) for look in kept.looks if look.waited_s is None
        ]
        heapify(self.overdue)

    def add(self, look: Look) -> None:
        if len(self.looks) == NEWEST:
            self.of_name -= Counter([self.looks[0].new_name])  # without those of which none is left
        self.looks.append(look)
        self.of_name[look.new_name] += 1

    def drop(self, look: Look) -> None:
        self.looks = deque((one for one in self.looks if one is not look), maxlen=NEWEST)
        self.of_name = Counter(one.new_name for one in self.looks)

    def weight(self, look: Look) -> float:
        """Its weight. Jobs of a new name are late together or early together: all of them say as much as one other job."""
        return 1 / max(1, self.of_name[look.new_name]) if look.new_name else 1.0

    @property
    def says(self) -> float:
        """The weight of all of its looks together."""
        return self.of_name[""] + sum(1 for name in self.of_name if name)

    def learn(self, look: Look, early: bool, late: bool) -> None:
        step = STEP * self.weight(look)
        self.early = min(0.5, max(DEBT, self.early + step * (self.outside / 2 - early)))
        self.late = min(0.5, max(DEBT, self.late + step * (self.outside / 2 - late)))


class Hindsight:
    """Keeps forecasts until it is known how they did, and corrects new ones by them; a share of ``outside`` is to be missed."""

    def __init__(self, kept: dict[Group, Kept] | None = None, outside: float = OUTSIDE) -> None:
        self.outside = outside
        self._groups = {group: _Record(one, outside) for group, one in (kept or {}).items()}
        self._open: dict[int, list[tuple[Group, Look, bool]]] = {}
        """By job: its looks of which it isn't known how they did, and whether each was told to be late already."""
        for group, record in self._groups.items():
            for look in record.looks:
                if look.waited_s is None:
                    self._open.setdefault(look.job, []).append((group, look, False))

    def kept(self) -> dict[Group, Kept]:
        """All that is known, to go on with another time."""
        return {group: Kept(list(one.looks), one.early, one.late) for group, one in self._groups.items()}

    def seen(self, group: Group) -> int:
        """By how many forecasts those of a group are corrected."""
        return len(self._record(group).looks)

    def _own(self, group: Group) -> _Record:
        return self._groups.setdefault(group, _Record(None, self.outside))

    def _record(self, group: Group) -> _Record:
        """The record that a group is corrected by: its own once that says something, until then that of all tiers."""
        own = self._own(group)
        return own if own.says >= FEWEST else self._own((group[0], ""))

    # -- what became of forecasts ------------------------------------------------------------------

    def note(
        self,
        group: Group,
        job: int,
        at_ms: int,
        drawn: Waits,
        shown: Waits,
        planned_s: float | None = None,
        new_name: str = "",
    ) -> None:
        """A forecast was made, of a job that starts after ``planned_s`` by the plan; ``new_name`` as in :class:`Look`."""
        shown = shown if self._record(group).says >= FEWEST else drawn
        for each in dict.fromkeys((group, (group[0], ""))):
            look, record = Look(job, at_ms, drawn, shown, planned_s=planned_s, new_name=new_name), self._own(each)
            record.add(look)
            self._open.setdefault(job, []).append((each, look, False))
            heappush(record.overdue, (at_ms + shown.late_s * 1000, job))

    def started(self, job: int, at_ms: int) -> None:
        """A job has started."""
        self.settle(at_ms)
        for group, look, told in self._open.pop(job, ()):
            look.waited_s = waited = max(0.0, (at_ms - look.made_ms) / 1000)
            if not told:
                early, late = waited < look.shown.early_s - _SLACK_S, waited > look.shown.late_s + _SLACK_S
                self._groups[group].learn(look, early, late)

    def dropped(self, job: int) -> None:
        """A job was cancelled, held or changed before it started: its forecasts were of something else."""
        for group, look, _ in self._open.pop(job, ()):
            self._groups[group].drop(look)

    def settle(self, now_ms: int) -> None:
        """Count each job that should have started by now and has not as a miss, however long it will be."""
        for group, record in self._groups.items():
            while record.overdue and record.overdue[0][0] + _SLACK_S * 1000 < now_ms:
                _, job = heappop(record.overdue)
                open_ = self._open.get(job, [])
                for place, (own, look, told) in enumerate(open_):
                    late_ms = look.made_ms + (look.shown.late_s + _SLACK_S) * 1000
                    if own == group and not told and late_ms < now_ms:
                        record.learn(look, False, True)
                        open_[place] = (own, look, True)

    # -- corrections -------------------------------------------------------------------------------

    def corrected(
        self, group: Group, now_ms: int, drawn: Iterable[Waits], planned_s: Iterable[float | None] = ()
    ) -> list[Waits]:
        """Forecasts as they are to be shown; ``planned_s`` are the waits of the same jobs by the plan."""
        record = self._record(group)
        looks = list(record.looks)
        if record.says < FEWEST:
            return [_untried(one, planned) for one, planned in zip_longest(drawn, planned_s)]
        said = np.array([record.weight(look) for look in looks])
        exact = np.array([look.waited_s is not None for look in looks])
        waited = _logs((now_ms - look.made_ms) / 1000 if look.waited_s is None else look.waited_s for look in looks)
        early = _Sample(waited - _logs(look.drawn.early_s for look in looks), exact)
        late = _Sample(waited - _logs(look.drawn.late_s for look in looks), exact)
        likely = _Sample(waited - _logs(look.drawn.likely_s for look in looks), exact)
        alike = _Alike(looks)
        # Without the plan as a bound, one job drawn to start at once that waited for days moved late ends to years.
        by_plan = _ByPlan(looks, waited, exact)
        found = []
        for one, planned in zip_longest(drawn, planned_s):
            weights = said * alike.weights(planned)
            off_late = late.quantile(1 - max(0.0, record.late), weights)
            off_early = early.quantile(max(0.0, record.early), weights)
            most = by_plan.latest(_seconds(_log(one.late_s) + off_late), planned, weights)
            least = min(most, _seconds(_log(one.early_s) + off_early))
            middle = by_plan.nearer(_seconds(_log(one.likely_s) + likely.quantile(0.5, weights)), planned)
            found.append(replace(one, early_s=least, likely_s=min(most, max(least, middle)), late_s=most))
        return found


class _Alike:
    """How much earlier forecasts say of another one: the more, the nearer they are in their waits by the plan.

    Who waits long by the plan is overtaken by more of those who come, and those in front of him end early more often.
    """

    def __init__(self, looks: Sequence[Look]) -> None:
        self.known = np.array([look.planned_s is not None for look in looks])
        self.planned = _logs(look.planned_s or 0.0 for look in looks)
        self.width = max(LEAST_WIDTH, WIDTH * float(np.std(self.planned[self.known]))) if self.known.any() else 1.0

    def weights(self, planned_s: float | None) -> Logs:
        """A weight for each of them, the greatest 1; equal ones where the plan says nothing."""
        if planned_s is None:
            return np.ones(len(self.known))
        off = (self.planned - _log(planned_s)) / self.width
        found: Logs = np.where(self.known, np.maximum(LEAST_WEIGHT, np.exp(-0.5 * off**2)), LEAST_WEIGHT)
        return found


class _ByPlan:
    """The plan's own starts beside what happened: how far starts lie behind them at most, and whether they are the nearer ones.

    A correction is a factor, learned from all forecasts of a group. On a job that was drawn to start at once and waited for days it
    says nothing of others; their own place in the plan does.
    """

    def __init__(self, looks: Sequence[Look], waited: Logs, exact: NDArray[np.bool_]) -> None:
        known = np.array([look.planned_s is not None for look in looks])
        self.behind: _Sample | None = None
        """Distances of starts behind the plan's, as logarithms; None while too few are known."""
        self.known = known
        self.is_nearer = False
        """True when the plan's starts were nearer to what happened, in the median, than the middles that were shown."""
        if known.sum() < FEWEST:
            return
        planned = _logs(look.planned_s or 0.0 for look in looks)
        self.behind = _Sample((waited - planned)[known], exact[known])
        both = known & exact
        if both.sum() >= FEWEST:
            off = np.abs(waited - _logs(look.shown.likely_s for look in looks))[both]
            self.is_nearer = bool(np.median(np.abs(waited - planned)[both]) < np.median(off))

    def latest(self, late_s: float, planned_s: float | None, weights: Logs) -> float:
        """A late end, no further behind the plan's start than nearly all starts before of those that are alike."""
        if self.behind is None or planned_s is None:
            return late_s
        beyond = max(0.0, self.behind.quantile(1 - BEYOND, weights[self.known]))
        return min(late_s, max(planned_s, _seconds(_log(planned_s) + beyond)))

    def nearer(self, likely_s: float, planned_s: float | None) -> float:
        """The middle, or the plan's start where that was the better one."""
        return planned_s if self.is_nearer and planned_s is not None else likely_s


def _untried(drawn: Waits, planned_s: float | None) -> Waits:
    """A range of which nothing is known but its draws. A late end that lies before the plan's start stays before it."""
    late_s = _seconds(_log(drawn.late_s) + UNTRIED)
    if planned_s is not None:
        late_s = min(late_s, max(planned_s, drawn.late_s))
    return replace(drawn, early_s=_seconds(_log(drawn.early_s) - UNTRIED), late_s=late_s)


def _log(seconds: float) -> float:
    return math.log1p(max(0.0, seconds) / _SCALE_S)


def _seconds(log: float) -> float:
    return math.expm1(min(20.0, max(0.0, log))) * _SCALE_S


def _logs(seconds: Iterable[float]) -> Logs:
    found: Logs = np.log1p(np.maximum(0.0, np.array(list(seconds))) / _SCALE_S)
    return found


class _Sample:
    """Values of which some are only lower bounds, to be asked for quantiles (Kaplan and Meier)."""

    def __init__(self, values: Logs, exact: NDArray[np.bool_]) -> None:
        self.order = np.lexsort((~exact, values))
        self.values, self.exact = values[self.order], exact[self.order]

    def quantile(self, share: float, weights: Logs | None = None) -> float:
        """The value that ``share`` of them, by their weights, are not above."""
        own = np.ones(len(self.values)) if weights is None else weights[self.order]
        left = np.cumsum(own[::-1])[::-1] + 1.0  # more than there are, as the next one counts too
        below = 1 - np.cumprod(np.where(self.exact, 1 - own / left, 1.0))
        reached = np.flatnonzero(self.exact & (below >= share - 1e-9))
        return float(self.values[reached[0]] if len(reached) else self.values[-1])
