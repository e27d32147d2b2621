"""The files of a report: a document, and the jobs in open formats; read by other programs' readers."""

import json
from email import message_from_bytes, policy
from io import BytesIO
from urllib.request import Request, urlopen

import icalendar
import pyarrow.parquet
import pytest
from lxml import etree
from prometheus_client.openmetrics.parser import text_string_to_metric_families
from pypdf import PdfReader

from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.draw.pages.period_document import METHOD, printed_report, read_answers
from lazy_quarry.draw.pages.printed import Table
from lazy_quarry.draw.pages.printed_pages import write_pages
from lazy_quarry.errors import QuarryError
from tests.conftest import script, until


@pytest.fixture(scope="module")
def demo():
    site = Rehearsed(5)
    site.add_past(90)
    return site.client()


def text_of(path):
    pages = PdfReader(path).pages
    return len(pages), " ".join(" ".join(page.extract_text().split()) for page in pages)


def fonts_of(path):
    for page in PdfReader(path).pages:
        for font in page["/Resources"]["/Font"].values():
            yield font.get_object()


@pytest.mark.parametrize(
    ("where", "title"), [({"account": "tide-surge"}, "tide-surge"), ({"user": "tove"}, "tove"), ({}, "oxbow")]
)
def test_a_report_is_three_to_six_pages_of_text_with_its_fonts(demo, tmp_path, where, title):
    answers = read_answers(demo, "last month", where)
    path = tmp_path / "report.pdf"
    count = write_pages(printed_report(answers), path)
    pages, text = text_of(path)
    assert pages == count and 3 <= pages <= 6 and f"page {pages} of {pages}" in text
    assert f"{title}, February 2027" in text and "core-hours were charged for" in text
    assert " ".join(METHOD[-1].split()) in text
    for row in answers.whole.rows[:10]:
        assert row.key[0] in text
    for font in fonts_of(path):
        told = font.get("/DescendantFonts", [font])[0].get_object().get("/FontDescriptor")
        assert told is None or {"/FontFile2", "/FontFile3"} & set(told.get_object())
    if "account" in where:
        assert "are left; after that no job" in text and "33% is its target" in text


def test_an_anonymous_report_has_nobody_s_name_but_one_s_own(demo, tmp_path):
    answers = read_answers(demo, "last month", {"account": "tide-surge"})
    path = tmp_path / "report.pdf"
    write_pages(printed_report(answers, anonymous=True), path)
    _, text = text_of(path)
    assert "tove" in text and "person 1" in text
    assert not any(name in text for name in ("imre", "salka", "bram", "noor"))


def test_a_long_table_goes_on_under_its_head_and_an_empty_period_is_told(demo, tmp_path):
    answers = read_answers(demo, "2001", {})
    printed = printed_report(answers)
    path = tmp_path / "empty.pdf"
    assert write_pages(printed, path) >= 1 and "Nothing was charged in 2001" in text_of(path)[1]
    rows = tuple((f"row{number}", "1") for number in range(150))
    blocks = (Table(("name", "count"), rows, sums=1),)
    from lazy_quarry.core.values import replace

    assert write_pages(replace(printed, blocks=blocks), path) == 4
    _, text = text_of(path)
    assert all(f"row{number} " in text for number in range(150)) and text.count("name count") == 4
    with pytest.raises(QuarryError, match="cannot be written"):
        write_pages(printed, tmp_path / "none" / "x.pdf")


