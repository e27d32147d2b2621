"""Open formats that are written are read back by independent readers, and says what the records say."""

import io
import itertools
import re
from datetime import UTC, datetime

import icalendar
import pyarrow.parquet
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from lazy_quarry.core.formats.calendar import BudgetDay, budget_calendar, read_calendar
from lazy_quarry.core.formats.job_table import job_table
from lazy_quarry.core.formats.usage_records import NAMESPACE, usage_records
from lazy_quarry.core.formats.workload_trace import workload_trace
from lazy_quarry.core.ledger.job_record import JobRecord
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.errors import BadValue
from lazy_quarry.study.swf import read_trace
from lazy_quarry.wording.metrics import metrics_text
from tests.conftest import SiteUnderTest, script, small_site

NOW = 1_800_000_000_000
texts = st.one_of(
    st.sampled_from(["grid", "a b", "é & <x>", "q\"'", "]]>", "\x1b[31m", "a\nb", "‮ab"]), st.text(max_size=20)
)


@st.composite
def records(draw):
    number = draw(st.integers(1, 10**12))
    submitted = draw(st.integers(NOW - 10**10, NOW))
    started = draw(st.one_of(st.none(), st.integers(submitted, NOW + 10**6)))
    cores = 0 if started is None else draw(st.integers(1, 500))
    return JobRecord(
        job=number, task=draw(st.one_of(st.none(), st.integers(0, 9))), number=number, name=draw(texts),
        user=draw(texts), account=draw(texts), queue=draw(texts), tier="steady",
        state=draw(st.sampled_from(["done", "failed", "overtime", "overmemory", "cancelled", "lost", "skipped"])),
        attempts=int(started is not None), submitted_ms=submitted, started_ms=started, ran_ms=draw(st.integers(0, 10**8)),
        ended_ms=(submitted if started is None else started) + draw(st.integers(0, 10**8)),
        nodes=() if started is None else ("n1", "n2"), cores=cores, gpus=0, walltime_s=draw(st.integers(60, 10**6)),
        memory_mib=draw(st.integers(0, 10**6)), memory_peak_mib=draw(st.integers(0, 10**6)),
        cpu_ms=draw(st.integers(0, 10**10)), held_core_ms=draw(st.integers(0, 10**12)),
        charged_core_ms=draw(st.integers(0, 10**12)), exit=draw(st.one_of(st.none(), st.integers(0, 255))), signal=None,
    )  # fmt: skip


BLOCKS = {
    "RecordIdentityBlock": ["RecordId", "CreateTime", "Site"],
    "SubjectIdentityBlock": ["LocalUserId", "LocalGroupId"],
    "ComputeUsageBlock": [
        "CpuDuration", "WallDuration", "StartTime", "EndTime", "ExecutionHost", "Processors", "NodeCount", "ExitStatus",
        "Charge",
    ],
    "JobUsageBlock": [
        "GlobalJobId", "LocalJobId", "JobName", "MachineName", "SubmitHost", "Queue", "TimeInstant", "ServiceLevel", "Status",
    ],
    "MemoryUsageBlock": [
        "MemoryClass", "MemoryResourceCapacityUsed", "MemoryResourceCapacityAllocated", "StartTime", "EndTime",
    ],
}  # fmt: skip


@given(st.lists(records(), max_size=4))
@settings(max_examples=40)
def test_usage_records_have_the_blocks_of_the_document_whatever_names_hold(some):
    text = "".join(usage_records(some, "brook", "head", "brook.head", NOW))
    root = etree.fromstring(text.encode())
    assert root.tag == f"{{{NAMESPACE}}}UsageRecords" and len(root) == len(some)
    for element, record in zip(root, some, strict=True):
        names = [etree.QName(block).localname for block in element]
        assert names == [name for name in BLOCKS if name in names] and "RecordIdentityBlock" in names
        for block in element:
            inside = [etree.QName(one).localname for one in block]
            known = BLOCKS[etree.QName(block).localname]
            assert [name for name in known if name in inside] == list(dict.fromkeys(inside)) and set(inside) <= set(
                known
            )
        assert ("ComputeUsageBlock" in names) is (record.started_ms is not None)
        found = {etree.QName(one).localname: one.text for one in element.iter()}
        if record.started_ms is not None:
            assert float(found["CpuDuration"][2:-1]) == pytest.approx(record.cpu_ms / 1000)
            assert int(found["Processors"]) == record.cores
            assert float(found["Charge"]) == pytest.approx(record.charged_core_ms / 3_600_000, abs=1e-6)
        for name in ("CreateTime", "StartTime", "EndTime", "TimeInstant"):
            assert name not in found or datetime.fromisoformat(found[name]).tzinfo is not None
        assert (
            found["Status"] in ("completed", "failed", "aborted") and found["JobName"] is not None
        ) or not record.name


