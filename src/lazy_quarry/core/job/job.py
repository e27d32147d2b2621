"""A job as the engine keeps it: its request, its state, its use."""

from msgspec import Struct

from lazy_quarry.core.job.curve import Curve
from lazy_quarry.core.job.file_mark import FileMark
from lazy_quarry.core.job.host import Host
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.node_use import NodeUse
from lazy_quarry.core.job.phase import FAILING, Phase, Use
from lazy_quarry.core.job.request import Request, task_request
from lazy_quarry.core.job.times import JobTimes
from lazy_quarry.core.paths import JobPaths, start_folder
from lazy_quarry.core.units import SECOND_MS, format_instant
from lazy_quarry.core.values import replace


class Allocation(Struct, frozen=True):
    """A job's allocation on one node: cores and GPUs by number, memory and scratch."""

    node: str
    ranks: int
    cores: tuple[int, ...]
    memory_mib: int
    gpus: tuple[int, ...] = ()
    scratch_mib: int = 0

    @property
    def amount(self) -> tuple[int, int, int, int]:
        """Cores, memory in MiB, GPUs and scratch in MiB, without saying which."""
        return len(self.cores), self.memory_mib, len(self.gpus), self.scratch_mib


class Origin(Struct, frozen=True):
    """The origin of a job: the script's text as it was, its path if it had one, the folder, the environment."""

    script: str
    path: str = ""
    directory: str = ""
    environment: tuple[tuple[str, str], ...] = ()
    overrides: tuple[str, ...] = ()
    inputs: tuple[tuple[str, int, int], ...] = ()
    """Files that it names, as they were then: path, size in bytes, when it was written in ms."""
    again_of: int = 0
    """The array some of whose tasks it runs again, or the job that it runs again; 0 for none."""


def outlook(condition: str, phase: Phase | None) -> bool | None:
    """Say whether a condition on a job is met by its state now (None: it has begun); None while that is open.

    ``fails`` covers failed, overtime, overmemory and lost; not cancelled, which was somebody's wish.
    """
    if phase is None:
        return True if condition == "begins" else None
    if condition == EACH:
        return True  # its tasks have told one by one
    if condition == "begins":
        return phase not in (Phase.CANCELLED, Phase.SKIPPED)
    if condition == "finishes":
        return True
    if condition == "succeeds":
        return phase is Phase.DONE
    return phase in FAILING


EACH = "each-succeeds"
TASK_SPAN = 10_000_000
"""Job numbers stay below this; task ``index`` of array ``number`` is kept as job ``number × span + index + 1``."""


def task_id(number: int, index: int) -> int:
    """The number under which a task of an array is kept; ``index`` counts from 0."""
    return number * TASK_SPAN + index + 1


