"""The six promises of the engine, by random sites, jobs, faults and clocks."""

import random
import re
from collections import Counter

import msgspec
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from lazy_quarry.core.advice.forward_draws import present_of
from lazy_quarry.core.advice.planned_starts import PlannedStarts
from lazy_quarry.core.engine.commands import (
    CancelJob,
    CancelTask,
    ChangeJob,
    CloseNode,
    Finish,
    GrantHours,
    HearNode,
    HoldJob,
    LoseJob,
    LoseNode,
    OpenNode,
    OrderJobs,
    ReleaseJob,
    Reserve,
    Schedule,
    Submit,
)
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.events import Ended, Started, Submitted, TaskMade
from lazy_quarry.core.engine.live_jobs import LiveJobs
from lazy_quarry.core.engine.meters import lines_of
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import EACH, TASK_SPAN, Origin, Phase, make_task, task_id
from lazy_quarry.core.job.request import Memory, Request, Retries
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.ledger.budgets import term_of
from lazy_quarry.core.plan import compiled
from lazy_quarry.core.plan.placement import FAR
from lazy_quarry.core.plan.plan import expected_end
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Account, Limits, Node, Queue, Rates, Site, Tier, Window
from lazy_quarry.core.values import replace
from lazy_quarry.errors import Refused
from lazy_quarry.store.codec import encode
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.proof import prove
from lazy_quarry.store.rows import Scalars, Texts, job_of, live_row, opened, parts_of, scalars_of, state_of
from tests.conftest import SEEDS
from tests.core.charged import charged_for

NOW = 1_701_388_200_000
"""Ten minutes before a month ends."""
USERS, ACCOUNTS, TIERS = ("ada", "bo", "cy"), ("silt", "eels"), ("steady", "urgent", "spare")
TRAITS = ("", "big", "big and not wet", "wet or big")


