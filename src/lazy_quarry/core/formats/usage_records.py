"""Usage records in the open form of the Open Grid Forum: Usage Record, Format Recommendation 2.0 (GFD-R-P.204).

Each job or task is a ``UsageRecord`` with the blocks of the document: which record it is (``RecordIdentityBlock``), whose
the use was (``SubjectIdentityBlock``), what was computed (``ComputeUsageBlock``), which job it was (``JobUsageBlock``) and
its memory (``MemoryUsageBlock``). Durations are ISO 8601, instants UTC, memory in bytes. The structure follows the
document; it is not validated by an independent schema.
"""

from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from io import StringIO
from xml.sax.saxutils import XMLGenerator
from xml.sax.xmlreader import AttributesImpl

from lazy_quarry.core.ledger.job_record import JobRecord
from lazy_quarry.core.plain_text import plain

NAMESPACE = "http://schema.ogf.org/urf/2013/04/urf"
STATUS = {"done": "completed", "cancelled": "aborted", "skipped": "aborted"}
"""The document's words for a job's end; all other states are ``failed``."""
_MIB = 1024 * 1024
_NONE = AttributesImpl({})
Fields = list[tuple[str, str]]


def usage_records(records: Iterable[JobRecord], site: str, host: str, identity: str, now_ms: int) -> Iterator[str]:
    """The text of a document of these, piece by piece. ``identity`` tells this journal from every other."""
    yield '<?xml version="1.0" encoding="UTF-8"?>\n'
    yield f'<ur:UsageRecords xmlns:ur="{NAMESPACE}">\n'
    for record in records:
        yield _record(record, site, host, identity, now_ms)
    yield "</ur:UsageRecords>\n"


def _record(record: JobRecord, site: str, host: str, identity: str, now_ms: int) -> str:
    text = StringIO()
    xml = XMLGenerator(text, "UTF-8", short_empty_elements=True)
    xml.startElement("ur:UsageRecord", _NONE)
    for block, fields in (
        ("RecordIdentityBlock", _identity(record, site, identity, now_ms)),
        ("SubjectIdentityBlock", [("LocalUserId", record.user), ("LocalGroupId", record.account)]),
        ("ComputeUsageBlock", _compute(record)),
        ("JobUsageBlock", _job(record, site, host, identity)),
        ("MemoryUsageBlock", _memory(record)),
    ):
        if not fields:
            continue
        xml.startElement(f"ur:{block}", _NONE)
        for name, value in fields:
            name, _, kind = name.partition("@")
            xml.startElement(f"ur:{name}", AttributesImpl({"ur:type": kind}) if kind else _NONE)
            if name == "ExecutionHost":
                xml.startElement("ur:Hostname", _NONE)
                xml.characters(plain(value))
                xml.endElement("ur:Hostname")
            else:
                xml.characters(plain(value))
            xml.endElement(f"ur:{name}")
        xml.endElement(f"ur:{block}")
    xml.endElement("ur:UsageRecord")
    text.write("\n")
    return text.getvalue()


def _identity(record: JobRecord, site: str, identity: str, now_ms: int) -> Fields:
    return [("RecordId", f"{identity}/{record.number}"), ("CreateTime", _instant(now_ms)), ("Site", site)]


def _compute(record: JobRecord) -> Fields:
    if record.started_ms is None:
        return []
    fields = [
        ("CpuDuration", _duration(record.cpu_ms)),
        ("WallDuration", _duration(record.ran_ms)),
        ("StartTime", _instant(record.started_ms)),
        ("EndTime", _instant(record.ended_ms)),
    ]
    fields += [("ExecutionHost", node) for node in dict.fromkeys(record.nodes)]
    fields += [("Processors", str(record.cores)), ("NodeCount", str(len(set(record.nodes))))]
    fields += [("ExitStatus", str(record.exit))] if record.exit is not None else []
    return [*fields, ("Charge", f"{record.charged_core_ms / 3_600_000:.6f}")]


def _job(record: JobRecord, site: str, host: str, identity: str) -> Fields:
    label = f"{record.job}" if record.task is None else f"{record.job}/{record.task}"
    fields = [("GlobalJobId", f"{site}/{identity}/{record.number}"), ("LocalJobId", label), ("JobName", record.name)]
    fields += [("MachineName", site)]
    fields += [("SubmitHost", host)] if host else []
    return [
        *fields,
        ("Queue", record.queue),
        ("TimeInstant@QueueTime", _instant(record.submitted_ms)),
        ("ServiceLevel", record.tier),
        ("Status", STATUS.get(record.state, "failed")),
    ]


def _memory(record: JobRecord) -> Fields:
    if record.started_ms is None:
        return []
    return [
        ("MemoryClass", "RAM"),
        ("MemoryResourceCapacityUsed", str(record.memory_peak_mib * _MIB)),
        ("MemoryResourceCapacityAllocated", str(record.memory_mib * _MIB)),
        ("StartTime", _instant(record.started_ms)),
        ("EndTime", _instant(record.ended_ms)),
    ]


def _duration(ms: int) -> str:
    return f"PT{max(0, ms) / 1000:.3f}S"


def _instant(at_ms: int) -> str:
    return datetime.fromtimestamp(at_ms // 1000, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
