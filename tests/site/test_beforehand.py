"""An act comes to what was said before it, and looking changes nothing."""

from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.views.chain_views import ChainSource
from lazy_quarry.views.foretold import Foretold, ForetoldJob, foretold_words
from tests.conftest import SiteUnderTest, script, small_site
from tests.site.conftest import Clock

HEADER = 'walltime = "10m"\nmemory = "64 MiB/core"\n\n[rehearsal]\nruntime = "1m"'
FAILS = f"{HEADER}\nexit = 3"
ARRAY = 'walltime = "10m"\nmemory = "64 MiB/core"\n\n[array.sweep]\nlevel = [1, 2, 3]\n\n[rehearsal]\nruntime = "1m"\nexit = 3'


def ended(site, clock, header, overrides=()):
    """A job that has ended."""
    number = site.submit(Submission(script(header), directory="/work", overrides=overrides)).job
    for _ in range(20):
        clock.ms += 60_000
        site.step()
    assert site.job(number).phase.final
    return number


def kept(site):
    """All that must not change by looking."""
    state = site.engine.state
    return (
        state.next_number,
        site.journal.number,
        {number: job.phase for number, job in state.jobs.items()},
        site.session.version,
    )


@settings(max_examples=25, deadline=None)
@given(
    st.lists(st.sampled_from([HEADER, FAILS, ARRAY]), min_size=1, max_size=2),
    st.sampled_from(
        [(), ("walltime=20m",), ("ranks=2",), ("memory=1 GiB/core", "walltime=5m"), ("ranks=9999",), ("nonsense=1",)]
    ),
    st.integers(0, 3),
    st.booleans(),
)
def test_a_job_runs_again_just_as_the_rehearsal_said(headers, given_settings, busy, failed):
    clock = Clock()
    site = SiteUnderTest(small_site(), clock)
    numbers = [ended(site, clock, header) for header in headers]
    for _ in range(busy):
        site.submit(Submission(script(HEADER), overrides=("ranks=25",)))
    before = kept(site)
    found = site.would_run_again(numbers, list(given_settings), failed)
    assert kept(site) == before
    outcomes = site.again(numbers, list(given_settings), failed)
    if found.refused:
        assert not all(one.done for one in outcomes) and found.refused in [one.message for one in outcomes]
        return
    assert [one.done for one in outcomes] == [True] * len(found.jobs)
    for one, outcome in zip(found.jobs, outcomes, strict=True):
        job = site.engine.state.jobs[outcome.job]
        assert (one.name, one.walltime_s, one.account) == (
            job.request.name,
            job.request.walltime_s,
            job.request.account,
        )
        assert one.tasks == (job.request.array.count if job.request.array else 0)
        most = (one.tasks or 1) * one.cores * (one.walltime_s + job.request.grace_s) * 1000
        assert one.most_core_ms == most
    first = site.job(outcomes[0].job)
    assert found.jobs[0].start_ms == (first.started_ms if first.started_ms is not None else first.forecast_ms)


def test_the_rehearsal_of_a_change_says_its_start_and_cost(site, clock):
    site.submit(Submission(script('walltime = "10m"\nmemory = "64 MiB/core"'), overrides=("ranks=25",)))
    number = site.submit(Submission(script(HEADER), overrides=("ranks=25",))).job
    before = kept(site)
    found = site.would_change([number], ["walltime=2h"])
    assert kept(site) == before and not found.refused
    assert found.jobs[0].walltime_s == 7200 and found.jobs[0].start_ms > clock.ms
    assert site.change([number], ["walltime=2h"])[0].done
    assert site.job(number).forecast_ms == found.jobs[0].start_ms
    assert "stays as it is" in site.would_change([number], ["nodes=999"]).refused
    assert site.would_change([4711], ["walltime=1h"]).refused


def test_the_rehearsal_of_a_continued_chain_says_it_job_by_job(site, clock):
    text = """
name = "season"
[jobs.first]
commands = ["true"]
walltime = "10m"
memory = "64 MiB/core"
rehearsal = { runtime = "1m", exit = 3 }
[jobs.then]
commands = ["true"]
walltime = "20m"
memory = "64 MiB/core"
after = { first = "succeeds" }
"""
    source = ChainSource(text=text, folder="/work", scripts={})
    receipt = site.submit_chain(source)
    assert receipt.chain, receipt.findings
    assert "has nothing to run again" in site.would_continue(receipt.chain, source).refused
    for _ in range(10):
        clock.ms += 60_000
        site.step()
    assert site.job(dict(receipt.jobs)["first"]).phase is Phase.FAILED
    before = kept(site)
    found = site.would_continue(receipt.chain, source)
    assert kept(site) == before and not found.refused
    assert [one.name for one in found.jobs] == ["first", "then"] and found.jobs[1].start_ms is None
    made = site.continue_chain(receipt.chain, source)
    assert [name for name, _ in made.jobs] == ["first", "then"]
    assert (
        "line" in site.would_continue(receipt.chain, ChainSource(text="[jobs.a]\n", folder="/work", scripts={})).refused
    )


def test_a_rehearsed_change_is_told_in_a_sentence():
    one = ForetoldJob(
        name="surge",
        tasks=0,
        cores=8,
        walltime_s=7200,
        queue="tidal",
        account="reach",
        most_core_ms=16 * HOUR_MS,
        start_ms=0,
    )
    found = Foretold(now_ms=0, jobs=(one,), left_core_ms=100 * HOUR_MS)
    assert (
        foretold_words(found)
        == "surge, 8 cores for 2h: at most 16.0 core-hours of reach, which has 100.0 left; it starts now"
    )
    many = Foretold(now_ms=0, jobs=(one,) * 5)
    assert "and 2 further jobs" in foretold_words(many).replace(", 2 further", " and 2 further")
    assert foretold_words(Foretold(now_ms=0, refused="no")) == "no"
