"""The engine does again what it did once: a study of it under its own policy starts every job when it started."""

import heapq

from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.engine.commands import CancelJob, Finish, OpenNode, ReleaseJob, Schedule
from lazy_quarry.core.engine.events import Reserved, Started
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.job.request import Retries
from lazy_quarry.core.ledger.recent_use import USE_UPDATE_MS, use_updated_at
from lazy_quarry.core.plan import compiled
from lazy_quarry.core.values import replace
from lazy_quarry.study.own_past import study
from lazy_quarry.study.past import past_of
from tests.core.engine.test_invariants import NOW, Draw, World

ON = lambda done, count: True  # noqa: E731


class Lived(World):
    """A site that lives from instant to instant: each job runs for as long as is drawn when it starts."""

    def __init__(self, draw):
        site = draw.site()
        tiers = tuple(replace(one, gives_way=False) for one in site.tiers)
        accounts = tuple(replace(one, budget_core_hours=None, budget_each="once") for one in site.accounts)
        super().__init__(replace(site, tiers=tiers, accounts=accounts, plan_depth=1000))
        self.draw, self.ends, self.wakes, self.ended = draw, [], [], []

    def tell(self, command):
        events = super().tell(command)
        for event in events:
            if isinstance(event, Started):
                ran = self.draw.number(1, self.engine.state.jobs[event.job].request.walltime_s * 1000)
                heapq.heappush(self.ends, (self.at + ran, event.job, event.attempt))
            elif isinstance(event, Reserved):
                self.wakes += [event.window.begins_ms, event.window.ends_ms]
        return events

    def whole(self, request, user):
        """As a site hands it over: that a job has begun which has, nobody waits for any more."""
        request, freed, doomed = super().whole(request, user)
        state = self.engine.state
        begun = {n for n, job in state.jobs.items() if job.started_ms is not None or state.tasks.get(n)}
        after = tuple(one for one in request.after if one[1] != "begins" or int(one[0]) not in begun)
        return replace(request, after=after), freed, doomed

    def look(self):
        while self.tell(Schedule(self.at)):
            pass

    def go_on(self, until):
        """Everything that happens by itself, each at its instant, and the looks in between."""
        while True:
            soon = [one for one in (*self.wakes, *(end[0] for end in self.ends[:1])) if one > self.at]
            following = min([*soon, use_updated_at(self.at) + USE_UPDATE_MS])
            if following > until:
                break
            self.at = following
            while self.ends and self.ends[0][0] <= self.at:
                _, number, attempt = heapq.heappop(self.ends)
                self.tell(Finish(self.at, number, attempt, exit=self.draw.one_of([0, 0, 0, 1])))
            self.look()
        self.at = until


def lived(seed, acts):
    draw = Draw(seed)
    world = Lived(draw)
    keep, world.engine.apply = world.engine.apply, lambda events: world.ended.extend(found := keep(events)) or found
    for _ in range(acts):
        world.go_on(world.at + draw.number(1, 900_000))
        what = draw.one_of(
            ["submit"] * 8 + ["cancel", "cancel", "hold", "release", "close", "open", "reserve", "order", "hold-task"]
        )
        request = replace(draw.request(), retries=Retries(), again_at_overtime=False)
        if request.not_before_ms is not None:
            world.wakes.append(request.not_before_ms)
        place = draw.number(0, 50)
        if what == "cancel":
            waits = world.engine.state.jobs.get(world.pick(place, Phase.WAITING, Phase.BLOCKED, Phase.RUNNING))
            if waits is not None and waits.parent is None:  # what runs goes on
                world.tell(CancelJob(world.at, waits.number, By(waits.user), "waiting"))
        else:
            world.act(what, place, request)
        world.look()
    world.go_on(world.at + 1)
    for node in sorted(world.engine.state.closures):
        world.tell(OpenNode(world.at, node))
    for number, job in sorted(world.engine.state.jobs.items()):
        if job.phase is Phase.HELD or job.held_tasks:
            world.tell(ReleaseJob(world.at, number, By(job.user)))
    world.look()
    for _ in range(200):
        if not world.engine.state.jobs:
            break
        world.go_on(world.at + 3_600_000)
    return world


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 2**40), st.integers(3, 40))
def test_a_study_under_the_same_policy_repeats_the_engine_to_the_millisecond(seed, acts):
    """Arrays, what waits for others, holds, orders, closed nodes and reservations with it, under each policy."""
    world = lived(seed, acts)
    live = world.engine.state.jobs.values()
    assert not any(world.engine.state.running())
    past = past_of(world.ended, NOW - 1, world.events, live)
    found = study(world.site, past, world.site.policy, ON, compiled)
    assert found.jobs == past.count and found.refused == 0
    asked = [job.request.array for job in (*world.ended, *live) if job.parent is None]
    # What never ran has stood in the way of others: until it was cancelled, or in no way that is known.
    known = sum(
        one.request.array.count if one.request.array and one.withdrawn_ms else max(1, len(one.runs))
        for one in past.jobs
    )
    blocked = any(one.withdrawn_ms and one.request.after for one in past.jobs)  # it waited for how others ended, too
    if known == sum(array.count if array else 1 for array in asked) and not blocked:
        assert found.apart_mean_s == 0
    later = past_of(world.ended, world.at // 2 + NOW // 2, world.events, live)
    found = study(world.site, later, world.site.policy, ON)
    assert found.jobs == later.count and found.refused == 0
    assert later.count + len(later.before) <= past.count
    assert {number for job in later.jobs for number in job.runs} <= set(past.runs)
