"""Groups of an array's tasks: those that failed for one cause, and those that are unlike the rest."""

import re
from collections import Counter
from collections.abc import Iterable, Sequence

from msgspec import Struct

from lazy_quarry.core.advice.alike import Cause, Outlier, Parameters

LEAST, FAR, LEAST_RATIO = 8, 3.5, 1.5
"""Tasks below which none is unlike the rest. Further than this in modified z-scores is (Iglewicz & Hoaglin, 1993), if it is
also so many times the median."""
MOST_OUTLIERS, MOST_VALUES = 3, 3
BARS = 24


class TaskFacts(Struct, frozen=True):
    """A task: what people call it, its parameters, how long it ran, its greatest memory; and how it failed, if it did.

    ``printed`` is the last line of its output that tells of an error.
    """

    label: str
    parameters: Parameters
    took_s: int
    memory_mib: int
    failed: str = ""
    printed: str = ""


def causes(tasks: Sequence[TaskFacts]) -> tuple[Cause, ...]:
    """Failed tasks by how they failed and what they printed, figures aside; the commonest first."""
    groups: dict[tuple[str, str], list[TaskFacts]] = {}
    for task in tasks:
        if task.failed:
            groups.setdefault((task.failed, re.sub(r"\d+", "#", task.printed)), []).append(task)
    found = [_cause(group, tasks) for group in groups.values()]
    return tuple(sorted(found, key=lambda one: -one.count))


def _cause(group: Sequence[TaskFacts], tasks: Sequence[TaskFacts]) -> Cause:
    printed = group[0].printed
    how = f"{group[0].failed}, “{printed[:100]}”" if printed else group[0].failed
    shared = _shared(group, tasks) if len(group) > 1 else ()
    alike = [task for task in tasks if _has(task, shared)] if shared else []
    labels = tuple(task.label for task in group[:MOST_OUTLIERS])
    return Cause(how, len(group), len(tasks), shared, bool(shared) and len(alike) == len(group), labels)


def _shared(group: Sequence[TaskFacts], tasks: Sequence[TaskFacts]) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Parameters of which these tasks have one value or a few, while tasks beside them have others."""
    found = []
    for name in dict.fromkeys(name for task in group for name, _ in task.parameters):
        own = dict.fromkeys(value for task in group for each, value in task.parameters if each == name)
        all_ = {value for task in tasks for each, value in task.parameters if each == name}
        most = 1 if len(group) < 4 else MOST_VALUES
        if len(own) <= most and len(own) * 2 <= len(all_):
            found.append((name, tuple(own)))
    return tuple(found)


def _has(task: TaskFacts, shared: tuple[tuple[str, tuple[str, ...]], ...]) -> bool:
    values = dict(task.parameters)
    return all(values.get(name) in some for name, some in shared)


def outliers(tasks: Sequence[TaskFacts]) -> tuple[Outlier, ...]:
    """The tasks that took far longer, or far more memory, than the others; the furthest first."""
    found = []
    for measure in ("took_s", "memory_mib"):
        values = [getattr(task, measure) for task in tasks]
        if len(values) < LEAST:
            continue
        middle = median(values)
        spread = median(abs(value - middle) for value in values) or max(1.0, 0.05 * middle)
        for task, value in zip(tasks, values, strict=True):
            far = 0.6745 * (value - middle) / spread
            if far > FAR and value >= LEAST_RATIO * middle:
                found.append((far, Outlier(task.label, task.parameters, measure, value, middle)))
    found.sort(key=lambda one: -one[0])
    kept, count = list[Outlier](), Counter[str]()
    for _, one in found:
        count[one.measure] += 1
        if count[one.measure] <= MOST_OUTLIERS:
            kept.append(one)
    return tuple(kept)


def median(values: Iterable[float]) -> float:
    """The value in the middle, or the mean of the two there."""
    ordered = sorted(values)
    half = len(ordered) // 2
    return ordered[half] if len(ordered) % 2 else (ordered[half - 1] + ordered[half]) / 2


def distribution(values: Sequence[float]) -> tuple[int, ...]:
    """Count the values in each equal part between the least and the greatest; fewer parts for few values, one for equal ones."""
    if not values:
        return ()
    bars = max(4, min(BARS, round(2 * len(values) ** 0.5)))
    low, high = min(values), max(values)
    if low == high:
        return (len(values),)
    counts = [0] * bars
    for value in values:
        counts[min(bars - 1, int((value - low) / (high - low) * bars))] += 1
    return tuple(counts)