class Draw:
    """Random sites, requests and acts. Everything follows from the seed."""

    def __init__(self, seed):
        self.chance = random.Random(seed)
        self.one_of, self.number = self.chance.choice, self.chance.randint

    def limits(self):
        if self.one_of([True, True, False]):
            return Limits()
        return Limits(
            running_jobs=self.one_of([None, None, 1, 3]),
            waiting_jobs=self.one_of([None, None, 2, 6]),
            cores=self.one_of([None, None, 4, 16]),
            gpus=self.one_of([None, None, 0, 2]),
            core_hours_each=self.one_of([None, None, None, 2]),
        )

    def site(self):
        nodes = tuple(
            Node(
                f"n{place}",
                self.one_of([1, 2, 4, 4, 8, 12]),
                self.one_of([512, 2048]),
                gpus=self.one_of([0, 0, 1, 2]),
                scratch_mib=self.one_of([0, 100]),
                traits=tuple(trait for trait in ("big", "wet") if self.one_of([True, False])),
            )
            for place in range(self.number(1, 5))
        )
        names = tuple(node.name for node in nodes)
        return Site(
            name="brook",
            kind="rehearsal",
            nodes=nodes,
            queues=(
                Queue("all", names, memory_default_mib=64, limits=self.limits()),
                Queue("first", names[:2], memory_default_mib=64),
                Queue("short", names, 20 * 60, memory_default_mib=64, max_cores=4, limits=self.limits()),
                Queue("soon", names, memory_default_mib=64, tier="urgent"),
                Queue("own", names, memory_default_mib=64, users=("ada",)),
            ),
            accounts=(
                Account(
                    "silt", self.one_of([None, 1, 3, 6]), target=self.number(0, 3), limits=self.limits(), **self.term()
                ),
                Account("eels", None, target=1, parent=self.one_of(["", "shore"])),
                Account("shore", self.one_of([None, None, 2, 9]), limits=self.limits(), **self.term()),
            ),
            tiers=(
                Tier("steady", 1000),
                Tier("urgent", 2000, standing_h=6, limits=self.limits()),
                Tier("spare", 500, standing_h=-6, gives_way=True),
            ),
            default_queue="all",
            default_tier="steady",
            user_limits=self.one_of([(), (), (("", self.limits()), ("bo", self.limits()))]),
            policy=self.one_of(["planned", "planned", "easy", "first-come"]),
            plan_depth=self.one_of([1, 3, 1000, 1000]),
            rates=self.rates(),
        )

    def term(self):
        """Once for all, by months, with fixed dates; the month of the acts ends soon after they begin, or has just begun."""
        turn = NOW + 600_000
        return self.one_of(
            [
                {},
                {"at_end": "give-way"},
                {"budget_begins_ms": turn},
                {"budget_ends_ms": turn},
                {"budget_each": "month", "warn_at": (50, 100)},
                {"budget_each": "month", "budget_begins_ms": turn - 70 * 86_400_000, "carries_over": True},
            ]
        )

    def rates(self):
        if self.one_of([True, False]):
            return Rates()
        return Rates(
            by=self.one_of(["largest-share", "cores"]),
            sizes=self.one_of([(), (("n0", 7), ("n1", 2.5))]),
            traits=self.one_of([(), (("wet", 1333),)]),
            queues=self.one_of([(), (("all", 1500), ("short", 0))]),
            free=self.one_of([(), ("lost", "gave-way"), ("retried", "failed")]),
        )

    def request(self):
        """Every kind of request; a third of them are plain."""
        kinds = [
            {"nodes": 2, "ranks": self.number(2, 5)},
            {"nodes": 1, "most_nodes": 3, "ranks": 1, "ranks_per_node": 1},
            {"anywhere": True, "ranks": 5},
            {"ranks": 3},
            {"whole_nodes": True},
            {"gpus": self.number(1, 2)},
            {"scratch_mib": 60},
            {"traits": self.one_of(TRAITS)},
            {"on_nodes": self.one_of([("n0",), ("n1",), ("n0", "n2")])},
            {"memory": Memory(400, self.one_of(["core", "rank", "node", "job"]))},
            {"memory": Memory(400, "job")},
            {"not_before_ms": NOW + self.one_of([0, 600_000, 7_200_000])},
            {"retries": Retries(1, ("failed", "overtime"))},
            {"retries": Retries(2, ("overmemory", "lost"))},
            {"again_at_overtime": True},
            {"after": (("newest", self.one_of(["succeeds", "fails", "finishes", "begins"])),)},
        ]
        more = {"memory": Memory(64), "threads": self.one_of([1, 1, 2, 2, 4, 8]), "array": None}
        for _ in range(self.one_of([0, 1, 1, 2, 3])):
            more |= self.one_of(kinds)
        kind = self.one_of(["one"] * 5 + ["array", "each-node", "each-succeeds"])
        if kind == "each-succeeds":
            more["after"] = (("array", EACH),)
        if kind != "one":
            each_node = self.one_of(["any", "any", "wide"]) if kind == "each-node" else ""
            more["array"] = Array(((1, self.number(1, 5), 1),), self.one_of([None, None, 1, 2]), each_node=each_node)
        queues = [("all",), ("all",), ("first",), ("first", "all"), ("short", "all"), ("soon", "all"), ("own", "all")]
        minutes = self.one_of([1, 5, 20, 90])
        return Request("j", self.one_of(ACCOUNTS), self.one_of(queues), self.one_of(TIERS), minutes * 60, **more)

    def act(self):
        """Draw what happens, to whom or what, and how long nothing happens afterwards."""
        what = self.one_of(
            ["submit"] * 12
            + ["finish"] * 5
            + ["overtime", "overmemory", "hold", "release", "cancel", "cancel-task", "hold-task", "change", "order"]
            + [
                "lose",
                "lose-job",
                "quiet",
                "quiet",
                "answers",
                "answers",
                "close",
                "open",
                "open",
                "reserve",
                "grant",
                "look",
                "look",
                "reopen",
            ]
        )
        return what, self.number(0, 50), self.one_of([0, 0, 1000, 30_000, 60_000, 900_000, -5000])


