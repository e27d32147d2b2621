"""A rehearsal site that begins with somebody's history: a workload trace, on nodes of a site file or of the trace's own size.

A trace says when jobs came, waited and ran on how many cores, not where. Here each is put on the nodes that had most free
then; where a trace holds more than there is, its nodes are shared. What comes in the trace's last hours comes again.
"""

from __future__ import annotations

import heapq
import itertools
from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime

from msgspec import Struct

from lazy_quarry.core.engine.commands import Command, Submit
from lazy_quarry.core.engine.events import BroughtForward
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Allocation, Job, Origin, Phase, Use
from lazy_quarry.core.job.rates import charge, counted
from lazy_quarry.core.job.request import Memory, Rehearsal, Request
from lazy_quarry.core.job.times import JobTimes
from lazy_quarry.core.site import Account, Node, Queue, Site, Tier
from lazy_quarry.core.units import HOUR_MS, SECOND_MS
from lazy_quarry.core.values import replace
from lazy_quarry.demo.rehearsed import brought_forward
from lazy_quarry.demo.virtual_clock import OnVirtualClock
from lazy_quarry.errors import BadValue
from lazy_quarry.store.journal import Journal
from lazy_quarry.study.swf import History, TraceRecord

AGAIN_MS = 12 * HOUR_MS
"""Time (ms) of the trace's end that comes again as the present."""
MOST_NODES, CORES_EACH, MIB_A_CORE = 1_000, 32, 4096
BEGINS_MS = round(datetime(2027, 1, 4, tzinfo=UTC).timestamp() * 1000)
"""Where a trace doesn't say when it was."""
_PHASES = {1: Phase.DONE, 5: Phase.CANCELLED}
_AT_ONCE = 2_000


def history_site(history: History, name: str, described: Site | None = None) -> Site:
    """The site of a trace: that of a site file, with the trace's accounts and queues beside its own, or one of the trace's size.

    Raises :class:`BadValue` for a trace without jobs.
    """
    if not history.records:
        raise BadValue("the trace has no job with a size and a time")
    site = described or _own_site(history, name)
    known = {account.name for account in site.accounts}
    accounts = [Account(one) for one in dict.fromkeys(_names(history).account(record) for record in history.records)]
    added = tuple(one for one in accounts if one.name not in known)
    return replace(site, kind="rehearsal", accounts=(*site.accounts, *added))


