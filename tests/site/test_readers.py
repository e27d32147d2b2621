"""Processes that answer long calls: as the engine would, few at once, in turn by person."""

import asyncio
from types import SimpleNamespace

import msgspec
import pytest

from lazy_quarry.core.header.submission import Submission
from lazy_quarry.link import readers as readers_module
from lazy_quarry.link.answered import answer
from lazy_quarry.link.protocol import glance_at, write_request
from lazy_quarry.link.reader import Ask, Begin, Reader
from lazy_quarry.link.readers import MOST, TRIES, NoReader, Readers
from lazy_quarry.link.site_client import CALLS
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.supposed_jobs import Foreseen
from lazy_quarry.store.journal import Journal
from lazy_quarry.views.chain_views import ChainSource
from lazy_quarry.views.job_view import StartRange
from tests.conftest import SiteUnderTest, script, small_site

HEAD = 'walltime = "10m"\nmemory = "64 MiB/core"\n'
CHAIN = '[jobs.prep]\nscript = "prep.sh"\n[jobs.run]\nscript = "run.sh"\nafter = { prep = "succeeds" }\n'


class Lived:
    """A site with a journal in a folder, on which time passes by hand."""

    def __init__(self, folder):
        self.now = 1_700_000_000_000
        self.used = SiteUnderTest(small_site(), lambda: self.now, Journal(folder))
        self.draft = self.submission("draft", "[array]\ntasks = 4\n")

    def submission(self, name, header="", body="echo $1"):
        return Submission(script(f'name = "{name}"\n{HEAD}{header}', body), f"{name}.sh", "/tmp", arguments=("secret",))

    def submit(self, name, header="", user="ada"):
        receipt = self.used.of(user).submit(self.submission(name, header))
        assert receipt.job, receipt.diagnostics
        return receipt.job

    def chain(self):
        scripts = {"prep.sh": script(HEAD), "run.sh": script(HEAD + "[array]\ntasks = 3\n")}
        return ChainSource(text=CHAIN, scripts=scripts, folder="/tmp", name="season")

    def live(self, minutes):
        for _ in range(minutes):
            self.now += 60_000
            self.used.step()


@pytest.fixture
def lived(tmp_path):
    site = Lived(tmp_path)
    site.submit("one")
    site.submit("two", user="bo")
    site.submit("sweep", "[array]\ntasks = 3\n")
    assert site.used.submit_chain(site.chain()).chain
    site.live(45)
    return site


def reader_of(site):
    found = Reader(Begin(site.used.journal.folder, site.used.session.site))
    found.session.clock = lambda: site.now
    found.runner.files = site.used.session.runner
    return found


def questions(site):
    """For each call that a reader may answer, some ways to ask it."""
    ended = [view.job for view in site.used.jobs(ended=True)]
    period, chosen = {"period": "this month"}, {"period": "all", "where": {"account": "silt"}}
    return {
        "jobs": [{"ended": True}, {"ended": True, "everyone": False, "limit": 2}],
        "search": [{"where": "user:bo"}, {"where": "", "ended": False}, {"where": "state:done", "sort": "-took"}, {"where": "x:"}],
        "detail": [{"number": one} for one in (*ended, 999)],
        "output": [{"number": one, "which": "output"} for one in ended[:2]],
        "made": [{"number": ended[0]}],
        "fetchable": [{"number": one, "patterns": ["*"]} for one in (*ended, 999)],
        "fetch_piece": [{"number": ended[0], "path": "eA==", "begin": 0}],
        "fetch_digest": [{"number": ended[0], "path": "eA==", "begin": 0, "most": 1}],
        "kept": [{"node": "n1"}],
        "expand_job": [{"number": one} for one in ended],
        "expand": [{"submission": site.draft}],
        "report_chain": [{"source": site.chain(), "fails": ["prep"], "slower": {"run": 2.0}}, {"source": ChainSource(text="[", scripts={}, folder="/tmp"), "fails": [], "slower": {}}],
        "chain_tasks": [{"source": site.chain(), "name": "run"}],
        "like": [{"number": one} for one in ended],
        "report": [period, chosen, {**period, "by": ["user", "queue"]}, {"period": "never"}],
        "over_time": [{**period, "split": "user"}],
        "waits": [period, chosen],
        "rhythm": [period, chosen],
        "waste": [period, chosen],
        "records": [period, {**chosen, "after": [0, 3]}],
        "budget_ends": [{}],
    }  # fmt: skip


def test_a_reader_answers_every_long_call_as_the_engine_does_and_follows_it(lived):
    reader, people = reader_of(lived), [lived.used.caller, lived.used.of("bo").caller]
    for turn in range(4):
        asked = questions(lived)
        assert asked.keys() == {name for name, call in CALLS.items() if call.by_reader}
        lived.used.session.ranges = {1: StartRange(1, 2, 3 + turn, 4)}
        well = set()
        for name, ways in asked.items():
            for number, arguments in enumerate(ways):
                line = write_request(number, name, arguments)
                for caller in people:
                    told = msgspec.json.decode(reader.answer(Ask(caller, line, "", dict(lived.used.session.ranges))))
                    assert told == msgspec.json.decode(answer(lived.used.site, caller, line)), name
                    if "result" in told:
                        well.add(name)
        # Each has some way that is no fault, but for pieces of files: a rehearsal has none.
        assert well == asked.keys() - {"fetch_piece", "fetch_digest"}
        # Whatever happens in between is followed: more than a batch of events, ends, a new chain, who may charge an account.
        lived.submit(f"more-{turn}", "[array]\ntasks = 40\n" if turn == 1 else "", "bo" if turn else "ada")
        lived.used.submit_chain(lived.chain())
        lived.used.members("eels", [f"new{turn}"], [])
        lived.live(3 + 20 * turn)
    reader.session.follow()
    assert reader.session.engine.state == lived.used.session.engine.state
    assert reader.session.journal.number == lived.used.journal.number


