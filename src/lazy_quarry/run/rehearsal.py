"""Modelled runs on a virtual clock.

What an attempt does depends on (seed, job, attempt) alone, not on the order in which jobs are drawn: so
the same commands give the same events, however the clock was sped up or paused in between.
"""

import math
import random
from collections.abc import Callable

from msgspec import Struct

from lazy_quarry.core.engine.commands import Finish
from lazy_quarry.core.job.curve import MOST_OF_TASK, MOST_POINTS, Curve, Sample, curve_of
from lazy_quarry.core.job.inside import Inside, Part, Spread, thinned
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.core.job.node_use import NodeUse
from lazy_quarry.core.units import format_duration, plural
from lazy_quarry.core.values import replace
from lazy_quarry.run.fetching import FilesToFetch, NoFiles
from lazy_quarry.run.node.file_kinds import FileFound
from lazy_quarry.run.node.made_files import MadeFiles
from lazy_quarry.run.runner import Attempt, JobFiles, KeptThere, OutputChunk
from lazy_quarry.run.without_hosts import WithoutHosts


class ModelledRun(Struct, frozen=True):
    """The course of one attempt: its time in ms, its end, and its use."""

    after_ms: int
    exit: int | None
    signal: str | None
    cause: str | None
    memory_mib: int
    busy: float
    reason: str = ""
    whole_ms: int = 0
    """Time in ms that it would have taken, had nothing ended it earlier."""


def model(seed: int, job: Job) -> ModelledRun:
    """The modelled run of a job's present attempt, drawn from its header's ``rehearsal`` and the seed.

    Without a runtime of its own a job takes about a third of its walltime, between a twelfth and
    nine tenths; it keeps most of its cores busy and fills about half of its memory.
    """
    chance = random.Random(f"{seed}:{job.number}:{job.attempt}")
    told, request = job.request.rehearsal, job.request
    walltime_ms = request.walltime_s * 1000
    share = min(0.9, max(1 / 12, chance.lognormvariate(-1.1, 0.5)))
    runtime_ms = round(walltime_ms * share)
    if told.runtime_s:
        shortest, longest = told.runtime_s
        runtime_ms = round(1000 * chance.uniform(shortest, longest))
    asked_mib = sum(part.memory_mib for part in job.allocations)
    memory_mib = told.memory_mib or max(1, round(asked_mib * chance.uniform(0.25, 0.8)))
    busy = told.busy if told.busy is not None else job.cores_allocated * chance.uniform(0.72, 0.99)
    exit_status = told.exit or 0
    if memory_mib > asked_mib:
        at = round(min(runtime_ms, walltime_ms) * chance.uniform(0.2, 0.7))
        return ModelledRun(at, None, "SIGKILL", "overmemory", memory_mib, busy, "", runtime_ms)
    if runtime_ms >= walltime_ms:
        return ModelledRun(walltime_ms, None, "SIGTERM", "overtime", memory_mib, busy, "", runtime_ms)
    return ModelledRun(max(1000, runtime_ms), exit_status, None, None, memory_mib, busy)


SAMPLES = 120