class World:
    """An engine with all that it has said, and a twin that says the same: opened again at times, and never looked into.

    The engine finds places by the compiled search, its twin by the other.
    """

    def __init__(self, site):
        self.site, self.engine, self.at, self.events = site, Engine(site), NOW, []
        self.engine.plans.planner.kernels = compiled
        self.twin = Engine(site)

    def tell(self, command):
        try:
            events = self.engine.decide(command)
        except Refused as fault:
            with pytest.raises(Refused, match=re.escape(str(fault))):
                self.twin.decide(command)
            return []
        assert [encode(event) for event in self.twin.decide(command)] == [encode(event) for event in events]
        self.engine.apply(events)
        self.twin.apply(events)
        self.events += events
        return events

    def reopen(self):
        """The twin is opened from what was written of its state, as after a crash."""
        self.twin = Engine(self.site, copied(self.twin.state))

    def pick(self, place, *phases):
        found = sorted(n for n, job in self.engine.state.jobs.items() if job.phase in phases)
        return found[place % len(found)] if found else 0

    def whole(self, request, user):
        """A request with what it waits for, as the site hands it to the engine, and tasks that are decided already."""
        jobs = self.engine.state.jobs
        if request.array is not None and request.array.each_node:
            wide = request.array.each_node == "wide"
            names = tuple(node.name for node in self.site.nodes if not wide or node.cores >= 4) or ("n0",)
            array = replace(request.array, rows=((1, len(names), 1),), nodes=names)
            request = replace(request, array=array, on_nodes=())
        freed, doomed = set(), set()
        for word, condition in request.after:
            leaders = [n for n, job in jobs.items() if job.parent is None and (word == "newest" or job.request.array)]
            if not leaders:
                return replace(request, after=()), (), ()
            leader = max(leaders)
            request = replace(request, after=((str(leader), condition),))
            if condition != EACH:
                return request, (), ()
            rows = jobs[leader].request.array.rows
            request = replace(request, array=replace(request.array, rows=rows, each_node="", nodes=()))
            for event in self.events:
                if isinstance(event, Ended) and event.job // TASK_SPAN == leader and not event.again:
                    (freed if event.phase is Phase.DONE else doomed).add(event.job % TASK_SPAN - 1)
        return request, tuple(sorted(freed)), tuple(sorted(doomed))

    def act(self, what, place, request):
        at, user = self.at, USERS[place % 3]
        node = self.site.nodes[place % len(self.site.nodes)].name
        live = self.pick(place, Phase.WAITING, Phase.BLOCKED, Phase.HELD, Phase.RUNNING)
        job = self.engine.state.jobs.get(live)
        own = job.user if job else user
        if what == "submit":
            request, freed, doomed = self.whole(request, user)
            self.tell(Submit(at, By(user), request, Origin("x"), freed, doomed))
        elif what in ("finish", "overtime", "overmemory"):
            self.end(self.pick(place, Phase.RUNNING), place, what)
        elif what == "lose":
            self.tell(LoseNode(at, node, By(why="gone")))
        elif what == "lose-job":
            self.tell(LoseJob(at, self.pick(place, Phase.RUNNING), node))
        elif what in ("quiet", "answers"):
            self.tell(HearNode(at, node, at - 1000 * place if what == "quiet" else None))
        elif what == "close":
            self.tell(CloseNode(at, node, By(why="sick")))
        elif what == "open":
            self.tell(OpenNode(at, node))
        elif what == "reserve":
            window = Window(
                (node,), at + 60_000 * place, at + 60_000 * (place + 30), "r", USERS[: place % 2], (), f"w{place % 3}"
            )
            self.tell(Reserve(at, window, By("ada")))
        elif what == "grant":
            account, source = ACCOUNTS[place % 2], ("", "", "eels", "silt")[place % 4]
            self.tell(GrantHours(at, account, (place - 10) * 900_000, By(user, why="more"), source))
        elif what == "look":
            plan = self.engine.plans.plan(max(at, self.engine.state.at_ms))
            if place % 2:  # a slice of it
                plan.work(place % 5)
                return
            assert set(plan.placements).isdisjoint(set(plan.unplaced) - set(plan.placements))
        elif what == "reopen":
            self.reopen()
        elif what in ("cancel-task", "hold-task"):
            arrays = sorted(n for n, one in self.engine.state.jobs.items() if one.request.array is not None)
            if arrays:
                array = self.engine.state.jobs[arrays[place % len(arrays)]]
                index = place % array.request.array.count
                command = (HoldJob if place % 3 else ReleaseJob)(at, task_id(array.number, index), By(array.user))
                self.tell(command if what == "hold-task" else CancelTask(at, array.number, index, By(array.user)))
        elif job is not None and job.parent is None:
            own_jobs = [
                n
                for n, other in self.engine.state.jobs.items()
                if other.user == own and other.phase is Phase.WAITING and other.parent is None
            ]
            request, freed, doomed = self.whole(replace(request, after=job.request.after and request.after), own)
            if str(live) in dict(request.after):
                request, freed, doomed = replace(request, after=()), (), ()
            self.tell(
                {
                    "hold": HoldJob(at, live, By(own)),
                    "release": ReleaseJob(at, live, By(own)),
                    "cancel": CancelJob(at, live, By(own)),
                    "change": ChangeJob(at, live, By(own), request, (), freed, doomed),
                    "order": OrderJobs(at, By(own), tuple(sorted(own_jobs, reverse=True))),
                }[what]
            )

    def end(self, number, place=0, what="finish"):
        job = self.engine.state.jobs.get(number)
        if job is None:
            return
        cause = job.stopping or (what if what != "finish" else None)
        # What a supervisor's clock says need not fit the instants: those may have been set meanwhile.
        held_ms = (None, 0, 977 * place)[place % 3]
        self.tell(Finish(self.at, number, job.attempt, None if cause else place % 2, None, cause, held_ms=held_ms))

    def move(self, by):
        """The clock goes on, or is set back; what has come to its limit ends first."""
        until = self.at + by
        while limits_ := [(job.end_limit_ms or 0, job.number) for job in self.engine.state.running()]:
            limit, number = min(limits_)
            if limit > until:
                break
            self.at = max(self.at, limit)
            self.end(number, 0, "overtime")
        self.at = until

    def check_never_over(self):
        state, site = self.engine.state, self.site
        held, counted = Counter(), Counter()
        for job in state.running():
            for allocation in job.allocations:
                held[allocation.node, "cores"] += len(allocation.cores)
                held[allocation.node, "gpus"] += len(allocation.gpus)
                held[allocation.node, "memory"] += allocation.memory_mib
                held[allocation.node, "scratch"] += allocation.scratch_mib
            owners = [
                ("user", job.user),
                *(("account", name) for name in site.lineage(job.request.account)),
                ("queue", job.queue),
                ("tier", job.request.tier),
            ]
            for owner in owners:
                counted[owner, "jobs"] += 1
                counted[owner, "cores"] += job.cores_allocated
                counted[owner, "gpus"] += sum(len(allocation.gpus) for allocation in job.allocations)
        for node in site.nodes:
            assert held[node.name, "cores"] <= node.cores
            assert held[node.name, "gpus"] <= node.gpus
            assert held[node.name, "memory"] <= node.memory_mib
            assert held[node.name, "scratch"] <= node.scratch_mib
        for owner, measure in counted:
            kind, name = owner
            bound = site.limits_of(name) if kind == "user" else getattr(site, kind)[name].limits
            most = {"jobs": bound.running_jobs, "cores": bound.cores, "gpus": bound.gpus}[measure]
            assert most is None or counted[owner, measure] <= most, (owner, measure)
        for name, left in self.engine.plans.limit_rows(max(self.at, state.at_ms)).left.items():
            assert left >= 0 or self.may_overrun(name), f"{name} could be overrun"

    def may_overrun(self, name):
        """Tell which jobs may overrun: what ran when its term began goes on, and some tiers do when it is used up, if the site says so."""
        begin = term_of(self.site.account[name], max(self.at, self.engine.state.at_ms)).begin_ms
        ran = {
            (event.job, event.attempt) for event in self.events if isinstance(event, Started) and event.at_ms < begin
        }
        ran -= {
            (event.job, event.attempt) for event in self.events if isinstance(event, Ended) and event.at_ms <= begin
        }
        return self.site.account[name].at_end == "give-way" or bool(ran)


