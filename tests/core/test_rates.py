"""Charges: the largest share of a node, its size, and the factors of traits, queue and tier; and what is free."""

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from lazy_quarry.core.engine.commands import Finish, Schedule, Submit
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.events import Started
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Allocation, Origin, Phase
from lazy_quarry.core.job.queue_fit import queue_fit
from lazy_quarry.core.job.rates import charge, counted, greatest_charge, is_free
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.site import Node, Queue, Rates, Tier
from lazy_quarry.core.values import replace
from tests.conftest import small_site
from tests.core.charged import charged_for
from tests.core.engine.test_invariants import NOW, Draw


@given(st.integers(0, 2**40))
def test_a_charge_is_the_larger_share_of_each_node_and_never_more_than_was_said_at_first(seed):
    draw = Draw(seed)
    site = replace(draw.site(), accounts=small_site().accounts, policy="planned")
    wanted = replace(draw.request(), after=(), not_before_ms=None, account=site.accounts[0].name)
    engine = Engine(site)
    fits = {name: queue_fit(wanted, site.queue[name], site, "bo") for name in wanted.queues}
    assume(any(fit.needs for fit in fits.values()) and not engine.limit_use.problem("bo", wanted))
    engine.apply(engine.decide(Submit(NOW, By("bo"), wanted, Origin(""))))
    started = [event for event in engine.decide(Schedule(NOW)) if isinstance(event, Started)]
    assume(started)
    length = wanted.walltime_s * 1000
    for event in started:
        found = charge(site, wanted.tier, counted(site, event.queue, event.allocations), length)
        assert found == charged_for(site, wanted.tier, event.queue, event.allocations, length)
        most = max(greatest_charge(site, replace(wanted, array=None), need) for need in fits[event.queue].needs)
        assert found <= most


def test_shares_sizes_and_factors():
    site = replace(
        small_site(),
        nodes=(Node("g", 8, 1000, gpus=4, traits=("fast",)), Node("c", 8, 1000)),
        queues=(Queue("all", ("g", "c")), Queue("dear", ("g",))),
        tiers=(Tier("half", 500),),
    )

    def at(rates, node, cores, memory, gpus=0, queue="all"):
        held = Allocation(node, 1, tuple(range(cores)), memory, tuple(range(gpus)))
        return counted(replace(site, rates=rates), queue, [held])

    plain = Rates()
    assert at(plain, "c", 2, 100) == 2000  # by cores
    assert at(plain, "c", 2, 500) == 4000  # by memory
    assert at(plain, "g", 2, 100, 3) == 6000  # by GPUs
    assert at(plain, "c", 8, 1000) == 8000  # a whole node is a whole node
    assert at(Rates(by="cores"), "c", 2, 1000) == 2000
    assert at(Rates(sizes=(("g", 100),)), "g", 1, 0, 1) == 25_000
    assert at(Rates(traits=(("fast", 1500),)), "g", 4, 0) == 6000
    assert at(Rates(queues=(("dear", 3000),)), "g", 4, 0, queue="dear") == 12_000
    assert at(plain, "gone", 3, 999) == 3000  # the site has it no more
    assert charge(site, "half", 4000, 7001) == 14_002


@pytest.mark.parametrize(
    ("free", "phase", "again", "gave_way", "is_so"),
    [
        (("lost",), Phase.LOST, True, False, True),
        (("lost",), Phase.CANCELLED, True, True, False),
        (("gave-way",), Phase.CANCELLED, True, True, True),
        (("cancelled",), Phase.CANCELLED, True, True, False),
        (("retried",), Phase.FAILED, True, False, True),
        (("retried",), Phase.FAILED, False, False, False),
        (("overtime",), Phase.OVERTIME, False, False, True),
        ((), Phase.LOST, False, False, False),
    ],
)
def test_attempts_that_the_site_calls_free_are_charged_nothing(free, phase, again, gave_way, is_so):
    assert is_free(replace(small_site(), rates=Rates(free=free)), phase, again, gave_way) is is_so


def test_a_lost_attempt_is_held_and_not_charged():
    engine = Engine(small_site())
    engine.apply(
        engine.decide(Submit(NOW, By("bo"), Request("j", "silt", ("all",), "steady", 600, Memory(1)), Origin("")))
    )
    engine.apply(engine.decide(Schedule(NOW)))
    number = next(iter(engine.state.jobs))
    ended = engine.decide(Finish(NOW + 60_000, number, 1, cause="lost"))[0]
    assert (ended.phase, ended.charge_core_ms) == (Phase.LOST, 0) and ended.allocated_core_ms == 60_000