class RehearsalRunner(WithoutHosts):
    """Runs jobs in a model. ``seed`` decides every modelled run."""

    def __init__(self, seed: int, printed: Callable[[Job, int], str] | None = None) -> None:
        self.seed = seed
        self._running: dict[int, tuple[Job, ModelledRun]] = {}
        self._stops: dict[int, int] = {}
        self._causes: dict[int, str] = {}
        self._printed = printed or rehearsed_output

    @property
    def files(self) -> JobFiles:
        """It makes up itself what its jobs would have written."""
        return self

    def mark(self) -> str:
        """Rehearsed attempts are in one process, so nothing has to tell them apart."""
        return ""

    def prepare(self, attempts: list[Attempt]) -> frozenset[int]:
        """Nothing to be done."""
        return frozenset()

    def start(self, jobs: list[Job]) -> None:
        """Draw the outcomes of these attempts."""
        for job in jobs:
            self._running[job.number] = (job, model(self.seed, job))

    def stop(self, job: Job, cause: str) -> None:
        """A rehearsed job ends one second after SIGTERM."""
        self._stops.setdefault(job.number, 0)
        self._causes.setdefault(job.number, cause)

    def next_report_ms(self) -> int | None:
        """When the next attempt will be over."""
        ends = [self._end(job, modelled) for job, modelled in self._running.values()]
        return min(ends, default=None)

    def _end(self, job: Job, modelled: ModelledRun) -> int:
        own = (job.started_ms or 0) + modelled.after_ms
        stop = self._stops.get(job.number)
        return own if not stop else min(own, stop)

    def reports(self, now_ms: int) -> list[Finish]:
        """Attempts over by now, in the order of their ends."""
        for number, at in self._stops.items():
            if at == 0:
                self._stops[number] = now_ms + 1000
        over = [
            (self._end(job, modelled), number)
            for number, (job, modelled) in self._running.items()
            if self._end(job, modelled) <= now_ms
        ]
        return [self._report(number, at) for at, number in sorted(over)]

    def _report(self, number: int, at: int) -> Finish:
        job, modelled = self._running[number]
        use = modelled_use(job, modelled, at)
        told = modelled_inside(job, modelled.whole_ms or modelled.after_ms, at, True)
        curve = modelled_curve(job, modelled, at)
        if at < (job.started_ms or 0) + modelled.after_ms:
            cause = self._causes.get(number, "cancelled")
            modelled = replace(modelled, exit=None, signal="SIGTERM", cause=cause, reason="")
        ended = modelled.exit, modelled.signal, modelled.cause, modelled.reason
        parts = tuple(replace(one, exit=ended[0], signal=ended[1]) for one in modelled_parts(job, use))
        return Finish(at, number, job.attempt, *ended, use, inside=told, curve=curve, parts=parts)

    def settled(self, report: Finish) -> None:
        """Forget an attempt."""
        self._running.pop(report.job, None)
        self._stops.pop(report.job, None)
        self._causes.pop(report.job, None)

    def live(self, job: Job, now_ms: int) -> tuple[Use, float] | None:
        """Use of the model by now."""
        known = self._running.get(job.number)
        if known is None:
            return None
        return modelled_use(job, known[1], now_ms), known[1].busy

    def parts(self, job: Job, now_ms: int) -> tuple[NodeUse, ...]:
        """Use of the model by now on each node."""
        known = self._running.get(job.number)
        return () if known is None else modelled_parts(job, modelled_use(job, known[1], now_ms))

    def inside(self, job: Job, now_ms: int) -> Inside | None:
        """Parts and tasks of the model by now."""
        known = self._running.get(job.number)
        return None if known is None else modelled_inside(job, known[1].whole_ms or known[1].after_ms, now_ms, False)

    def samples(self, job: Job, now_ms: int) -> list[tuple[int, float, int]]:
        """Measurements of the model; the same at every call."""
        known, began = self._running.get(job.number), job.started_ms
        if known is None or began is None:
            return []
        return modelled_samples(job, known[1], now_ms, SAMPLES)

    def output(self, job: Job, path: str, from_byte: int, now_ms: int) -> OutputChunk:
        """A piece of the output that the rehearsed job would have printed by now."""
        raw = self._printed(job, now_ms).encode()
        return OutputChunk(path, raw[from_byte:].decode(), len(raw), len(raw))

    def copying(self, job: Job) -> None:
        """Never."""

    def to_fetch(self, job: Job) -> FilesToFetch:
        """There are none."""
        return NoFiles()

    def kept(self, node: str) -> list[KeptThere]:
        """A rehearsal has no files."""
        return []

    def drop(self, node: str, item: str) -> None:
        """There is nothing."""

    def look_at(self, paths: list[str]) -> list[FileFound]:
        """A rehearsal has no files."""
        return []

    def made(self, folder: str, since_ms: int, until_ms: int | None) -> MadeFiles:
        """A rehearsal makes no files."""
        return MadeFiles(folder, problem="a rehearsal makes no files")

    def remove(self, folder: str, paths: list[str], since_ms: int) -> tuple[int, list[str]]:
        """There are none."""
        return 0, ["a rehearsal makes no files"]

    def notices(self) -> list[str]:
        """A rehearsal has no notices."""
        return []

    def closed(self) -> str:
        """A rehearsal can always go on."""
        return ""

    def obstacle(self) -> str:
        """Nothing is ever in the way of a rehearsal."""
        return ""

    def unusable(self, folder: str, written: dict[str, str], input_path: str) -> dict[str, str]:
        """A rehearsal writes nothing, so every path will do."""
        return {}


def modelled_use(job: Job, modelled: ModelledRun, at: int) -> Use:
    """Use of a modelled run by an instant."""
    ran = max(0, at - (job.started_ms or 0))
    written = round(ran / 1000 * 40_000 * max(1.0, modelled.busy))
    return Use(round(ran * modelled.busy), _modelled_memory(modelled, ran), written * 2, written)


def _modelled_memory(modelled: ModelledRun, ran_ms: int) -> int:
    """Memory fills over the first third of a run."""
    return round(modelled.memory_mib * min(1.0, ran_ms / max(1, modelled.after_ms) * 3))


def modelled_parts(job: Job, use: Use) -> tuple[NodeUse, ...]:
    """The use of a modelled run as its nodes share it; they sum to it. None where it has one node.

    Nodes get what their cores and memory say, give or take an eighth, and the first, which reads and gathers, moves twice as much.
    """
    if len(job.allocations) < 2:
        return ()
    sway = [
        0.875 + 0.25 * ((place * 40_503 + job.number) * 2_654_435_761 % 2**32) / 2**32
        for place in range(len(job.allocations))
    ]
    cores = [len(one.cores) * much for one, much in zip(job.allocations, sway, strict=True)]
    memory = [one.memory_mib * much for one, much in zip(job.allocations, reversed(sway), strict=True)]
    moved = [2.0, *(much for much in sway[1:])]
    shares = zip(
        _shared(use.cpu_ms, cores),
        _shared(use.memory_peak_mib, memory),
        _shared(use.read_bytes, moved),
        _shared(use.written_bytes, moved),
        strict=True,
    )
    return tuple(NodeUse(one.node, Use(*share)) for one, share in zip(job.allocations, shares, strict=True))