def whose(event):
    """The job that an event is about; for a task its array."""
    number = getattr(event, "job", 0)
    return number // TASK_SPAN if number >= TASK_SPAN else number


def check_plan(world, at, kept):
    """Check that what runs and what is placed never comes to more than a node has, at any instant; a kept plan is as a fresh one."""
    plan, site = world.engine.plans.plan_of(at, world.engine.plans.in_order(at)), world.site
    if kept:
        assert world.engine.plans.plan(at).placements == plan.placements
    # What forecasts begin from is such a plan too.
    asked = PlannedStarts(present_of(world.engine, Planner(site), at, 10_000)).plan
    assert {job: place.start_ms for job, place in asked.placements.items()} == {
        job: place.start_ms for job, place in plan.placements.items()
    }
    places = [*plan.placements.values(), *plan.starting()]
    spans = [
        (one.node, expected_end(job.end_limit_ms, at), at, one.amount)
        for job in world.engine.state.running()
        for one in job.allocations
    ]
    spans += [
        (one.node, place.end_ms, place.start_ms, one.amount) for place in set(places) for one in place.allocations
    ]
    for instant in {at, *(begin for _, _, begin, _ in spans)}:
        for node in site.nodes:
            here = [amount for name, end, begin, amount in spans if name == node.name and begin <= instant < end]
            most = (node.cores, node.memory_mib, node.gpus, node.scratch_mib)
            assert all(sum(each) <= bound for each, bound in zip(zip(*here, strict=True), most, strict=False)), (
                instant,
                node,
            )


