"""Sentences about what to ask for next time."""

from collections.abc import Callable
from datetime import tzinfo

from lazy_quarry.core.advice.next_time import MISS, Change, Doubt, LeastAmount, NextTime
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.units import day_words, format_duration, format_size, plural
from lazy_quarry.views.advice_view import ShorterAsk

DOUBTS = {
    Doubt.FEW: "so few runs say little",
    Doubt.SPREAD: "the runs differ too much for so few",
    Doubt.STOPPED: "too many of the runs were stopped to tell how much all of them need",
    Doubt.BEYOND: "it is larger than all that ran, and how it grows beyond them is not known",
    Doubt.TASKS: "the longest of so many tasks is longer than any of so few runs",
    Doubt.ONLY_STOPPED: "all of them were stopped, so how much they need is not known",
}


def doubt_words(found: NextTime) -> str:
    """Why nothing is promised; empty where it is."""
    doubts = found.doubts
    if not doubts:
        return ""
    same = len({doubt for _, doubt in doubts}) == 1
    if same and (len(doubts) == 2 or (found.walltime is None) != (found.memory is None)):
        return DOUBTS[doubts[0][1]]
    return "; ".join(f"for its {key}, {DOUBTS[doubt]}" for key, doubt in doubts)


def reason_of(name: str, found: NextTime, zone: tzinfo) -> str:
    """Why this is advised, and what is promised of it, in two to six sentences."""
    runs = plural(found.runs, "run")
    told = []
    if found.walltime is not None:
        verb = f"{'were' if found.runs > 1 else 'was'} not done within" if found.walltime.only_failed else "took"
        told.append(f"{verb} {_span(found.walltime, format_duration)}{_grown(found.walltime)}")
    if found.memory is not None and found.memory.most > 0.5:
        verb = "had too little with" if found.memory.only_failed else "used"
        told.append(f"{verb} {_span(found.memory, format_size)} for each core{_grown(found.memory)}")
    which = f"The last {runs}" if found.runs > 1 else "The only run"
    words = [f"{which} of {name} {' and '.join(told)}."] if told else []
    words += [
        _changed(bound.change, takes, zone)
        for bound, takes in ((found.walltime, "take"), (found.memory, "use"))
        if bound is not None and bound.change is not None and told
    ]
    bounds = [bound for bound in (found.walltime, found.memory) if bound is not None]
    if any(bound.above_failed for bound in bounds):
        words.append("It is this much because of runs for which less was not enough.")
    stops = max((bound.stopped_in_row for bound in bounds), default=0)
    if stops > 1:
        words.append(f"The last {stops} were all stopped: see whether they hang before you ask for more.")
    words += [
        f"{bound.above} of the {bound.runs} {takes} more than is advised."
        for bound, takes in ((found.walltime, "took"), (found.memory, "used"))
        if bound is not None and bound.above and bound.change is None and bound.growth is None
    ]
    words += [_most(bound, show) for bound, show in _shown(found) if bound.for_most is not None]
    words.append(_promise(found))
    return " ".join(words)


def _promise(found: NextTime) -> str:
    """The promise that is given, for all of it or a part, and whatever it isn't the reason of."""
    doubts, of = dict(found.doubts), {"walltime": "time", "memory": "memory"}
    few = f"At most one further run in {round(1 / MISS)} should need more"
    if not doubts:
        return f"{few}."
    holds = next(
        (
            of[key]
            for key, bound in (("walltime", found.walltime), ("memory", found.memory))
            if bound and key not in doubts
        ),
        "",
    )
    if holds:
        ((key, doubt),) = doubts.items()
        return f"{few} {holds}. Nothing is promised of its {key}: {DOUBTS[doubt]}."
    return f"Nothing is promised: {doubt_words(found)}. A further run may well need more."


def _shown(found: NextTime) -> list[tuple[LeastAmount, Callable[[float], str]]]:
    both = ((found.walltime, format_duration), (found.memory, format_size))
    return [(bound, show) for bound, show in both if bound is not None]


def _span(bound: LeastAmount, show: Callable[[float], str]) -> str:
    least, most = show(bound.least), show(bound.most)
    return f"{most}" if least == most else f"{least} to {most}"


def _grown(bound: LeastAmount) -> str:
    one = bound.growth
    if one is None:
        return ""
    return (
        f" (it grows about as {one.parameter} to the power of {one.power:.1f}; this is for {one.parameter}={one.at:g})"
    )


def _changed(change: Change, verb: str, zone: tzinfo) -> str:
    """``Since 12 Mar 2026 they take 1.6 times as much; this is from the 7 runs since.``"""
    much = "long" if verb == "take" else "much"
    if change.each:
        more = "more" if change.factor > 1 else "less"
        unit = "time" if verb == "take" else "memory"
        return f"Each run takes about {abs(change.factor - 1):.0%} {more} {unit} than the one before; this is for the next."
    since = day_words(change.since_ms, zone) if change.since_ms else "some run"
    which = f"the {change.runs} since" if change.runs > 1 else "the one since"
    return f"Since {since} they {verb} {change.factor:.2g} times as {much}; this is from {which}."


def _most(bound: LeastAmount, show: Callable[[float], str]) -> str:
    """``31 of 32 were within 20m, all within 4h.``"""
    most = bound.for_most
    assert most is not None
    return f"{most.count} of {most.runs} were within {show(most.most)}, all within {show(bound.most)}."


def stop_costs(request: Request, key: str) -> str:
    """The fate of a run that is stopped for too little walltime or memory, with its ``retries`` and ``at-overtime``."""
    end = "overtime" if key == "walltime" else "overmemory"
    if key == "walltime" and request.again_at_overtime:
        return "they go back to the queue and go on where they were (at-overtime)"
    if end in request.retries.on and request.retries.times:
        times = "once" if request.retries.times == 1 else f"up to {request.retries.times} times"
        return f"they begin anew with as little, {times} (retries)"
    return "they lose what they did"


def shorter_words(one: ShorterAsk, whole_start_ms: int | None) -> str:
    """``walltime 25m would do for 31 of 32, and starts 2h sooner; the others are stopped: they lose what they did.``"""
    words = f"{one.key} {one.setting} would do for {one.count} of {one.runs}"
    if one.starts_ms is not None and whole_start_ms is not None and whole_start_ms - one.starts_ms >= 60_000:
        words += f", and starts {format_duration((whole_start_ms - one.starts_ms) / 1000)} sooner"
    return f"{words}; the others are stopped: {one.costs}."
