"""A job as people see it: a value that the engine makes, sends, and the interface shows."""

from msgspec import Struct

from lazy_quarry.core.job.copying import Copying
from lazy_quarry.core.job.curve import Curve
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.node_use import NodeUse
from lazy_quarry.core.job.phase import Phase, Use


class OtherRun(Struct, frozen=True):
    """Another run of the same task: the number of its job, and how people say it (``10/22``)."""

    job: int
    label: str


class StartRange(Struct, frozen=True):
    """Between which instants in ms a job starts 8 times in 10, and the middle; corrected by so many earlier forecasts."""

    early_ms: int
    likely_ms: int
    late_ms: int
    checked: int = 0


class JobView(Struct, frozen=True, kw_only=True):
    """A job for people: its request, its state, its use so far.

    Instants are milliseconds since the epoch, sizes MiB. ``cores``, ``gpus``, ``memory_mib`` are totals of the job, or
    of what an array runs.
    """

    job: int
    name: str
    label: str
    """The number as people say it: ``4127``, or ``4127/5`` for a task."""
    phase: Phase
    user: str
    account: str
    queue: str
    tier: str
    submitted_ms: int
    started_ms: int | None
    ended_ms: int | None
    forecast_ms: int | None
    forecast_end_ms: int | None
    forecast_nodes: tuple[str, ...]
    why: str
    nodes: tuple[str, ...]
    cores_by_node: dict[str, tuple[int, ...]]
    node_count: int
    cores: int
    ranks: int
    threads: int
    gpus: int
    memory_mib: int
    scratch_mib: int
    walltime_s: int
    grace_s: int
    elapsed_s: int
    """Time that its attempts have held its nodes, all together; of an array, from its first start to its last end."""
    attempt_ms: int
    """The part of the present or last attempt, which is what a walltime is for."""
    waited_before_ms: int
    """Time in the state *waiting*, up to its last change of state; of an array, until its first task started."""
    waiting_since_ms: int | None
    """Instant from which it has been waiting since then; None while it does not wait."""
    cpu_ms: int
    """CPU time of all attempts."""
    use: Use
    """Use of the present or last attempt."""
    cores_busy: float | None
    exit: int | None
    signal: str | None
    reason: str
    replaces: OtherRun | None
    """The task that it runs again."""
    planned: bool
    """True for one that was skipped because it was not needed: nothing went wrong."""
    stopping: str | None
    attempt: int
    charge_core_ms: int
    output: str
    errors: str
    parent: int | None = None
    """The number of the array that this is a task of."""
    task: int | None = None
    parameters: tuple[tuple[str, str], ...] = ()
    arguments: tuple[str, ...] = ()
    """The words given to its script; of other people's jobs they are not told."""
    rows: tuple[tuple[int, int, int], ...] = ()
    """The task numbers of an array, as (first, last, step)."""
    counts: tuple[tuple[str, int], ...] = ()
    """Numbers of an array's tasks in each state."""
    failed_tasks: tuple[int, ...] = ()
    """The numbers of the first tasks that did not succeed, for an array that has ended."""
    chain: int = 0
    """The number of the chain that it belongs to, 0 for none; and that chain's name."""
    chain_name: str = ""
    replaced_by: OtherRun | None = None
    """The newest run of this task, where it ran again since. The record of this one stays as it was."""
    stuck: str = ""
    """Why one that waits has no expected start, in a few words."""
    range: StartRange | None = None
    """When it starts, of one that waits; None while that isn't known."""
    inside: Inside | None = None
    """Parts and spread tasks that it told of."""
    curve: Curve | None = None
    """Its use over its time, for one that has ended."""
    quiet_since_ms: int | None = None
    """Since when a node of a running job has not answered; None while all do."""
    copying: Copying | None = None
    """A copy that is under way for a running job."""
    warning: str = ""
    """A warning about a running job, or empty."""
    parts: tuple[NodeUse, ...] = ()
    """Use of the present or last attempt on each of several nodes, as far as that is known."""

    @property
    def by_node(self) -> tuple[NodeUse, ...]:
        """The same also of one that has a single node."""
        if self.parts or len(self.nodes) != 1 or self.rows:
            return self.parts
        return (NodeUse(self.nodes[0], self.use, self.exit, self.signal),)

    def waited_ms(self, now_ms: int) -> int:
        """Time in the state *waiting* by an instant."""
        since = self.waiting_since_ms
        return self.waited_before_ms + (0 if since is None else max(0, now_ms - since))

    @property
    def attempt_s(self) -> int:
        """The present or last attempt in whole seconds."""
        return self.attempt_ms // 1000

    @property
    def memory_peak_mib(self) -> int:
        """Greatest memory of all its processes at one time."""
        return self.use.memory_peak_mib