def check_what_is_kept(world, at):
    """Check that what is kept up to date at each change is what follows from all jobs, and turns merged are turns sorted."""
    jobs = world.engine.state.jobs
    fresh = LiveJobs(sorted(jobs.items()))
    assert fresh.running == jobs.running
    assert (fresh.arrays, fresh.doomed, fresh.dated) == (jobs.arrays, jobs.doomed, jobs.dated)
    lines, kept = (  # one may be left without jobs, when all that is in it is a task that is held
        {key: (one.places, one.unstarted) for key, one in of.lines.items() if one.places or one.unstarted}
        for of in (fresh, jobs)
    )
    assert lines == kept
    assert [job.number for job in world.engine.plans.in_turn(at)] == [
        job.number for job in world.engine.plans.in_order(at)
    ]


def start_alone(world, state, number, at):
    """When a job, or the first task of an array that may start, would start beside what runs, if nobody else waited.

    Tasks are asked one by one as jobs of their own, so that this doesn't rely on how the plan treats arrays.
    """
    job, jobs = state.jobs[number], [state.jobs[number]]
    array = job.request.array
    if array is not None:
        if array.at_once is not None and len(state.tasks.get(number, ())) >= array.at_once:
            return 0  # it waits for its own tasks
        left = job.freed_tasks if job.waits_by_task else range(job.next_index, array.count)
        jobs = [make_task(job, index) for index in left if index not in (*job.handled_tasks, *job.held_tasks)]
    starts = [FAR]
    for one in jobs:
        plan = Engine(world.site, state).plans.plan_of(at, [one])
        starts += [plan.placements[one.number].start_ms] if one.number in plan.placements else []
    return min(starts)


def check_first_not_delayed(world, before, events, at):
    """The first that goes on waiting would start no sooner if those behind it hadn't started just now."""
    order = [job.number for job in Engine(world.site, before).plans.in_order(at)]
    still = {
        job.number
        for job in world.engine.plans.in_order(at)
        if world.site.policy == "planned" or (job.request.not_before_ms or 0) <= at
    }
    first = next((number for number in order if number in still), None)
    if first is None:
        return
    ahead = order[: order.index(first) + 1]
    started = [one for one in events if isinstance(one, Started)]
    jobs = {one.job for one in started if (one.job if one.job in order else whose(one)) not in ahead}
    behind = [one for one in events if isinstance(one, Started | TaskMade) and one.job in jobs]
    for event in events:
        if event not in behind:
            before.apply(event)
    alone, beside = (start_alone(world, state, first, at) for state in (before, world.engine.state))
    assert beside <= alone, (first, behind)


def copied(state):
    """The state that the journal's rows of it give again."""
    texts, new = Texts(), {0: ""}
    rows = [live_row(job, texts, new) for job in state.jobs.values()]
    jobs = {row.job: job_of(row.body, new[row.script], new[row.environment]) for row in rows}
    scalars = msgspec.json.decode(opened(scalars_of(state, 0, {})), type=Scalars)
    return state_of(jobs, parts_of(state, state.recent), scalars)


