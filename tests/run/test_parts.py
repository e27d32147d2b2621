"""An attempt on several nodes: its parts, told to each node's agent, and the one end that is made of theirs."""

from itertools import permutations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.engine.commands import Finish, Schedule, Submit
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Allocation, Job, Origin, Phase
from lazy_quarry.core.job.node_use import NodeUse, sum_of
from lazy_quarry.core.job.phase import Use
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.values import replace
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.run.intent import Ground
from lazy_quarry.run.node.attempt import Exit, read_intent
from lazy_quarry.run.node.file_service import FileService
from lazy_quarry.run.node.messages import NAME, Ensure, Over, Settle, Stop
from lazy_quarry.run.node_files import AttemptsOfNode
from lazy_quarry.run.nodes import PART_OVER, Nodes
from lazy_quarry.run.rehearsal import modelled_parts
from lazy_quarry.run.runner import Attempt
from lazy_quarry.store.codec import decode, encode
from lazy_quarry.wording.json_form import job_json
from tests.conftest import small_site


class Link:
    """A node whose agent says what a test has it say."""

    epoch, connected, refused, superseded = 1, True, "", False
    quiet_since_ms, ahead_ms, host = None, 0, None

    def __init__(self, folder):
        (folder / "spool").mkdir(parents=True)
        self.folder, self.files = folder, AttemptsOfNode(FileService(folder / "spool"), Ground(folder, range(16), "j"))
        self.sent, self.says = [], []

    def greeting(self, then):
        pass

    def send(self, message):
        self.sent.append(message)

    def heard(self):
        said, self.says = self.says, []
        return said


@pytest.fixture
def nodes(tmp_path):
    links = {name: Link(tmp_path / name) for name in ("n1", "n2", "n3")}
    return Nodes(links, links["n1"], "j"), links


def job_on(*names):
    request = Request("wide", "silt", ("all",), "steady", 600, Memory(100), ranks=2 * len(names))
    given_ = tuple(Allocation(name, 2, (2 * place, 2 * place + 1), 200 + place) for place, name in enumerate(names))
    job = Job(7, "ada", request, Origin("#!/bin/sh\n", "", "/w"), 0, Phase.RUNNING, attempt=1, mark="ab")
    return replace(job, started_ms=0, allocations=given_)


def begun(nodes, job):
    runner, _ = nodes
    runner.prepare([Attempt(7, 1, "ab", tuple(one.node for one in job.allocations))])
    runner.start([job])


def end(at, **more):
    return Exit(at, at, cpu_ms=at, memory_peak_mib=10, read_bytes=1, written_bytes=2, journal="j", mark="ab", **more)


def test_each_part_is_laid_out_and_begun_on_its_node(nodes):
    runner, links = nodes
    begun(nodes, job_on("n2", "n3"))
    assert (links["n1"].sent, links["n2"].sent) == ([], [Ensure(1, "7-1-ab")])
    assert links["n3"].sent == [Ensure(1, "7-1-ab.1")]
    first = read_intent(links["n2"].folder / "spool" / "7-1-ab")
    second = read_intent(links["n3"].folder / "spool" / "7-1-ab.1")
    assert (first.limits.cores, first.limits.memory_mib) == ([0, 1], 200)
    assert (second.limits.cores, second.limits.memory_mib) == ([2, 3], 201)
    assert second.command.environment["LQ_MEMORY_MIB"] == "201" and second.command.environment["LQ_NODE_COUNT"] == "2"
    (links["n2"].folder / "spool" / "7-1-ab" / "live.json").write_text(
        '{"cpu_ms": 5, "peak_mib": 6, "read": 7, "written": 8, "busy": 1.5}'
    )
    job = job_on("n2", "n3")
    assert runner.files.live(job, 0) == (Use(5, 6, 7, 8), 1.5)
    assert [one.node for one in runner.files.parts(job, 0)] == ["n2"] and runner.files.parts(job_on("n2"), 0) == ()
    runner.stop(job, "cancelled")
    assert links["n2"].sent[1:] == [Stop(1, "7-1-ab", "cancelled")]
    assert links["n3"].sent[1:] == [Stop(1, "7-1-ab.1", "cancelled")]


