"""Rehearsal sites of one's own: a trace as history, on nodes of its own size or of a site file; studied in all places."""

import pytest

from lazy_quarry.core.formats.workload_trace import workload_trace
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import DAY_MS, HOUR_MS
from lazy_quarry.demo.history import FromHistory, history_site
from lazy_quarry.demo.own_site import own_rehearsal, rehearsal_site
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.demo.session import DemoClient
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.site.site_file.site_file import SiteFileError, site_of
from lazy_quarry.study.swf import read_history
from tests.conftest import small_site, until

HEAD = "; Version: 2.2\n; UnixStartTime: 1700000000\n; MaxProcs: 64\n; MaxNodes: 4\n; Queue: 1 short\n; Note: user: 3 ada\n"


def line(number, submit, wait, run, cores, status=1, user=3, group=2, queue=1, asked=3600, memory=1048576):
    return f"{number} {submit} {wait} {run} {cores} {run} {memory} {cores} {asked} {memory} {status} {user} {group} 7 {queue} -1 -1 -1\n"


def trace(tmp_path, *lines):
    path = tmp_path / "river.swf"
    path.write_text(HEAD + "".join(lines))
    return path


SITE = """
name = "weir"
[[nodes]]
names = "w1..w4"
cores = 16
memory = "64 GiB"
traits = ["fast"]
[[queues]]
name = "short"
nodes = "w1..w4"
walltime = "1d"
[[accounts]]
name = "g2"
budget = 1000
"""


def test_a_trace_is_the_past_of_a_site_of_its_own_size(tmp_path):
    days = [line(number, number * 3600, 60, 1800, 8, status=(1, 0, 5)[number % 3]) for number in range(1, 101)]
    rehearsed, name = own_rehearsal(str(trace(tmp_path, *days)), "", 7)
    assert name == "river" and rehearsed.session.site.cores == 64 and len(rehearsed.session.site.nodes) == 4
    rehearsed.add_past(1)
    client = rehearsed.client()
    found = client.report("all", ["user"])
    assert [row.key for row in found.rows] == [("ada",)] and found.total.sums.jobs == 87
    assert found.total.sums.held_core_ms == 87 * 8 * 1800 * 1000 and found.total.wait_median_s == 60
    jobs = client.jobs(ended=True)
    assert {view.account for view in jobs} == {"g2"} and {view.queue for view in jobs} == {"short"}
    assert {str(view.phase) for view in jobs} == {"done", "failed", "cancelled"}
    assert all(view.cores == 8 for view in jobs)
    # The last hours of the trace come again.
    rehearsed.advance(rehearsed.now_ms + 13 * HOUR_MS)
    assert client.report("all", []).total.sums.jobs == 100
    assert client.board().person.user == "ada"


def test_a_trace_that_we_wrote_comes_back_with_its_names_and_its_sums(tmp_path):
    demo = Rehearsed(5)
    demo.add_past(6)
    ledger, caller, span = demo.site.ledger, demo.person, "all"
    records = []
    while some := ledger.records(caller, span, None, (records[-1].ended_ms, records[-1].number) if records else None):
        records += some
    path = tmp_path / "own.swf"
    path.write_text("".join(f"{one}\n" for one in workload_trace(records, "oxbow", 32, 1152)))
    history = read_history(path.read_text().splitlines())
    assert len(history.records) + history.left_out == len(records)
    again = FromHistory(history, history_site(history, "own"))
    again.add_past(1)
    again.advance(again.now_ms + 30 * DAY_MS)
    before = {row.key[0]: row.sums.jobs for row in ledger.report(caller, "all", ["user"]).rows}
    after = {row.key[0]: row.sums.jobs for row in again.client().report("all", ["user"]).rows}
    assert set(after) <= set(before) and all(after[user] <= before[user] for user in after)
    assert sum(after.values()) == len(history.records)
    assert {row.key[0] for row in again.client().report("all", ["account"]).rows} <= {one.account for one in records}


def test_a_rehearsal_site_of_a_site_file_takes_jobs_and_a_trace(tmp_path):
    path = tmp_path / "weir.toml"
    path.write_text(SITE)
    site = rehearsal_site(path)
    assert (site.name, site.cores, site.queue["short"].walltime_limit_s) == ("weir", 64, 86_400)
    rehearsed, name = own_rehearsal("", str(path), 7)
    assert name == "weir" and len(rehearsed.session.site.nodes) == 4
    rehearsed, name = own_rehearsal(
        str(trace(tmp_path, line(1, 0, 0, 100, 20), line(2, 100_000, 0, 100, 99))), str(path), 7
    )
    rehearsed.add_past(1)
    ended = rehearsed.session.journal.ended_after(-1, 0, 10)
    assert [(job.phase, job.cores_allocated) for job in ended] == [(Phase.DONE, 20)]
    assert {one.node for one in ended[0].allocations} <= set(site.node)
    assert rehearsed.session.site.account["g2"].budget_core_hours == 1000


def test_the_clock_of_a_site_whose_history_is_over_goes_on(tmp_path):
    rehearsed, _ = own_rehearsal(str(trace(tmp_path, line(1, 0, 0, 100, 4))), "", 7)
    client = DemoClient(60, True, past_days=1, rehearsed=rehearsed)
    try:
        until(lambda: not rehearsed.session.adding_past)
        now = rehearsed.now_ms
        for _ in range(4):
            client.step()
        assert rehearsed.now_ms < now + 10 * DAY_MS
    finally:
        client.close()


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("[[nodes]]\nnames = 'w1'\ncores = 0\nmemory = '1 GiB'", "line 3: nodes.cores"),
        ("[[nodes]]\nnames = 'w1'\ncores = 1\nmemory = '1'", "line 4: nodes.memory"),
        ("[[nodes]]\nnames='w1'\ncores=1\nmemory='1 GiB'\n" * 2, "a node stands there twice"),
        (
            "[[nodes]]\nnames='w1'\ncores=1\nmemory='1 GiB'\n[[queues]]\nname='a'\nnodes='w9'",
            "line 7: queues.nodes: there is no node w9",
        ),
        ("policy = 'easy'", "describes no nodes"),
    ],
)
def test_a_mistake_in_a_rehearsal_site_is_reported(tmp_path, text, told):
    path = tmp_path / "weir.toml"
    path.write_text(text)
    with pytest.raises(SiteFileError) as fault:
        rehearsal_site(path)
    assert told in str(fault.value.problems)


def test_a_machine_s_nodes_are_not_in_its_site_file_and_no_trace_is_told(tmp_path):
    machine = small_site()
    from lazy_quarry.core.values import replace

    with pytest.raises(SiteFileError, match=r"line 2: nodes\.host: name the host that it is"):
        site_of(replace(machine, kind="machine"), "[[nodes]]\nnames='w1'\ncores=1\nmemory='1 GiB'", "x")
    with pytest.raises(QuarryError, match="cannot be read"):
        own_rehearsal(str(tmp_path / "none.swf"), "", 7)
    path = tmp_path / "bad.swf"
    path.write_text("1 2 3\n")
    with pytest.raises(BadValue, match="line 1: 3 numbers"):
        own_rehearsal(str(path), "", 7)
    path.write_text("; nothing\n")
    with pytest.raises(BadValue, match="no job with a size"):
        own_rehearsal(str(path), "", 7)
