"""Review: tasks as a field, results side by side, what differs, search, mail, and being told of an end."""

import os
import time

import pytest
from textual import events

from lazy_quarry.app.job_notices import Ring
from lazy_quarry.app.review.node_lines import NodeLines
from lazy_quarry.app.review.usage_lines import columns_of, spread_over
from lazy_quarry.app.shared.braille import braille
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.frame import NoteBar
from lazy_quarry.core.advice.curves import Point, result_curves
from lazy_quarry.core.advice.found_value import ValuePattern, number_in
from lazy_quarry.core.advice.task_groups import TaskFacts, causes, distribution, outliers
from lazy_quarry.core.job.curve import curve_of
from lazy_quarry.core.values import replace
from lazy_quarry.errors import BadValue
from lazy_quarry.run.fetching import FilesHere
from lazy_quarry.run.node.made_files import MadeFile, MadeFiles
from tests.app.support import demo, press, settled, text_of, wait_for


async def review(app, pilot, name=""):
    """Go to Review, and to the newest run of a name."""
    await press(pilot, "5")
    await wait_for(pilot, lambda: app.query("#runs") and app.query_one("#runs").runs)
    place, runs = app.query_one("ReviewPlace"), app.query_one("#runs")
    if name:
        await wait_for(pilot, lambda: any(run.name == name for run in runs.runs))
        runs.focus()
        runs.move(next(at for at, run in enumerate(runs.runs) if run.name == name))
        await wait_for(pilot, lambda: place.seen.detail is not None and place.seen.detail.view.name == name)
    await settled(pilot)
    return place, runs


async def typed(app, pilot, line, text):
    """Type into a line, and enter."""
    await wait_for(pilot, lambda: app.focused is not None and app.focused.id == line)
    app.focused.value = text
    await press(pilot, "enter")
    await settled(pilot)


