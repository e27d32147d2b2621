"""Changes that belong together are taken in whole or not at all; clocks that are set; chains that were taken in by halves."""

import pytest

from lazy_quarry.core.engine.commands import CancelJob, LinkChain, SubmitChain
from lazy_quarry.core.engine.events import ClockStepped
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import HOUR_MS, MINUTE_MS
from lazy_quarry.errors import Refused, StateFolderError
from lazy_quarry.site.clock_watch import ClockWatch
from lazy_quarry.store.journal import Journal
from lazy_quarry.views.chain_views import ChainSource
from tests.conftest import SiteUnderTest, script, small_site
from tests.site.conftest import Clock

HEAD = 'walltime = "1h"\nmemory = "64 MiB/core"'


def chain(count, body='["true"]', last="walltime = '1h'"):
    """A chain whose jobs each wait for the one before."""
    jobs = [
        f"[jobs.j{number}]\ncommands = {body}\n" + (f'after = {{ j{number - 1} = "succeeds" }}\n' if number else "")
        for number in range(count)
    ]
    text = f"name = 'long'\n[shared]\n{last}\nmemory = '64 MiB/core'\n" + "".join(jobs)
    return ChainSource(text=text, folder="/tmp", scripts={})


class Counted(Journal):
    """A journal of which writing can fail, and that counts what is written."""

    def __init__(self, folder):
        super().__init__(folder)
        self.appended, self.fails = 0, False

    def append(self, happened, state):
        if self.fails:
            raise StateFolderError("the disk is full")
        self.appended += 1
        super().append(happened, state)


@pytest.fixture
def now():
    return Clock(1_800_000_000_000)


@pytest.fixture
def site(tmp_path, now):
    return SiteUnderTest(small_site(), now, Counted(tmp_path))


def whole(site):
    """All that could be seen of a half."""
    state = site.engine.state
    return (
        dict(state.jobs),
        dict(state.chains),
        state.next_number,
        state.next_chain,
        site.journal.number,
        list(state.jobs.lines),
    )


def test_a_chain_with_its_links_is_one_transaction(site):
    before = site.journal.appended
    number = site.submit_chain(chain(40)).chain
    assert site.journal.appended - before == 2  # the chain, and the start of its first job
    assert all(part.job for part in site.engine.state.chains[number].parts) and len(site.engine.state.jobs) == 40
    assert Journal(site.journal.folder).load() == site.engine.state


def test_a_chain_that_cannot_be_written_leaves_nothing(site):
    site.submit(Submission(script(HEAD), "one.sh", "/tmp"))
    before = whole(site)
    site.journal.fails = True
    with pytest.raises(StateFolderError, match="full"):
        site.submit_chain(chain(60))
    assert whole(site) == before and not site.session.plan().tried.keys() - site.engine.state.jobs.keys()
    site.journal.fails = False
    assert site.submit_chain(chain(60)).chain == 1 and len(site.engine.state.jobs) == 61


def test_a_chain_with_a_refused_job_leaves_nothing(site, monkeypatch):
    before, taken = whole(site), site.site.operations.taken

    def refuses(caller, submission, request):
        if request.name == "j7":
            raise Refused("ada may have 7 waiting jobs")
        return taken(caller, submission, request)

    monkeypatch.setattr(site.site.operations, "taken", refuses)
    receipt = site.submit_chain(chain(20))
    assert receipt.chain is None and "j7: ada may have" in receipt.findings[0][1].message and whole(site) == before


@pytest.mark.parametrize("how", ["disk", "refused"])
def test_a_chain_is_continued_with_its_cancels_or_stays_as_it_is(site, now, monkeypatch, how):
    failing = chain(3, '["exit 3"]')
    number = site.submit_chain(failing).chain
    first = site.engine.state.chains[number].parts[0].job
    site.engine.state.jobs[first]
    site.hold_chain(number)
    site.cancel([first])
    now.ms += MINUTE_MS
    site.step(now.ms)
    assert site.session.find(first).phase is Phase.CANCELLED
    before = whole(site)
    if how == "disk":
        site.journal.fails = True
        with pytest.raises(StateFolderError):
            site.continue_chain(number, chain(3))
    else:
        monkeypatch.setattr(site.site.operations, "taken", lambda *_: (_ for _ in ()).throw(Refused("no")))
        assert site.continue_chain(number, chain(3)).chain is None
    assert whole(site) == before
    monkeypatch.undo()
    site.journal.fails = False
    appended = site.journal.appended
    made = site.continue_chain(number, chain(3))
    assert [name for name, _ in made.jobs] == ["j0", "j1", "j2"] and site.journal.appended - appended <= 2
    assert Journal(site.journal.folder).load() == site.engine.state


def test_several_jobs_run_again_together_or_not_at_all(site):
    numbers = [
        site.submit(Submission(script(f'name = "n{number}"\n{HEAD}'), "one.sh", "/tmp")).job for number in range(3)
    ]
    before = whole(site)
    site.journal.fails = True
    with pytest.raises(StateFolderError):
        site.again(numbers)
    assert whole(site) == before
    site.journal.fails, appended = False, site.journal.appended
    made = site.again([*numbers, 99])
    assert [one.done for one in made] == [True, True, True, False] and [one.job for one in made[:3]] == [4, 5, 6]
    assert site.journal.appended - appended <= 2 and Journal(site.journal.folder).load() == site.engine.state