@pytest.mark.parametrize("order", list(permutations(range(3))))
def test_an_attempt_is_over_when_all_of_its_parts_are_and_the_first_to_end_says_how(nodes, order):
    """The ends come in any order, each twice; the third part was lost before the others were told to stop."""
    runner, links = nodes
    names = ["7-1-ab", "7-1-ab.1", "7-1-ab.2"]
    begun(nodes, job_on("n1", "n2", "n3"))
    ends = [end(900, cause=PART_OVER, signal="TERM"), end(1000, cause=PART_OVER), end(500, cause="lost", reason="gone")]
    for place in order[:2]:
        links[f"n{place + 1}"].says = [Over(names[place], ends[place])] * 2
        assert runner.reports(0) == []
    last = order[2]
    assert Stop(1, names[last], PART_OVER) in links[f"n{last + 1}"].sent
    assert sum(isinstance(one, Stop) for one in links[f"n{last + 1}"].sent) == 1
    links[f"n{last + 1}"].says = [Over(names[last], ends[last])]
    [report] = runner.reports(0)
    assert (report.at_ms, report.cause, report.reason, report.exit) == (1000, "lost", "gone", None)
    assert report.use == Use(2400, 30, 3, 6) and report.held_ms == 1000
    assert [(one.node, one.use.cpu_ms, one.signal) for one in report.parts] == [
        ("n1", 900, "TERM"), ("n2", 1000, None), ("n3", 500, None),
    ]  # fmt: skip
    runner.settled(report)
    assert all(links[f"n{place + 1}"].sent[-1] == Settle(1, name) for place, name in enumerate(names))
    assert runner.reports(0) == [] and not runner.busy()


def test_an_end_that_nobody_waits_for_is_reported_so_that_its_agent_may_forget_it(nodes):
    runner, links = nodes
    links["n1"].says = [Over("9-1-cd", end(5, exit=0)), Over("8-2.1", end(6, exit=0))]
    assert [(one.job, one.attempt, one.mark) for one in runner.reports(0)] == [(9, 1, "cd"), (8, 2, "")]
    for report in runner.reports(0):
        runner.settled(report)
    assert links["n1"].sent == [Settle(1, "9-1-cd"), Settle(1, "8-2.1")] and runner.reports(0) == []


@pytest.mark.parametrize(
    "name, fits",
    [("7-1", True), ("7-1-ab.12", True), ("7-1.1", True), ("7-1.0", False), ("7-1.", False), ("7-1.1/x", False)],
)
def test_only_the_name_of_a_part_becomes_a_path(name, fits):
    assert bool(NAME.fullmatch(name)) is fits


@given(st.lists(st.tuples(st.integers(1, 64), st.integers(1, 10**6)), min_size=1, max_size=40), st.data())
@settings(max_examples=60)
def test_the_parts_of_a_modelled_run_sum_to_its_use(shapes, data):
    given_ = tuple(Allocation(f"n{place}", 1, tuple(range(cores)), mib) for place, (cores, mib) in enumerate(shapes))
    amounts = st.integers(0, 10**15)
    use = Use(*(data.draw(amounts) for _ in range(4)))
    parts = modelled_parts(replace(job_on("n1"), allocations=given_), use)
    assert parts == () if len(shapes) == 1 else sum_of([one.use for one in parts]) == use
    assert all(min(one.use.cpu_ms, one.use.memory_peak_mib, one.use.read_bytes) >= 0 for one in parts)


def test_the_end_of_a_job_keeps_its_parts_also_in_the_journal_and_shows_each_node():
    engine = Engine(small_site())
    request = Request("j", "silt", ("all",), "steady", 600, Memory(100))
    for command in (Submit(0, By("ada"), request, Origin("x")), Schedule(0)):
        engine.apply(engine.decide(command))
    parts = (NodeUse("n1", Use(5, 6), 0), NodeUse("n2", Use(7, 8), None, "KILL"))
    [ended] = engine.decide(Finish(10, 1, 1, exit=0, use=Use(12, 14), parts=parts))
    assert decode(*encode(ended)) == ended and ended.parts == parts
    [job] = engine.apply([ended])
    assert job.parts == parts


def test_use_by_node_is_told_of_running_and_ended_jobs_whether_they_have_one_node_or_several():
    client = Rehearsed(7).client()
    every = [*client.jobs(everyone=True), *client.jobs(ended=True, everyone=True, limit=300)]
    ran = [view for view in every if view.nodes and not view.rows]
    for wide in (False, True):
        for phase in (Phase.RUNNING, Phase.DONE):
            view = next(one for one in ran if (len(one.nodes) > 1) is wide and one.phase is phase)
            told = job_json(client.job(view.job))
            assert [one["node"] for one in told["by_node"]] == told["nodes"]
            assert sum(one["cpu_s"] for one in told["by_node"]) == pytest.approx(told["cpu_s"])
    waits = next(view for view in every if view.phase is Phase.WAITING)
    assert job_json(waits)["by_node"] == []