@given(st.lists(records(), max_size=6))
@settings(max_examples=40)
def test_a_trace_is_read_back_by_our_reader_and_has_eighteen_numbers_a_job(some):
    lines = list(workload_trace(some, "brook", 3, 512))
    jobs = [line for line in lines if not line.startswith(";")]
    assert all(len(line.split()) == 18 and re.fullmatch(r"[-0-9 ]+", line) for line in jobs)
    assert all(line.startswith("; ") and "\n" not in line for line in lines if line.startswith(";"))
    trace = read_trace(lines, 512)
    ran = sorted((one for one in some if one.cores), key=lambda one: (one.submitted_ms, one.number))
    assert [job.cores for job in trace.jobs] == [one.cores for one in ran]
    assert [job.walltime_s for job in trace.jobs] == [one.walltime_s for one in ran]
    secret = list(workload_trace(some, "brook", 3, 512, named=False))
    assert not any(line.startswith("; Note: user") for line in secret)


@given(st.lists(records(), max_size=5))
@settings(max_examples=25)
def test_a_table_in_parquet_has_every_field(some):
    table = pyarrow.parquet.read_table(io.BytesIO(job_table(some)))
    rows = table.to_pylist()
    assert [row["number"] for row in rows] == [one.number for one in some]
    for row, one in zip(rows, some, strict=True):
        assert (row["user"], row["held_core_ms"], tuple(row["nodes"])) == (one.user, one.held_core_ms, one.nodes)
        assert row["ended"] == datetime.fromtimestamp(one.ended_ms // 1000, UTC).replace(
            microsecond=one.ended_ms % 1000 * 1000
        )
    assert table.schema.field("submitted").type.tz == "UTC"


def test_the_ends_of_budgets_are_whole_days_that_no_reservation_is_made_of():
    days = [
        BudgetDay((site, "used-up", account, term), "The budget ends", NOW, NOW + DAY_MS, "about; 8 times in 10")
        for site, account, term in itertools.product(("brook", "my site"), ("silt", "sil-t", "é u"), ("1", "2"))
    ]
    text = budget_calendar(days, NOW)
    uids = [str(event["uid"]) for event in icalendar.Calendar.from_ical(text).walk("VEVENT")]
    assert len(set(uids)) == len(days) and not any(sign.isspace() for uid in uids for sign in uid)
    event = icalendar.Calendar.from_ical(text).walk("VEVENT")[0]
    assert event.decoded("dtstart") == datetime.fromtimestamp(NOW / 1000, UTC).date()
    assert "8 times in 10" in event["description"]
    with pytest.raises(BadValue, match="not a node name"):
        read_calendar(text.replace("TRANSP:TRANSPARENT", "LOCATION:the sea"), ("n1",))


def test_metrics_are_read_back_and_say_what_the_board_says():
    site = SiteUnderTest(small_site(), lambda: NOW)
    from lazy_quarry.core.header.submission import Submission

    for ranks in (4, 4, 32):
        header = f'name = "grid"\nwalltime = "1h"\nranks = {ranks}\nmemory = "64 MiB/core"\naccount = "silt"'
        site.submit(Submission(script(header), "run.sh", "/tmp"))
    board = site.board()
    text = metrics_text(board)
    assert text.endswith("# EOF\n")
    found = {
        (sample.name, *sorted(sample.labels.items())): sample.value
        for family in text_string_to_metric_families(text)
        for sample in family.samples
    }
    assert found["lazy_quarry_cores", ("state", "used")] + found["lazy_quarry_cores", ("state", "free")] == 32
    assert found["lazy_quarry_nodes", ("state", "open")] == 3
    running = sum(value for key, value in found.items() if key[0] == "lazy_quarry_jobs" and ("state", "running") in key)
    assert running == sum(view.phase == "running" for view in board.jobs) > 0
    assert found["lazy_quarry_left_core_hours", ("account", "silt")] == 1000
    assert ("lazy_quarry_charged_core_hours_total", ("account", "eels")) in found
