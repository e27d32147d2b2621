from dataclasses import replace

from lazy_quarry.core.engine import Engine
from lazy_quarry.core.events import HoldJob, Schedule, Submit
from lazy_quarry.core.job import Job, Origin
from lazy_quarry.core.plan.why import Explainer
from lazy_quarry.core.request import Memory, Request
from lazy_quarry.core.site import Window
from lazy_quarry.core.units import HOUR_MS
from tests.conftest import small_site


def asked(ranks, walltime_s=3600, **more):
    return Request("j", "silt", ("all",), "steady", walltime_s, Memory(100), ranks=ranks, grace_s=0, **more)


def engine_with(*requests, site=None):
    engine = Engine(site or small_site((8, 8)))
    for request in requests:
        engine.apply(engine.decide(Submit(0, "ada", request, Origin(""))))
        engine.apply(engine.decide(Schedule(0)))
    return engine


def explain(engine, number):
    explainer = Explainer(engine, 0)
    job: Job = engine.state.jobs[number]
    return explainer.why(job, "ada").because, explainer.explained(job).instead


def test_a_job_waits_for_the_limit_of_the_one_before_it():
    because, _ = explain(engine_with(asked(16, nodes=2), asked(4)), 2)
    assert "waits for 1 node of all with 4 free cores and 400 MiB; none has that now" in because
    assert "comes free at 01:00 at the latest, when 1 reaches its limit" in because


def test_a_shorter_walltime_that_would_start_now_is_found_and_does():
    requests = (asked(8, 3600), asked(16, 3600, nodes=2), asked(8, 7200))
    because, instead = explain(engine_with(*requests), 3)
    assert "free now, but not for so long" in because
    assert instead == "It would start now if it asked for at most 1h."
    shorter = engine_with(*requests[:2], replace(requests[2], walltime_s=3600))
    assert 3 in [job.number for job in shorter.state.running()]


def test_fewer_nodes_that_would_start_now_are_found():
    _, instead = explain(engine_with(asked(8), asked(16, nodes=2)), 2)
    assert instead == "It would start now with 1 node and 8 cores."


def test_a_window_ahead_is_named():
    window = Window(("n1", "n2"), HOUR_MS // 2, HOUR_MS, "new pumps")
    because, instead = explain(engine_with(asked(1), site=small_site((8, 8), (window,))), 1)
    assert "new pumps lasts until 01:00" in because
    assert "30m" in instead


def test_held_and_not_before_are_said():
    engine = engine_with(asked(16, nodes=2), asked(1), asked(1, not_before_ms=9 * HOUR_MS))
    engine.apply(engine.decide(HoldJob(0, 2, "ada")))
    assert explain(engine, 2)[0].startswith("held by ada")
    assert explain(engine, 3)[0] == "asked not to start before 09:00"