def check_queues(site, events, requests_):
    """Nothing runs in a queue that would refuse it if it were named alone."""
    for event in events:
        if isinstance(event, Started):
            queue, request = site.queue[event.queue], requests_[whose(event)]
            assert queue.walltime_limit_s is None or request.walltime_s <= queue.walltime_limit_s
            cores = sum(len(one.cores) for one in event.allocations)
            assert queue.max_cores is None or request.whole_nodes or cores <= queue.max_cores
            assert queue.tier in (None, request.tier)


def run_to_the_end(world):
    """Everything that could ever run does: what is left has a reason that only a person can remove."""
    state = world.engine.state
    world.at = max(world.at, state.at_ms)
    for node in sorted(state.closures):
        world.tell(OpenNode(world.at, node))
    for node in sorted(state.quiet):
        world.tell(HearNode(world.at, node))
    for number, job in [*sorted(state.jobs.items()), *sorted(state.jobs.items())]:  # an array, then its tasks
        if state.jobs[number].phase is Phase.HELD or state.jobs[number].held_tasks:
            world.tell(ReleaseJob(world.at, number, By(job.user)))
    for _ in range(400):
        world.tell(Schedule(world.at))
        for job in list(state.running()):
            world.end(job.number)
        if not state.jobs:
            return
        world.tell(Schedule(world.at))
        if not any(state.running()):
            world.at += 1_800_000
    plan = world.engine.plans.plan(world.at)
    kept = {number for number, one in plan.placements.items() if one.start_ms <= world.at}
    stuck = {number for number, job in state.jobs.items() if job.phase is Phase.WAITING}
    told = {plan.unplaced[number].kind for number in stuck if number in plan.unplaced}
    if len(told) > 1:
        told -= {"at-once"}  # one of its own tasks is stuck
    assert not kept and told <= {"budget", "nodes", "limit", "turn", "not-before"}, (told, stuck)
    if stuck and world.site.policy == "planned" and world.site.plan_depth == 1000:
        assert told and told <= {"budget", "nodes", "limit"}, (told, stuck)
    for job in state.jobs.values():
        assert job.phase is not Phase.BLOCKED or all(number in state.jobs for number, _ in job.unmet), job


@settings(max_examples=30 if SEEDS == 1 else 60 * SEEDS, report_multiple_bugs=False)
@given(st.integers(0, 2**40), st.integers(5, 60))
@example(100196, 41)  # one that gives way behind the first, on a budget at whose end such go on
@example(3861816, 11)  # the same, and jobs of other accounts that start at that instant behind both
@example(100284, 49)  # a start that costs less than it might have elsewhere, and another job of that account
def test_whatever_happens_the_promises_hold(seed, acts):
    draw = Draw(seed)
    site = draw.site()
    world = World(site)
    for _ in range(acts):
        what, place, by = draw.act()
        world.act(what, place, draw.request())
        world.move(by)
        before = copied(world.engine.state)
        known = {number: job.request for number, job in before.jobs.items()}
        # 1, 2: the engine, its twin (see World) and one that is opened now say the very same
        wanted = Engine(site, copied(before)).decide(Schedule(world.at))
        later = frozenset(event.job for event in wanted if isinstance(event, Started) and (event.job + place) % 3 == 0)
        said = Engine(site, copied(before)).decide(Schedule(world.at, later))
        events = world.tell(Schedule(world.at, later))
        assert [encode(event) for event in said] == [encode(event) for event in events]
        # Those whose nodes aren't ready are left out, and nothing else: the others start as they would.
        assert _starts(events) == [each for each in _starts(wanted) if each[0] not in later]
        assert not {node for _, nodes in _starts(events) for node in nodes} & before.quiet.keys()
        at = world.engine.state.at_ms
        check_queues(site, events, known)
        check_first_not_delayed(world, before, events, at)  # 5
        world.check_never_over()  # 3
        check_plan(world, at, place % 4 == 0)
        check_what_is_kept(world, at)
    run_to_the_end(world)
    _no_attempt_twice(world.events)
    _books_balance(world)
    _terms_balance(world)
    _waits_are_times_in_waiting(world)
    state = State()
    for event in world.events:
        state.apply(event)
    assert state == world.engine.state


def _starts(events):
    return [(one.job, [each.node for each in one.allocations]) for one in events if isinstance(one, Started)]