def _own_site(history: History, name: str) -> Site:
    most = max(record.cores for record in history.records)
    cores = max(most, history.number("MaxProcs") or 0)
    count = min(MOST_NODES, max(1, history.number("MaxNodes") or -(-cores // CORES_EACH)))
    each = -(-cores // count)
    memory = max(MIB_A_CORE, *(round((record.memory_kib or 0) / 1024) for record in history.records))
    width = len(str(count))
    nodes = tuple(Node(f"n{number:0{width}}", each, each * memory) for number in range(1, count + 1))
    names = tuple(node.name for node in nodes)
    queues = dict.fromkeys(_names(history).queue(record) for record in history.records)
    return Site(
        name=name,
        kind="rehearsal",
        nodes=nodes,
        queues=tuple(Queue(queue, names, memory_default_mib=1024) for queue in queues),
        accounts=(),
        tiers=(Tier("steady", note="the usual"),),
        default_queue=next(iter(queues)),
        default_tier="steady",
    )


class _Names(Struct, frozen=True):
    """The names of a trace's numbers: as its header says, or the numbers themselves."""

    queues: dict[int, str]
    users: dict[int, str]
    groups: dict[int, str]

    def queue(self, record: TraceRecord) -> str:
        return self.queues.get(record.queue, f"q{record.queue}" if record.queue >= 0 else "all")

    def user(self, record: TraceRecord) -> str:
        return self.users.get(record.user, f"u{record.user}" if record.user >= 0 else "somebody")

    def account(self, record: TraceRecord) -> str:
        return self.groups.get(record.group, f"g{record.group}" if record.group >= 0 else "everybody")


def _names(history: History) -> _Names:
    return _Names(history.names("Queue"), history.names("Note user"), history.names("Note group"))


class FromHistory(OnVirtualClock):
    """The site with a trace as its past, some hours before the trace's end."""

    def __init__(self, history: History, site: Site, seed: int = 7) -> None:
        self.history = history
        self._named = _names(history)
        start = history.number("UnixStartTime")
        self._zero = start * 1000 if start is not None and start > 0 else BEGINS_MS
        last = self._zero + round(max(record.submit_s for record in history.records) * SECOND_MS)
        begins = max(self._zero, last - AGAIN_MS)
        users = Counter(self._named.user(record) for record in history.records)
        self._site = site
        self._past, again = list[Job](), list[Submit]()
        for job, record in zip(self._jobs(), history.records, strict=True):
            if (job.ended_ms or 0) <= begins:
                self._past.append(job)
            else:
                again.append(self._command(job, record, begins))
        coming: Iterator[Command] = iter(sorted(again, key=lambda one: one.at_ms))
        journal, first = Journal(None), next(iter(site.account))
        journal.append_past([BroughtForward(begins, first, 0, 0, 0, 0, next_number=len(history.records) + 1)])
        super().__init__(site, journal, users.most_common(1)[0][0], begins, seed, coming)

    def add_past(self, days: int) -> None:
        """All of the trace that had ended by then."""
        past = sorted(self._past, key=lambda job: (job.ended_ms or 0, job.number))
        for begin in range(0, len(past), _AT_ONCE):
            with self.session.lock:
                self.session.journal.import_past(past[begin : begin + _AT_ONCE])
        with self.session.lock:
            self.session.commit(list(brought_forward(past, self.session.now())))
            self.session.past_was_added()

    def _command(self, job: Job, record: TraceRecord, begins: int) -> Submit:
        """It comes again: when it came, or now for the rest of its run."""
        ran = round(record.run_s)
        if job.started_ms is not None and job.started_ms < begins:
            ran = max(1, ((job.ended_ms or 0) - begins) // SECOND_MS)
        status = None if record.status == 1 else 1
        request = replace(job.request, rehearsal=Rehearsal((max(1, ran), max(1, ran)), exit=status))
        return Submit(max(job.submitted_ms, begins), By(job.user), request, Origin("#!/bin/sh\n", "from the trace"))

    def _jobs(self) -> Iterator[Job]:
        """The jobs of the trace, in its order, each with the nodes that it may have had."""
        ground = _Ground(self._site.nodes)
        queues = self._site.queue
        started = sorted(
            range(len(self.history.records)),
            key=lambda place: self.history.records[place].submit_s + (self.history.records[place].wait_s or 0.0),
        )
        places = dict[int, tuple[Allocation, ...]]()
        for place in started:
            record = self.history.records[place]
            begin = record.submit_s + (record.wait_s or 0.0)
            queue = queues.get(self._named.queue(record))
            memory = max(1, round((record.memory_kib or 1024 * 1024) / 1024))
            places[place] = ground.put(record.cores, memory, begin, begin + record.run_s, queue)
        for number, record in enumerate(self.history.records, 1):
            yield self._job(number, record, places[number - 1])

    def _job(self, number: int, record: TraceRecord, allocations: tuple[Allocation, ...]) -> Job:
        queue = self._named.queue(record)
        queue = queue if queue in self._site.queue else self._site.default_queue
        memory = max(1, round((record.memory_kib or 1024 * 1024) / 1024))
        program = f"job-{record.program}" if record.program >= 0 else "job"
        walltime = max(60, round(record.walltime_s), round(record.run_s))
        request = Request(
            program,
            self._named.account(record),
            (queue,),
            self._site.default_tier,
            walltime,
            Memory(memory),
            ranks=record.cores,
        )
        submitted = self._zero + round(record.submit_s * SECOND_MS)
        begin = submitted + round((record.wait_s or 0.0) * SECOND_MS)
        ran = round(record.run_s * SECOND_MS)
        cpu = round((record.cpu_s if record.cpu_s is not None else record.run_s) * SECOND_MS) * record.cores
        held = sum(len(one.cores) for one in allocations) * ran
        phase = _PHASES.get(record.status, Phase.FAILED)
        return Job(
            number,
            self._named.user(record),
            request,
            Origin("#!/bin/sh\n", "from the trace"),
            submitted,
            phase,
            attempt=1,
            queue=queue,
            started_ms=begin,
            ended_ms=begin + ran,
            allocations=allocations,
            exit={Phase.DONE: 0, Phase.FAILED: 1}.get(phase),
            use=Use(min(cpu, held), memory * record.cores),
            allocated_core_ms=held,
            charge_core_ms=charge(self._site, request.tier, counted(self._site, queue, allocations), ran),
            times=JobTimes.of_one_attempt(submitted, begin, ran, min(cpu, held)),
        )


class _Ground:
    """Free cores of each node, and when others will be."""

    def __init__(self, nodes: Sequence[Node]) -> None:
        self.nodes = {node.name: node for node in nodes if node.runs_jobs}
        self.free = {name: node.cores for name, node in self.nodes.items()}
        self.ends: list[tuple[float, int, str, int]] = []
        self._count = itertools.count()

    def put(self, cores: int, memory_mib: int, begin: float, end: float, queue: Queue | None) -> tuple[Allocation, ...]:
        """Where so many cores go from one instant to another: the freest nodes first."""
        while self.ends and self.ends[0][0] <= begin:
            _, _, name, count = heapq.heappop(self.ends)
            self.free[name] += count
        names = [name for name in (queue.nodes if queue else self.nodes) if name in self.nodes] or list(self.nodes)
        found, left = list[Allocation](), cores
        for name in sorted(names, key=lambda one: -self.free[one]):
            count = min(left, max(self.free[name], 0)) or (
                min(left, self.nodes[name].cores) if self.free[name] <= 0 else 0
            )
            if count:
                first = max(0, min(self.nodes[name].cores - count, self.nodes[name].cores - self.free[name]))
                found.append(Allocation(name, count, tuple(range(first, first + count)), memory_mib * count))
                self.free[name] -= count
                heapq.heappush(self.ends, (end, next(self._count), name, count))
                left -= count
            if not left:
                break
        return tuple(found)