def test_a_state_that_runs_ahead_leaves_the_first_as_it_was(site, now):
    site.submit_chain(chain(5))
    site.submit(Submission(script(HEAD + "\narray.tasks = '1..9'"), "many.sh", "/tmp"))
    state = site.engine.state
    ahead = state.copy()
    assert ahead == state and dict(ahead.jobs.lines).keys() == dict(state.jobs.lines).keys()
    with pytest.raises(ZeroDivisionError), site.session.together():
        for number in list(state.jobs):
            if number in site.session.engine.state.jobs:
                site.session.commit(site.session.engine.decide(CancelJob(now.ms, number, By("ada"))))
        assert len(site.session.engine.state.jobs) < len(state.jobs)
        1 / 0  # noqa: B018
    assert site.session.engine.state is state and state == ahead
    assert [line.places for line in state.jobs.lines.values()] == [line.places for line in ahead.jobs.lines.values()]


def test_a_chain_that_was_taken_in_by_halves_is_told_until_it_is_whole_or_over(site, now):
    parts = (("j0", ()), ("j1", (("j0", "succeeds"),)))
    site.session.commit(
        site.engine.decide(SubmitChain(now.ms, "long", By("ada"), parts, chain(2).text, "", "/tmp", ()))
    )
    receipt = site.submit(Submission(script(HEAD), "one.sh", "/tmp"))
    site.session.commit(site.engine.decide(LinkChain(now.ms, 1, "j0", receipt.job, By("ada"))))
    assert not site.notices()  # it may just be being made
    again = SiteUnderTest(small_site(), now, Journal(site.journal.folder))
    told = next(notice for notice in again.notices() if "by halves" in notice)
    assert "chain 1 long" in told and "j1 of it were never submitted" in told and "--continue" in told
    assert [bool(part.job) for part in again.chain(1).parts] == [True, False]
    made = again.continue_chain(1, chain(2))
    assert [name for name, _ in made.jobs] == ["j1"] and all(part.job for part in again.chain(1).parts)
    assert not [notice for notice in again.notices() if "by halves" in notice]


# -- clocks that are set -----------------------------------------------------------------------------


def running(site, now):
    number = site.submit(Submission(script(f'{HEAD}\n[rehearsal]\nruntime = "30m"'), "one.sh", "/tmp")).job
    site.step(now.ms)
    assert site.engine.state.jobs[number].phase is Phase.RUNNING
    return number


@pytest.mark.parametrize("by_ms", [3 * HOUR_MS, 2_000, -3 * HOUR_MS])
def test_limits_of_what_runs_go_with_a_clock_that_is_set(site, now, by_ms):
    number = running(site, now)
    steady = [0]
    watch = ClockWatch(site.session, lambda: steady[0], lambda _: None)

    def passes(real_ms, clock_ms):
        steady[0] += real_ms
        now.ms += clock_ms
        watch.look()

    passes(MINUTE_MS, MINUTE_MS)
    job = site.engine.state.jobs[number]
    assert site.journal.number and job.elapsed_ms(site.now()) == MINUTE_MS
    left = job.end_limit_ms - site.now()
    passes(1_000, 1_000 + by_ms)
    for _ in range(120):  # after a step back journal time stands still, and limits come nearer all the same
        passes(1_000, 1_000)
    job = site.engine.state.jobs[number]
    slack = MINUTE_MS if by_ms < 0 else 2_000
    assert (
        abs(job.elapsed_ms(site.now()) - 181_000) <= slack
        and abs(job.end_limit_ms - site.now() - left + 121_000) <= slack
    )
    told = [
        event
        for event in map(site.journal.read_event, site.journal.storage.events(0))
        if isinstance(event, ClockStepped)
    ]
    assert told and (len(told) == 1 or by_ms < 0) and len(told) <= 4
    place = site.session.plan()
    assert place.at(site.now()) and Journal(site.journal.folder).load() == site.engine.state


def test_a_clock_that_is_slewed_or_nothing_that_runs_is_no_step(site, now):
    steady = [0]
    watch = ClockWatch(site.session, lambda: steady[0], lambda _: None)
    before = site.journal.number
    now.ms += 3 * HOUR_MS
    watch.look()  # nothing runs
    running(site, now)
    watch.look()
    before = site.journal.number
    for _ in range(3600):
        steady[0] += 1000
        now.ms += 1000
        watch.look()
    assert site.journal.number == before


def test_a_clock_that_was_set_while_no_engine_ran_is_seen_by_what_runs(site, now):
    number = running(site, now)
    now.ms += 2 * HOUR_MS + MINUTE_MS
    ClockWatch(site.session, lambda: 0, lambda job: MINUTE_MS if job == number else None)
    assert site.engine.state.jobs[number].elapsed_ms(site.now()) == MINUTE_MS
    ClockWatch(site.session, lambda: 0, lambda job: MINUTE_MS + 500)
    assert site.engine.state.jobs[number].elapsed_ms(site.now()) == MINUTE_MS