def test_a_reader_says_of_which_jobs_it_wants_to_know_more_and_tells_it_the_next_time(lived):
    reader, caller = reader_of(lived), lived.used.caller
    line = write_request(1, "report_chain", {"source": lived.chain(), "fails": [], "slower": {}})
    first = msgspec.json.decode(reader.answer(Ask(caller, line)))["result"]["chain"]
    wanted = reader.wanted
    assert [one.name for one in wanted] == [one["name"] for one in first["parts"] if one.get("starts_ms")]
    known = Foreseen({wanted[0].name: StartRange(1, 2, 3, 4)}, 77)
    then = msgspec.json.decode(reader.answer(Ask(caller, line, foreseen=(wanted, known))))["result"]["chain"]
    assert then["likely_end_ms"] == 77 and then["parts"][0]["range"]["late_ms"] == 3
    reader.answer(Ask(caller, write_request(1, "budget_ends", {})))
    assert reader.wanted is None


def test_a_reader_changes_nothing_whatever_it_is_asked(lived):
    reader, caller = reader_of(lived), lived.used.caller
    waits = lived.submit("waits", "not-before = 2033-12-01T00:00:00Z\n")
    before = lived.used.journal.number, lived.used.session.engine.state.copy()
    for name in ("hold", "cancel", "release"):
        told = msgspec.json.decode(reader.answer(Ask(caller, write_request(1, name, {"jobs": [waits]}))))
        assert "error" in told
    assert (lived.used.journal.number, lived.used.session.engine.state) == before


class Idle(Readers):
    """Readers whose processes are made of nothing: each call ends when it is told to."""

    def __init__(self):
        super().__init__(None, None, None)
        self.begun, self.ends = [], {}

    async def started(self):
        writer = SimpleNamespace(
            transport=SimpleNamespace(abort=lambda: None), is_closing=lambda: False, close=lambda: None
        )
        return readers_module._Reader(SimpleNamespace(at_eof=lambda: False), writer)

    async def _asked(self, one, caller, line):
        self.begun.append(line.decode())
        self.ends[line.decode()] = asyncio.get_running_loop().create_future()
        return await self.ends[line.decode()]

    def ask(self, user, word):
        return asyncio.create_task(self.answer(Caller(user), word.encode(), glance_at(b"{}")))


async def settled():
    for _ in range(10):
        await asyncio.sleep(0)


async def test_readers_are_few_and_people_take_turns_however_many_calls_one_makes(monkeypatch):
    readers = Idle()
    calls = {f"a{number}": readers.ask("ada", f"a{number}") for number in range(6)}
    await settled()
    assert readers.begun == ["a0", "a1"] and MOST == 2
    calls["b0"], calls["c0"] = readers.ask("bo", "b0"), readers.ask("cy", "c0")
    await settled()
    for over, then in (("a0", "b0"), ("a1", "c0"), ("b0", "a2"), ("c0", "a3")):
        readers.ends[over].set_result(over.encode())
        await settled()
        assert readers.begun[-1] == then and await calls[over] == over.encode()
    # One that is cancelled while it waits, or while it works, gives its place to the next.
    calls["a4"].cancel()
    calls["a2"].cancel()
    await settled()
    assert readers.begun[-1] == "a5" and len(readers.busy) == MOST
    for word in ("a3", "a5"):
        readers.ends[word].set_result(b"")
    await asyncio.gather(calls["a3"], calls["a5"])
    assert not readers.busy and not readers.promised and not readers.waiting
    monkeypatch.setattr(readers_module, "IDLE_S", -1.0)
    readers.let_go()
    assert not readers.free


async def test_a_call_whose_readers_end_is_told_so_and_the_next_is_answered():
    readers = Idle()
    call = readers.ask("ada", "a0")
    for _ in range(TRIES):
        await settled()
        readers.ends["a0"].set_exception(EOFError())
    told = msgspec.json.decode(await call)
    assert "ended before it had an answer, and so did two others" in told["error"]["message"] and not readers.busy
    again = readers.ask("ada", "a1")
    await settled()
    readers.ends["a1"].set_result(b"told")
    assert await again == b"told"


async def test_whoever_waits_is_not_forgotten_where_no_reader_can_be_had_any_more():
    readers = Idle()
    calls = {word: readers.ask(word[0], word) for word in ("a0", "a1", "b0", "c0")}
    await settled()

    async def none():
        raise NoReader

    readers.started = none
    for word in ("a0", "a1"):
        readers.ends[word].set_exception(EOFError())
    found = await asyncio.gather(*calls.values(), return_exceptions=True)
    assert all(isinstance(one, NoReader) for one in found) and not readers.promised and not readers.busy


async def test_a_call_that_is_cancelled_just_as_its_turn_comes_keeps_nobody_waiting():
    readers = Idle()
    calls = {word: readers.ask(word[0], word) for word in ("a0", "a1", "b0", "c0")}
    await settled()
    readers.ends["a0"].set_result(b"")
    await asyncio.sleep(0)
    await asyncio.sleep(0)
    calls["b0"].cancel()
    await settled()
    assert readers.begun[-1] == "c0"