def _shared(amount: int, weights: list[float]) -> list[int]:
    """An amount in whole parts of these weights, which sum to it."""
    whole, gone, before, found = sum(weights), 0.0, 0, list[int]()
    for weight in weights:
        gone += weight
        until = round(amount * gone / whole)
        found.append(until - before)
        before = until
    return found


def modelled_samples(job: Job, modelled: ModelledRun, until_ms: int, most: int) -> list[Sample]:
    """Measurements of a modelled run."""
    began, found = job.started_ms or 0, list[Sample]()
    cores, salt = job.cores_allocated, job.number * 40_503 + job.attempt
    for at in range(began, until_ms, max(15_000, (until_ms - began) // most // 15_000 * 15_000)):
        sway = 0.92 + 0.12 * ((at // 1000 + salt) * 2_654_435_761 % 2**32) / 2**32
        found.append((at, round(min(cores, modelled.busy * sway), 2), _modelled_memory(modelled, at - began)))
    return found


def modelled_curve(job: Job, modelled: ModelledRun, until_ms: int) -> Curve | None:
    """The same as it is kept after the end."""
    most = MOST_POINTS if job.parent is None else MOST_OF_TASK
    return curve_of(modelled_samples(job, modelled, until_ms, most), most)


def modelled_inside(job: Job, whole_ms: int, at_ms: int, over: bool) -> Inside | None:
    """The parts and the spread tasks of a modelled run at an instant; ``over``: nothing of it goes on.

    An attempt that comes back goes on with the tasks that are not done.
    """
    told, began = job.request.rehearsal, job.started_ms or 0
    if not told.phases and not told.spread:
        return None
    shares = told.phases or (("", 1.0),)
    each, begin, parts = whole_ms / sum(share for _, share in shares), float(began), []
    longest = max(range(len(shares)), key=lambda place: shares[place][1])
    spread_from = spread_to = 0.0
    for place, (name, share) in enumerate(shares):
        end = begin + each * share
        if place == longest:
            spread_from, spread_to = begin, end
        if name and begin <= at_ms:
            took = round(min(at_ms, end) - begin)
            busy = took * job.cores_allocated if place == longest else took
            ended = at_ms >= round(end)
            peak, status = 200 + 150 * place, 0 if ended else None
            parts.append(
                Part(
                    name=name,
                    began_ms=round(begin),
                    took_ms=took,
                    cpu_ms=busy,
                    memory_peak_mib=peak,
                    exit=status,
                    over=ended,
                )
            )
        begin = end
    if not told.spread:
        return Inside(tuple(parts))
    before = job.inside.spread.done if job.inside is not None and job.inside.spread is not None else 0
    gone = min(1.0, max(0.0, (at_ms - spread_from) / max(1.0, spread_to - spread_from)))
    tried = before + int((told.spread - before) * gone)
    running = 0 if over or not 0 < gone < 1 else min(job.cores_allocated, told.spread - tried)
    failed = {place for place in range(before, tried) if place * 2_654_435_761 % 997 < 8}
    field = "".join("f" if place in failed else "d" for place in range(tried)) + "r" * running
    field = field.ljust(told.spread, ".")
    done = tried - len(failed)
    spread = Spread(tasks=told.spread, done=done, failed=len(failed), running=running, field=thinned(field))
    return Inside(tuple(parts), spread)


def modelled_level(job: Job) -> float:
    """A result to look at: it follows smoothly from a task's numbers, and a little from its words and its job."""
    numbers, words = list[float](), 0
    for _, value in job.request.parameters:
        try:
            numbers.append(float(value))
        except ValueError:
            words = sum(value.encode()) % 7
    level = sum(math.sqrt(abs(number)) for number in numbers) if numbers else (job.number * 40_503 % 97) / 97
    return 1.2 + 1.6 * level / (1 + level) + 0.06 * words


def rehearsed_output(job: Job, now_ms: int) -> str:
    """A few lines: a rehearsed job runs nothing, so it prints what the model did."""
    if job.started_ms is None:
        return ""
    until = job.ended_ms if job.ended_ms is not None else now_ms
    steps = min(40, int((until - job.started_ms) / 1000 / max(1, job.request.walltime_s) * 60))
    lines = ["a rehearsal: nothing is run, times are modelled"]
    lines.append(
        f"on {', '.join(allocation.node for allocation in job.allocations)} with {plural(job.cores_allocated, 'core')}"
    )
    each = job.request.walltime_s / 60
    lines += [
        f"step {step + 1:3d}   {format_duration(each * (step + 1)):>8} of the model's time" for step in range(steps)
    ]
    if job.ended_ms is not None:
        if job.request.rehearsal.prints:
            lines.append(job.request.rehearsal.prints)
        if job.exit:
            lines.append(f"error: the model ends it with exit {job.exit}")
        elif job.signal:
            lines.append(f"stopped by {job.signal}")
        else:
            lines.append(f"highest level {modelled_level(job):.3f} m")
            lines.append("finished")
    return "\n".join(lines) + "\n"
