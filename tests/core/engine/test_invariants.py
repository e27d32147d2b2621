"""The six promises of the engine, by random sites, jobs, faults and clocks."""

from collections import Counter
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.engine.commands import (
    CancelJob,
    ChangeJob,
    CloseNode,
    Finish,
    HoldJob,
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
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.job import Origin, Phase
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.ledger.charges import charge
from lazy_quarry.core.site import Account, Limits, Node, Queue, Site, Tier, Window
from lazy_quarry.errors import Refused
from lazy_quarry.store.codec import encode, from_json, snapshot_to_json

NOW = 1_700_000_000_000
USERS, ACCOUNTS, TIERS = ("ada", "bo", "cy"), ("silt", "eels"), ("steady", "urgent", "spare")
limits = st.builds(
    Limits,
    running_jobs=st.none() | st.integers(1, 4),
    waiting_jobs=st.none() | st.integers(1, 6),
    cores=st.none() | st.integers(2, 20),
    gpus=st.none() | st.integers(0, 2),
)


@st.composite
def sites(draw):
    nodes = tuple(
        Node(f"n{place}", draw(st.integers(1, 12)), 8192, gpus=draw(st.integers(0, 2)))
        for place in range(draw(st.integers(1, 4)))
    )
    names = tuple(node.name for node in nodes)
    return Site(
        name="brook",
        kind="rehearsal",
        nodes=nodes,
        queues=(
            Queue("all", names, memory_default_mib=64, limits=draw(limits)),
            Queue("first", names[:1], memory_default_mib=64),
        ),
        accounts=(
            Account("silt", draw(st.none() | st.integers(0, 6)), target=draw(st.integers(0, 3)), limits=draw(limits)),
            Account("eels", None, target=1),
        ),
        tiers=(
            Tier("steady", 1000),
            Tier("urgent", 2000, standing_h=6, limits=draw(limits)),
            Tier("spare", 500, standing_h=-6, gives_way=True),
        ),
        default_queue="all",
        default_tier="steady",
        user_limits=(("", draw(limits)), ("bo", draw(limits))),
        policy=draw(st.sampled_from(["planned", "planned", "easy", "first-come"])),
    )


requests = st.builds(
    lambda account, queues, tier, minutes, threads, gpus, array, retries: Request(
        "j",
        account,
        queues,
        tier,
        minutes * 60,
        Memory(64),
        threads=threads,
        gpus=gpus,
        grace_s=30,
        failure_retries=retries,
        array=array,
    ),
    st.sampled_from(ACCOUNTS),
    st.sampled_from([("all",), ("first",), ("first", "all")]),
    st.sampled_from(TIERS),
    st.sampled_from([1, 5, 20, 90]),
    st.integers(1, 12),
    st.sampled_from([0, 0, 0, 1, 2]),
    st.none()
    | st.none()
    | st.builds(lambda count, most: Array(((1, count, 1),), most), st.integers(1, 6), st.none() | st.integers(1, 3)),
    st.integers(0, 1),
)
acts = st.lists(
    st.tuples(
        st.sampled_from(
            ["submit"] * 6
            + ["finish"] * 5
            + ["overtime", "hold", "release", "cancel", "change", "order", "lose", "close", "open", "reserve", "look"]
        ),
        st.integers(0, 50),
        requests,
        st.sampled_from([0, 1000, 60_000, 900_000, -5000]),
    ),
    min_size=5,
    max_size=45,
)


class World:
    """An engine, and all that it has said."""

    def __init__(self, site):
        self.site, self.engine, self.at, self.events = site, Engine(site), NOW, []

    def tell(self, command):
        try:
            events = self.engine.decide(command)
        except Refused:
            return []
        self.engine.apply(events)
        self.events += events
        return events

    def pick(self, place, *phases):
        found = sorted(n for n, job in self.engine.state.jobs.items() if job.phase in phases)
        return found[place % len(found)] if found else 0

    def act(self, what, place, request):
        at, user = self.at, USERS[place % 3]
        node = self.site.nodes[place % len(self.site.nodes)].name
        live = self.pick(place, Phase.WAITING, Phase.HELD, Phase.RUNNING)
        job = self.engine.state.jobs.get(live)
        own = job.user if job else user
        if what == "submit":
            self.tell(Submit(at, user, request, Origin("x")))
        elif what in ("finish", "overtime"):
            self.end(self.pick(place, Phase.RUNNING), place, what)
        elif what == "lose":
            self.tell(LoseNode(at, node, "gone"))
        elif what == "close":
            self.tell(CloseNode(at, node, "sick"))
        elif what == "open":
            self.tell(OpenNode(at, node))
        elif what == "reserve":
            window = Window(
                (node,), at + 60_000 * place, at + 60_000 * (place + 30), "r", USERS[: place % 2], (), f"w{place % 3}"
            )
            self.tell(Reserve(at, window, "ada"))
        elif what == "look":
            len(self.engine.plans.plan(max(at, self.engine.state.at_ms)).placements)
        elif job is not None and job.parent is None:
            own_jobs = [
                n
                for n, other in self.engine.state.jobs.items()
                if other.user == own and other.phase is Phase.WAITING and other.parent is None
            ]
            self.tell(
                {
                    "hold": HoldJob(at, live, own),
                    "release": ReleaseJob(at, live, own),
                    "cancel": CancelJob(at, live, own),
                    "change": ChangeJob(at, live, own, replace(request, array=None)),
                    "order": OrderJobs(at, own, tuple(sorted(own_jobs, reverse=True))),
                }[what]
            )

    def end(self, number, place=0, what="finish"):
        job = self.engine.state.jobs.get(number)
        if job is None:
            return
        cause = job.stopping or ("overtime" if what == "overtime" else None)
        self.tell(Finish(self.at, number, job.attempt, None if cause else place % 2, None, cause))

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
            owners = [
                ("user", job.user),
                ("account", job.request.account),
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
        for owner, measure in counted:
            kind, name = owner
            bound = site.limits_of(name) if kind == "user" else getattr(site, kind)[name].limits
            most = {"jobs": bound.running_jobs, "cores": bound.cores, "gpus": bound.gpus}[measure]
            assert most is None or counted[owner, measure] <= most, (owner, measure)
        for name, left in self.engine.plans.limit_rows(max(self.at, state.at_ms)).left.items():
            assert left >= 0, f"{name} could be overrun"


def copied(state):
    return from_json(State, snapshot_to_json(state))


@settings(max_examples=150)
@given(sites(), acts)
def test_whatever_happens_the_promises_hold(site, many):
    world = World(site)
    for what, place, request, by in many:
        world.act(what, place, request)
        world.move(by)
        at = max(world.at, world.engine.state.at_ms)
        # 1, 2: a fresh engine on a copied state, that nobody looked into, says the very same
        fresh = Engine(site, copied(world.engine.state))
        said = fresh.decide(Schedule(world.at))
        plan = world.engine.plans.plan(at)
        planned = [(one.job, one.allocations) for one in plan.starting()]
        first = next((job for job in world.engine.plans.in_order(at) if plan.placed_so_far(job.number)), None)
        alone = _start_alone(world.engine, first, at)
        events = world.tell(Schedule(world.at))
        assert [encode(event) for event in said] == [encode(event) for event in events]
        assert sum(isinstance(event, Started) for event in events) == len(planned)
        # 5: what started behind the first in order didn't delay it
        still = world.engine.state.jobs.get(first.number) if first is not None else None
        if still is not None and still.phase is Phase.WAITING and first.request.array is None:
            assert _start_alone(world.engine, first, at) <= alone
        world.check_never_over()
    _no_attempt_twice(world.events)
    _books_balance(world)
    state = State()
    for event in world.events:
        state.apply(event)
    assert state == world.engine.state


def _start_alone(engine, job, at):
    if job is None:
        return 0
    plan = engine.plans.plan_of(at, [job])
    return plan.placements[job.number].start_ms if job.number in plan.placements else 2**62


def _no_attempt_twice(events):
    started = Counter((event.job, event.attempt) for event in events if isinstance(event, Started))
    assert all(count == 1 for count in started.values())
    final = Counter(event.job for event in events if isinstance(event, Ended) and not event.again)
    assert all(count == 1 for count in final.values())
    known = {event.job for event in events if isinstance(event, Submitted | TaskMade)}
    assert set(final) <= known


def _books_balance(world):
    state, site = world.engine.state, world.site
    ended = [event for event in world.events if isinstance(event, Ended) and event.allocated_core_ms]
    assert sum(tally.allocated_core_ms for tally in state.tallies.values()) == sum(
        event.allocated_core_ms for event in ended
    )
    days = (core_ms for users in state.recent.values() for each in users.values() for core_ms in each.values())
    assert sum(days) == sum(event.allocated_core_ms for event in ended)
    began = {}
    requests_ = {event.job: event.request for event in world.events if isinstance(event, Submitted)}
    for event in world.events:
        if isinstance(event, Started):
            began[event.job, event.attempt] = (
                event.at_ms,
                sum(len(allocation.cores) for allocation in event.allocations),
            )
        elif isinstance(event, Ended) and event.allocated_core_ms:
            at, cores = began[event.job, event.attempt]
            assert event.allocated_core_ms == cores * (event.at_ms - at)
            if event.job in requests_ and not any(
                getattr(one, "kind", "") == "changed" and one.job == event.job for one in world.events
            ):
                assert event.charge_core_ms == charge(site, requests_[event.job].tier, event.allocated_core_ms)