async def test_the_tasks_of_an_array_are_a_field_whose_failures_are_told_together(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place, _ = await review(app, pilot, "roughness-fit")
        await wait_for(pilot, lambda: "WHY SOME FAILED" in text_of(app, "#tasks"))
        text = text_of(app, "#tasks")
        assert "8 of 40: over its memory, all with grid=finest" in text and "half of all at most" in text
        assert text.count("▲") == 8 and text.count("◆") == 32
        await press(pilot, "tab", "f")
        await wait_for(pilot, lambda: "grid=finest, roughness=0.020: over its" in text_of(app, "#tasks"))
        await press(pilot, "v")
        assert "by how long it ran" in text_of(app, "#tasks") and "▲" not in text_of(app, "#tasks").split("HOW LONG")[0]
        await press(pilot, "enter")
        await wait_for(pilot, lambda: place.seen.detail.view.task == 31)
        assert place.seen.sheet == "output" and "over" in text_of(app, "#verdict")
        await press(pilot, "backspace")
        await wait_for(pilot, lambda: place.seen.detail.view.task is None and place.seen.sheet == "tasks")


async def test_results_side_by_side_are_a_curve_and_a_table_and_can_be_taken_along(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place, _ = await review(app, pilot, "roughness-fit")
        await press(pilot, "R")
        await wait_for(pilot, lambda: place.results.tried_on[0].startswith("14331/"))
        app.query_one("#pattern").value = "highest lev"
        await wait_for(pilot, lambda: "in 14331/1 it finds" in text_of(app, "#results"))
        app.query_one("#pattern").value = "(oops"
        await wait_for(pilot, lambda: "no pattern" in text_of(app, "#results"))
        await typed(app, pilot, "pattern", "highest level")
        await wait_for(pilot, lambda: "32 of 40 tasks have it" in text_of(app, "#results"))
        text = text_of(app, "#results")
        assert "grid=coarse" in text and "roughness" in text and any("\u2800" < sign < "\u28ff" for sign in text)
        assert place.figures()[0][0] == "the results as a curve" and place.figures()[0][1]().title
        await press(pilot, "enter")
        await wait_for(pilot, lambda: place.seen.detail.view.task == 1)


async def test_the_request_advised_stands_beside_the_old_one_and_is_drafted_by_a_key(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await review(app, pilot, "surge-north")
        runs = app.query_one("#runs")
        runs.move(next(at for at, run in enumerate(runs.runs) if run.name == "surge-south"))
        await wait_for(pilot, lambda: "NEXT TIME" in text_of(app, "#verdict"))
        text = text_of(app, "#verdict")
        assert (
            "from 1 run" in text and "2h 30m  →  2h 15m" in text and "so few runs say little" in " ".join(text.split())
        )
        await press(pilot, "N")
        await wait_for(pilot, lambda: app.place == "draft")
        await wait_for(pilot, lambda: 'walltime="2h 15m"' in app.query_one("#overrides-edit").text)


async def test_differences_from_the_run_before_or_between_marked_runs_are_shown(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place, runs = await review(app, pilot, "surge-north")
        await press(pilot, "d")
        await wait_for(pilot, lambda: "from the run before" in text_of(app, "#differences"))
        runs.focus()
        runs.move(next(at for at, run in enumerate(runs.runs) if run.name == "surge-south"))
        await settled(pilot)
        await press(pilot, "t")
        runs.move(next(at for at, run in enumerate(runs.runs) if run.name == "eel-merge"))
        await press(pilot, "t")
        assert len(runs.marked) == 2 and "»" in text_of(app, "#runs")
        place.sheets.turn_to("differences")
        await wait_for(pilot, lambda: "between the marked runs" in text_of(app, "#differences"))
        text = text_of(app, "#differences")
        assert "memory asked" in text and "outcome" in text and "THE SCRIPTS" in text
        runs.marked.clear()
        for name in ("surge-south", "archive-day"):  # both were done, on 32 cores and on 2
            runs.marked[next(run.job for run in runs.runs if run.name == name)] = None
        place.sheets.turn_to("differences")
        await wait_for(pilot, lambda: "speed-up" in text_of(app, "#differences"))
        assert "of its work is serial" in " ".join(text_of(app, "#differences").split())
        assert place.figures()[0][0] == "speed-up and efficiency" and "scales" in place.figures()[0][1]().title


async def test_all_that_ever_ran_is_searched_sorted_and_shown_in_columns(tmp_path, monkeypatch):
    monkeypatch.setattr("platformdirs.user_config_dir", lambda *_, **__: str(tmp_path / "config"))
    async with demo(tmp_path) as (app, pilot):
        place, runs = await review(app, pilot)
        await press(pilot, "slash")
        await typed(app, pilot, "search", "state:done user:tove")
        await wait_for(pilot, lambda: runs.runs and all(run.phase == "done" for run in runs.runs))
        assert "FOUND" in text_of(app, "#run-head") and "state:done" in text_of(app, "#run-head")
        await press(pilot, "ctrl+s")
        await typed(app, pilot, "search", "big ones")
        await press(pilot, "slash", *"done -memory:")
        await wait_for(pilot, lambda: "the most memory that it used" in app.query_one(NoteBar).text)
        await typed(app, pilot, "search", "memry:3")
        await wait_for(pilot, lambda: 'did you mean "memory"' in app.query_one(NoteBar).text)
        await press(pilot, "ctrl+o")
        await wait_for(pilot, lambda: place.searching.words == "state:done user:tove" and runs.runs)
        await press(pilot, "b")
        await wait_for(pilot, lambda: "account" in text_of(app, "#run-head"))
        place.searching.sort_by("took")
        await wait_for(pilot, lambda: "took ↓" in text_of(app, "#run-head"))
        await settled(pilot)
        took = [run.elapsed_s for run in runs.runs]
        assert took == sorted(took, reverse=True) and len(took) > 1
        await press(pilot, "S")
        await wait_for(pilot, lambda: [run.elapsed_s for run in runs.runs] == sorted(took))
        await press(pilot, "c")
        columns = app.query_one("#columns")
        await wait_for(pilot, lambda: columns.display and app.focused is columns)
        columns.move(1)
        await press(pilot, "enter")
        await wait_for(pilot, lambda: "user" not in text_of(app, "#run-head").split("\n")[1])
        for _ in range(3):
            await press(pilot, "escape")
        await wait_for(pilot, lambda: not place.searching.words and len(runs.runs) > 5)


async def test_mail_is_read_and_files_and_graphs_are_shown(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place, _ = await review(app, pilot, "surge-south")
        await wait_for(pilot, lambda: "OVER TIME" in text_of(app, "#verdict"))
        assert "█" in text_of(app, "#verdict") and "peak" in text_of(app, "#verdict")
        assert [words for words, _ in place.figures()] == ["what it used over its time"]
        await press(pilot, "i")
        await wait_for(pilot, lambda: "a rehearsal makes no files" in text_of(app, "#made"))
        app.client.rehearsed.advance(app.client.rehearsed.now_ms + 6 * 3_600_000)
        await wait_for(pilot, lambda: any(letter.subject.endswith(": done") for letter in app.client.letters(20)))
        await press(pilot, "M")
        await wait_for(pilot, lambda: "surge-north: done" in text_of(app, "#letters"))
        assert "tove@oxbow.example" in text_of(app, "#letters") and "lq output" in text_of(app, "#letters")


async def test_files_that_a_run_made_are_fetched_and_only_written_over_when_that_is_wanted(tmp_path):
    (tmp_path / "made").mkdir()
    for name, content in (("a[1].nc", "one"), ("b.nc", "two")):
        (tmp_path / "made" / name).write_text(content)
    files = FilesHere(str(tmp_path / "made"))
    async with demo(tmp_path / "state") as (app, pilot):
        _, _ = await review(app, pilot, "surge-south")
        await press(pilot, "F")
        await wait_for(pilot, lambda: "works on the files that a run made" in app.query_one(NoteBar).text)
        client = app.client
        client.made = lambda job: MadeFiles(files.folder, (MadeFile("a[1].nc", 3, 0), MadeFile("b.nc", 3, 0)))
        client.fetchable = lambda number, patterns: files.found(patterns)
        client.fetch_piece = lambda number, path, begin: files.piece(os.fsdecode(path), begin)
        client.fetch_digest = lambda number, path, begin, most: files.digest(os.fsdecode(path), begin, most)
        await press(pilot, "i")
        await wait_for(pilot, lambda: "b.nc" in text_of(app, "#made"))
        here = tmp_path / "to"
        for keys, said in (
            (("F",), "1 file fetched"),
            (("t", "down", "t", "F"), "1 file fetched, 3 B; 1 file already there"),
        ):
            await press(pilot, *keys)
            await wait_for(pilot, lambda: app.focused is app.query_one("#fetch-to"))
            app.query_one("#fetch-to").value = str(here)
            await press(pilot, "enter")
            await wait_for(pilot, lambda said=said: said in app.query_one(NoteBar).text)
        assert (here / "a[1].nc").read_text() == "one" and (here / "b.nc").read_text() == "two"
        for answer, content in (("n", "mine"), ("y", "two")):
            (here / "b.nc").write_text("mine")
            await press(pilot, "F", "enter")
            await wait_for(pilot, lambda: app.screen.query("#question"))
            await press(pilot, answer)
            await wait_for(pilot, lambda content=content: (here / "b.nc").read_text() == content)
            await wait_for(pilot, lambda: not app.screen.query("#question"))


async def test_the_end_of_a_marked_job_rings(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        written = []
        app.ring.write = written.append
        await review(app, pilot, "tide-gauges")
        await press(pilot, "B")
        await wait_for(pilot, lambda: "notices are off" in app.query_one(NoteBar).text)
        app.action_turn_ring()
        await pilot.pause()
        app.client.rehearsed.advance(app.client.rehearsed.now_ms + 2 * 3_600_000)
        await wait_for(pilot, lambda: written == ["\a"])
        assert not app.ring.jobs and Ring(app.ring.kept, print).way == "bell"


# -- what is behind it ----------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("pattern", "lines", "value"),
    [
        ("residual", ["residual 1e-3", "residual = 2.5e-4 at 3"], "2.5e-4"),
        (r"t=(\w+)", ["t=abc", "no"], "abc"),
        ("done", ["done", "x"], "done"),
        ("loss", ["loss: nan"], "nan"),
        ("x", [], None),
    ],
)
def test_a_pattern_finds_its_last_value(pattern, lines, value):
    assert ValuePattern(pattern).last_value(lines) == value


def test_a_pattern_that_tries_too_many_ways_is_told():
    with pytest.raises(BadValue, match="too many ways"):
        ValuePattern(r"(a|aa)+$").value("a" * 3000 + "b")
    assert (
        number_in("1_000.5") == 1000.5
        and number_in("nan") is None
        and number_in("inf") is None
        and number_in("x") is None
    )


def test_results_are_arranged_along_the_parameter_with_most_numbers():
    points = [
        Point(f"{a}{b}", (("grid", a), ("beta", b)), len(a) * float(b)) for a in ("f", "cc") for b in ("1", "2", "10")
    ]
    found = result_curves(points)
    assert found.axis == "beta" and [curve.name for curve in found.curves] == ["grid=f", "grid=cc"]
    assert found.curves[0].points == ((1.0, 1.0), (2.0, 2.0), (10.0, 10.0)) and not found.names
    named = result_curves([Point(a, (("grid", a),), 1.0) for a in ("f", "c")])
    assert named.names == ("f", "c") and result_curves(points[:1]) is None
    assert result_curves([Point("1", (), 1.0), Point("2", (), 3.0)]).axis == "run"


def test_failures_are_grouped_by_cause_and_what_they_share():
    tasks = [
        TaskFacts(f"1/{at}", (("grid", "fine" if at < 6 else "mid"), ("n", str(at))), 10 if at else 900, 5,
                  "exit 1" if at < 4 else "", f"error at step {at}" if at < 4 else "")
        for at in range(12)
    ]  # fmt: skip
    (cause,) = causes(tasks)
    assert cause.words == "4 of 12: exit 1, “error at step 0”, all with grid=fine" and not cause.every
    (far,) = outliers(tasks)
    assert (far.label, far.value, far.usual) == ("1/0", 900, 10.0) and outliers(tasks[:7]) == ()
    assert distribution([1, 1, 1]) == (3,) and sum(distribution(range(100))) == 100 and distribution([]) == ()


def test_a_curve_keeps_peaks_and_means_in_few_points():
    samples = [(1000 * at, float(at % 2), 500 if at == 700 else 10) for at in range(2000)]
    curve = curve_of(samples)
    assert len(curve.cores) == 48 and max(curve.memory_mib) == 500 and curve.peak_ms == 700_000
    assert all(abs(cores - 50) <= 2 for cores in curve.cores) and curve_of(samples[:1]) is None
    gap = curve_of([(0, 1.0, 5), (90_000, 2.0, 9), (90_001, 2.0, 9)])
    assert gap.memory_mib[0] == 5 and gap.memory_mib[-1] == 9 and len(gap.samples) == 3


def test_graphs_show_what_is_there_however_little():
    assert columns_of([0.0, 0.001, 1.0], 1.0, 2) == ["  █", " ▁█"]
    assert spread_over([(0, 1.0, 5), (10, 3.0, 7)], 0, 20, 4) == [(1.0, 5), (1.0, 5), (3.0, 7), (3.0, 7)]
    rows = braille([[(0, 0), (1, 1)], [(0, 1), (1, 1)]], 4, 2, (0, 1), (0, 1))
    assert all(sign != " " for sign, _ in rows[0]) and rows[1][0][1] == 0 and rows[1][3] == (" ", -1)


async def test_a_run_on_several_nodes_says_what_each_of_them_did(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place, _ = await review(app, pilot, "surge-south")
        await wait_for(pilot, lambda: "BY NODE" in text_of(app, "#verdict"))
        [idle, busy] = text_of(app, "#verdict").split("BY NODE")[1].split("\n")[1:3]
        assert idle.split()[0] != busy.split()[0] and "of 16" in idle and "GiB" in busy
        view = place.seen.detail.view
        many = tuple(replace(view.parts[0], node=f"c{number}") for number in range(20))
        lines = NodeLines(replace(view, parts=many), 60)
        assert lines.count == 9 and lines.left_out == 12
        assert NodeLines(replace(view, parts=()), 60).count == 0


async def test_keys_typed_after_one_that_opens_a_line_get_there_also_on_a_machine_that_stood_still(
    tmp_path, monkeypatch
):
    def stands_still(rows, event):
        if event.key == "slash":
            time.sleep(0.4)

    monkeypatch.setattr(Rows, "on_key", stands_still, raising=False)
    async with demo(tmp_path) as (app, pilot):
        place, _ = await review(app, pilot)
        for key in ("slash", *"name=mesh", "enter"):
            app.post_message(
                events.Key("equals_sign" if key == "=" else key, None if key in ("slash", "enter") else key)
            )
        await wait_for(pilot, lambda: place.searching.words)
        assert place.searching.words == "name=mesh"