def test_the_shell_writes_all_of_them(machine):
    (machine.work / "a.sh").write_text(script('name = "grid"\nwalltime = "1m"\nmemory = "32 MiB/core"', "sleep 0.2"))
    (machine.work / "b.sh").write_text(
        script(
            'name = "sweep"\nwalltime = "1m"\nmemory = "32 MiB/core"\narray.tasks = "1..3"', "exit $((LQ_TASK == 2))"
        )
    )
    for name in ("a.sh", "b.sh"):
        machine.lq("submit", name)
    machine.lq("wait", "1", "2")
    done = machine.lq(
        "report", "--period", "today", "--usage-records", "u.xml", "--swf", "t.swf", "--parquet", "p.parquet",
        "--pdf", "r.pdf", "--anonymous",
    )  # fmt: skip
    assert done.returncode == 0 and "u.xml: 4 jobs" in done.stdout and "r.pdf: " in done.stdout, done.stderr
    root = etree.parse(str(machine.work / "u.xml")).getroot()
    labels = sorted(one.text for one in root.iter("{*}LocalJobId"))
    assert labels == ["1", "2/1", "2/2", "2/3"]
    assert sorted(one.text for one in root.iter("{*}Status")) == ["completed"] * 3 + ["failed"]
    rows = pyarrow.parquet.read_table(machine.work / "p.parquet").to_pylist()
    assert {(row["job"], row["task"], row["state"]) for row in rows} >= {(1, None, "done"), (2, 2, "failed")}
    assert text_of(machine.work / "r.pdf")[0] >= 1
    replayed = machine.lq("replay", "t.swf", "--nodes", "1", "--cores", "4", "--format", "json")
    assert replayed.returncode == 0 and json.loads(replayed.stdout)
    assert machine.lq("account", "list", "--ics", "ends.ics").returncode == 0
    assert not icalendar.Calendar.from_ical((machine.work / "ends.ics").read_text()).walk("VEVENT")
    text = machine.lq("metrics").stdout
    assert any(family.name == "lazy_quarry_ended_jobs" for family in text_string_to_metric_families(text))
    for wrong, told in ((["--pdf", "r.txt"], "ends in .pdf"), (["--swf", "none/t.swf"], "cannot be written")):
        done = machine.lq("report", "--period", "today", *wrong)
        assert done.returncode == 2 and told in done.stderr


def test_a_report_is_mailed_as_notices_are_and_the_line_for_each_month_is_printed(machine):
    machine.submit("true", "name=one")
    machine.lq("wait", "1")
    done = machine.lq("report", "--period", "today", "--to", "lead@brook.example")
    assert done.returncode == 0 and "is kept here: this site has no relay" in done.stdout, done.stderr
    (mail,) = json.loads(machine.lq("mail", "--format", "json").stdout)
    assert mail["to"] == "lead@brook.example" and "core-hours were charged" in mail["text"].replace("\n", " ")
    (raw,) = (path for path in (machine.state / "mail" / "box").rglob("*") if path.is_file())
    letter = message_from_bytes(raw.read_bytes(), policy=policy.default)
    (document,) = letter.iter_attachments()
    assert (
        document.get_content_type() == "application/pdf" and len(PdfReader(BytesIO(document.get_content())).pages) >= 2
    )
    wrong = machine.lq("report", "--period", "today", "--to", "no address")
    assert wrong.returncode == 1 and "no address is not a mail address" in wrong.stderr
    line = machine.lq("report", "--account", "50% sure", "--monthly", "--to", "a@b.example").stdout.strip()
    assert (
        line.startswith("0 7 1 * *  ")
        and "report --period 'last month' --account '50\\% sure' --to a@b.example" in line
    )
    assert line.endswith(f"--state {machine.state}")  # as this command has it
    assert machine.lq("report", "--monthly").returncode == 2


def test_a_report_is_of_this_month_and_an_empty_one_says_where_there_is_something(machine):
    assert "no job has ended yet" in machine.lq("report").stderr
    machine.ended(machine.submit("true"))
    now = machine.lq("report")
    assert "so far" in now.stderr and '--period "last month"' in now.stderr and " 1 " in now.stdout.splitlines()[-1]
    empty = machine.lq("report", "--period", "2001")
    assert "nothing ended in 2001; there is something in 20" in empty.stderr


def test_metrics_are_answered_on_the_loopback_alone(machine):
    import subprocess
    import sys

    words = [sys.executable, "-m", "lazy_quarry", "metrics", "--serve", "0"]
    server = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, cwd=machine.work, env=machine.environment)
    try:
        line = server.stdout.readline()
        assert line.startswith("http://127.0.0.1:")
        address = line.split(";")[0]
        accept = {"Accept": "application/openmetrics-text; version=1.0.0"}

        def answer():
            with urlopen(Request(address, headers=accept), timeout=20) as found:
                return found.read().decode()

        text = until(answer)
        assert {"lazy_quarry_nodes", "lazy_quarry_cores"} <= {one.name for one in text_string_to_metric_families(text)}
    finally:
        server.kill()
        server.wait()
        server.stdout.close()