class Job(Struct, frozen=True):
    """One job, instants in ms.

    ``reason`` is why it ended as it did, or who holds it. ``allocated_core_ms`` and ``charge_core_ms`` are sums over
    the attempts that have ended.
    """

    number: int
    user: str
    request: Request
    origin: Origin
    submitted_ms: int
    phase: Phase = Phase.WAITING
    attempt: int = 0
    retried: int = 0
    """Number of times it was put back to wait after an end that ``retries`` covers."""
    queue: str = ""
    started_ms: int | None = None
    ended_ms: int | None = None
    allocations: tuple[Allocation, ...] = ()
    stopping: str | None = None
    stop_by_ms: int | None = None
    """Outcome to end, it must be over by then."""
    exit: int | None = None
    signal: str | None = None
    reason: str = ""
    use: Use = Use()
    inside: Inside | None = None
    """Parts and tasks that the last attempt told of."""
    curve: Curve | None = None
    """Use of the last attempt over its time."""
    host: Host | None = None
    """The machine that the last attempt ran on."""
    printed: tuple[FileMark, ...] = ()
    """Output and errors as the last attempt left them."""
    parts: tuple[NodeUse, ...] = ()
    """Use and end on each node of the last attempt that has ended, where it had several."""
    reached: str = ""
    """Progress of the last attempt that came back, as far as it told."""
    stuck: int = 0
    """Number of attempts in a row that got no further than it."""
    allocated_core_ms: int = 0
    charge_core_ms: int = 0
    unmet: tuple[tuple[int, str], ...] = ()
    """Jobs that it still waits for, each with its condition."""
    skip_reason: str = ""
    """Why what it waits for can no longer happen."""
    planned: bool = False
    """True when it is, or will be, skipped as planned; see :func:`~lazy_quarry.core.job.phase.left_undone`."""
    next_index: int = 0
    """For an array: the first task that is no job of its own yet."""
    handled_tasks: tuple[int, ...] = ()
    """For an array: tasks from there on that were handled one by one."""
    held_tasks: tuple[int, ...] = ()
    """For an array: tasks that are no jobs of their own yet and are held, one by one."""
    counts: tuple[tuple[str, int], ...] = ()
    """For an array: how many of its tasks have ended, by state."""
    freed_tasks: tuple[int, ...] = ()
    """For an array that waits task by task for another: its tasks that may start but have not started."""
    doomed_tasks: tuple[int, ...] = ()
    """And those that can't any more, and have not been ended yet."""
    planned_tasks: tuple[int, ...] = ()
    """Doomed tasks that are skipped as planned."""
    planned_count: int = 0
    """For an array: how many of its tasks were skipped as planned."""
    task_cores: int = 0
    """For an array: cores of the task that ended last."""
    mark: str = ""
    """The mark of its submission, which no other has, also in other journals."""
    times: JobTimes = JobTimes()
    task_delays: tuple[tuple[int, int], ...] = ()
    """For an array: tasks that were held or freed one by one, each with how much of the array's wait was not its own, in ms."""

    def in_phase(self, phase: Phase, at_ms: int) -> "Job":
        """The job in another state, or in the same one, from an instant on; its wait until then is counted."""
        waits_from = max(at_ms, self.request.not_before_ms or 0) if phase is Phase.WAITING else None
        return replace(self, phase=phase, times=self.times.turned(at_ms, waits_from))

    def begun_later(self, by_ms: int) -> "Job":
        """With the instant of its start as the clock has it that was set forward by so much: what it has run stays the same."""
        first = self.times.first_start_ms
        if first is not None and (self.request.array is not None or first == self.started_ms):
            first += by_ms
        started = None if self.started_ms is None else self.started_ms + by_ms
        return replace(self, started_ms=started, times=replace(self.times, first_start_ms=first))

    def elapsed_ms(self, now_ms: int) -> int:
        """Time that all its attempts have held its nodes by now; of an array, from its first start to its last end."""
        if self.request.array is not None:
            return self.attempt_ms(now_ms)
        return self.times.held_ms + (self.attempt_ms(now_ms) if self.phase is Phase.RUNNING else 0)

    def attempt_ms(self, now_ms: int) -> int:
        """Time that the present or last attempt has held its nodes by now."""
        if self.request.array is not None:
            began = self.times.first_start_ms
            return 0 if began is None else max(0, (self.ended_ms if self.ended_ms is not None else now_ms) - began)
        if self.phase is Phase.RUNNING and self.started_ms is not None:
            return max(0, now_ms - self.started_ms)
        return self.times.last_held_ms

    def waited_ms(self, now_ms: int) -> int:
        """Time that it has been waiting by now; an array, until its first task started."""
        first = self.times.first_wait_ms
        return first if first is not None else self.times.waited_by(now_ms)

    def cpu_ms(self, now: Use | None = None) -> int:
        """CPU time of all its attempts, or tasks; ``now`` is what the present attempt has used."""
        return self.use.cpu_ms if self.request.array is not None else self.times.cpu_ms + (now.cpu_ms if now else 0)

    @property
    def parent(self) -> int | None:
        """For a task: the number of its array."""
        return self.number // TASK_SPAN if self.number >= TASK_SPAN else None

    @property
    def index(self) -> int:
        """For a task: its place in the array, from 0."""
        return self.number % TASK_SPAN - 1

    @property
    def label(self) -> str:
        """The number as people say it: ``4127``, or ``4127/5`` for a task."""
        return f"{self.number}" if self.parent is None else f"{self.parent}/{self.request.task}"

    @property
    def paths(self) -> JobPaths:
        """The paths where it starts, prints and reads."""
        request = self.request
        dated = any("{date}" in template for template in (request.output, request.errors, request.input))
        words = {
            "name": request.name,
            "job": str(self.parent or self.number),
            **({} if request.array is not None else {"task": "" if request.task is None else str(request.task)}),
            **dict(request.parameters),
            "user": self.user,
            "node": self.allocations[0].node if self.allocations else "{node}",
            "date": format_instant(self.submitted_ms)[:10] if dated else "",
        }
        folder = start_folder(self.origin.directory, request.directory)
        return JobPaths(folder, request.output, request.errors, request.input, words)

    @property
    def unmade_tasks(self) -> int:
        """For an array: how many tasks have not started yet and are no jobs of their own."""
        array = self.request.array
        return 0 if array is None else array.count - self.next_index - len(self.handled_tasks)

    @property
    def came_back(self) -> bool:
        """True when it waited again after an attempt, so that its record alone does not tell how that one ended."""
        return self.attempt > 1 or self.retried > 0 or (self.attempt > 0 and self.started_ms is None)

    @property
    def waits_by_task(self) -> bool:
        """For an array: whether each task waits for the task of the same number in another array."""
        return any(condition == EACH for _, condition in self.request.after)

    @property
    def startable(self) -> int:
        """For an array: tasks that may start."""
        if self.waits_by_task:
            return len(set(self.freed_tasks) - set(self.held_tasks))
        return self.unmade_tasks - len(self.held_tasks)

    @property
    def all_held(self) -> bool:
        """For an array: whether it waits only because all tasks that could start are held one by one."""
        return self.phase is Phase.WAITING and bool(self.held_tasks) and self.startable == 0

    @property
    def cores_allocated(self) -> int:
        """Cores of the present or last attempt."""
        return sum(len(allocation.cores) for allocation in self.allocations)

    @property
    def claim(self) -> tuple[int, int, int]:
        """Its amounts in limits while it runs: one job, its cores, its GPUs."""
        return 1, self.cores_allocated, sum(len(one.gpus) for one in self.allocations)

    @property
    def end_limit_ms(self) -> int | None:
        """When the present attempt must be over: its walltime and grace."""
        if self.started_ms is None:
            return None
        limit = self.started_ms + (self.request.walltime_s + self.request.grace_s) * SECOND_MS
        return limit if self.stop_by_ms is None else min(limit, self.stop_by_ms)


def make_task(parent: Job, index: int) -> Job:
    """One task of an array as a job of its own; ``index`` counts from 0. Its array's wait is its wait so far."""
    number = task_id(parent.number, index)
    request = task_request(parent.request, index)
    waited, since = parent.times.waited_ms, parent.times.waiting_since_ms
    if parent.task_delays:
        delay = dict(parent.task_delays).get(index, 0)
        waited, since = (-delay, None) if index in parent.held_tasks else (waited - delay, since)
    times = JobTimes(waited_ms=waited, waiting_since_ms=since)
    return Job(number, parent.user, request, parent.origin, parent.submitted_ms, mark=parent.mark, times=times)