def _waits_are_times_in_waiting(world):
    """A job has waited as long as it stood in *waiting* and might start; an array, until its first task started."""
    state, waited, at = State(), Counter(), 0
    for event in world.events:
        for number, job in state.jobs.items() if event.at_ms > at else ():
            if job.phase is Phase.WAITING and job.times.first_wait_ms is None:
                waited[number] += max(0, event.at_ms - max(at, job.request.not_before_ms or 0))
        ended = state.apply(event)
        at = max(at, event.at_ms)
        for job in (*state.jobs.values(), *([ended] if ended else [])):
            if job.parent is None:
                assert job.waited_ms(at) == waited[job.number], job


def _no_attempt_twice(events):
    started = Counter((event.job, event.attempt) for event in events if isinstance(event, Started))
    assert all(count == 1 for count in started.values())
    final = Counter(event.job for event in events if isinstance(event, Ended) and not event.again)
    assert all(count == 1 for count in final.values())
    known = {event.job for event in events if isinstance(event, Submitted | TaskMade)}
    assert set(final) <= known


def _terms_balance(world):
    """Check that the use of a budget is what was charged since its term began, to it and those under it; to the millisecond."""
    site, state, attempts = world.site, State(), {}
    for event in world.events:
        if isinstance(event, Ended) and (event.job, event.attempt) in attempts:
            known = attempts[event.job, event.attempt]
            known[-1] = known[-1] or event  # what waited to run again may have been changed to an array, which ends too
        state.apply(event)
        if isinstance(event, Started):
            attempts[event.job, event.attempt] = [event, state.jobs[event.job].request, None]
    for line in lines_of(site, state, state.at_ms):
        if line.budget is not None:
            begin, under = line.budget.term.begin_ms, site.under(line.account)
            parts = [
                _charged_since(site, begin, state.at_ms, *one) for one in attempts.values() if one[1].account in under
            ]
            assert line.budget.used_core_ms == sum(parts), line


def _charged_since(site, begin, now, started, wanted, ended):
    def lasting(length):
        return charged_for(site, wanted.tier, started.queue, started.allocations, max(0, length))

    if ended is not None and ended.at_ms <= begin:
        return 0
    whole = lasting(now - started.at_ms) if ended is None else ended.charge_core_ms
    return whole - lasting(begin - started.at_ms)


def _free(site, ended, wanted, gave_way):
    if gave_way:
        return "gave-way" in site.rates.free
    goes_on = ended.phase is Phase.OVERTIME and wanted.again_at_overtime
    return ended.phase.value in site.rates.free or (ended.again and not goes_on and "retried" in site.rates.free)


def _books_balance(world):
    state, site = world.engine.state, world.site
    journal = Journal(None)
    journal.append_past(world.events)
    proof = prove(journal, state.jobs.values())
    assert not proof.wrong and not proof.unknown, proof
    journal.close()
    ended = [event for event in world.events if isinstance(event, Ended) and event.allocated_core_ms]
    assert sum(tally.allocated_core_ms for tally in state.tallies.values()) == sum(
        event.allocated_core_ms for event in ended
    )
    days = (core_ms for users in state.recent.values() for each in users.values() for core_ms in each.values())
    assert sum(days) == sum(event.allocated_core_ms for event in ended)
    began, held = {}, {}
    given_way = {
        (event.job, event.attempt) for event in ended if event.reason == "it gave way to a job of another tier"
    }
    requests_ = {event.job: event.request for event in world.events if isinstance(event, Submitted)}
    for event in world.events:
        if isinstance(event, Started):
            held[event.job, event.attempt] = (event.queue, event.allocations)
            began[event.job, event.attempt] = sum(len(allocation.cores) for allocation in event.allocations)
        elif isinstance(event, Ended) and event.allocated_core_ms:
            cores = began[event.job, event.attempt]
            assert event.allocated_core_ms == cores * event.held_ms
            if event.job in requests_ and not any(
                getattr(one, "kind", "") == "changed" and one.job == event.job for one in world.events
            ):
                wanted = requests_[event.job]
                assert event.charge_core_ms == (
                    0
                    if _free(site, event, wanted, (event.job, event.attempt) in given_way)
                    else charged_for(site, wanted.tier, *held[event.job, event.attempt], event.held_ms)
                )
