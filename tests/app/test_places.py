"""The application by Textual's pilot, on a rehearsal whose clock stands."""

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.app.app import QuarryApp
from lazy_quarry.app.ledger.use_columns import TONES, WentLines, fitted
from lazy_quarry.app.shared.draft_shelf import Draft, DraftShelf, save
from lazy_quarry.app.shared.frame import NoteBar, StrataLines, Trail
from lazy_quarry.app.shared.theme import CHALK, DUSK, PHASE_ROLES
from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.job.rates import charge_so_far
from lazy_quarry.store.sqlite.tables import sums
from tests.app.support import demo, drawn, press, settled, text_of, to_draft, wait_for
from tests.conftest import rows_of, script


async def test_the_frame_stands_before_the_site_is_open(tmp_path):
    import threading

    gate = threading.Event()

    def connect():
        from lazy_quarry.demo.session import DemoClient

        gate.wait(30)
        return DemoClient(1, True)

    app = QuarryApp(connect, tmp_path, DraftShelf(tmp_path, "x"))
    async with app.run_test(size=(160, 47)) as pilot:
        await pilot.pause()
        assert "1 Survey" in drawn(app.query_one(Trail))
        assert "opening the site" in drawn(app.query_one(StrataLines))
        gate.set()
        await wait_for(pilot, lambda: app.board is not None)
        await wait_for(pilot, lambda: "mine" in drawn(app.query_one(StrataLines)))
        await wait_for(pilot, lambda: app.query("#nodes"))
        await settled(pilot)


async def test_numbers_go_to_the_six_places_and_each_says_its_keys(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        for number, name in enumerate(("survey", "draft", "chain", "watch", "review", "ledger"), 1):
            await press(pilot, f"alt+{number}")
            await wait_for(pilot, lambda name=name: app.place == name)
            await settled(pilot)
            assert app.query_one(NoteBar).text
            assert any(key == "?" for key, _, _ in app.query_one(NoteBar).keys)
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.place == "watch")


async def test_the_trail_and_the_strata_can_be_clicked(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        trail = app.query_one(Trail)
        begin = drawn(trail).index("4 Watch")
        await pilot.click(Trail, offset=(begin + 2, 0))
        await wait_for(pilot, lambda: app.place == "watch")
        figures = drawn(app.query_one(StrataLines)).split("\n")[1]
        await pilot.click(StrataLines, offset=(figures.index("others") + 1, 1))
        await wait_for(pilot, lambda: app.query_one("#place-watch").scope == "everyone")


async def test_the_strata_add_up(tmp_path):
    async with demo(tmp_path) as (app, _):
        strata = app.board.strata
        assert strata.mine + strata.accounts + strata.others + strata.closed + strata.free == strata.total == 1152
        assert strata.closed == 32


async def test_survey_shows_every_node_and_why_one_is_closed(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        text = text_of(app, "#nodes")
        for queue in ("TIDAL", "DEEP", "LANTERN", "TRIAL"):
            assert queue in text
        nodes = app.query_one("#nodes")
        row = next(number for number, entry in enumerate(nodes.rows) if any(node.name == "c17" for node in entry.nodes))
        nodes.move(row)
        await wait_for(pilot, lambda: "memory errors in slot B2" in app.query_one(NoteBar).text)
        assert "new firmware" in text_of(app, "#may-use")


async def test_survey_keeps_its_cursor_when_the_world_moves(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        nodes = app.query_one("#nodes")
        nodes.move(12)
        name = nodes.entry().nodes[0].name
        app.client.rehearsed.advance(app.client.rehearsed.now_ms + 3_600_000)
        version = app.client.site.session.version
        await wait_for(pilot, lambda: app.board.version >= version)
        await settled(pilot)
        assert name in [node.name for node in nodes.entry().nodes]


async def test_a_draft_goes_from_a_shape_to_watch_to_review(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        await press(pilot, "down", "enter")
        editor = app.query_one("#editor")
        await wait_for(pilot, lambda: 'name     = "threads"' in editor.text)
        place = app.query_one("#place-draft")
        await wait_for(pilot, lambda: place.report is not None and place.report.shape.cores == 8)
        assert "nothing to say" in text_of(app, "#report")
        await press(pilot, "ctrl+g")
        await wait_for(pilot, lambda: "Submitted as" in app.query_one(NoteBar).text)
        number = int(app.query_one(NoteBar).text.split("Submitted as ")[1].split(";")[0])
        await press(pilot, "alt+4")
        await wait_for(pilot, lambda: app.query("#jobs"))
        jobs = app.query_one("#jobs")
        await wait_for(pilot, lambda: jobs.current() is not None and jobs.current().job == number)
        assert jobs.current().phase is Phase.RUNNING
        app.client.rehearsed.advance(app.client.rehearsed.now_ms + 3_600_000)
        await wait_for(pilot, lambda: jobs.current().phase is Phase.DONE)
        await press(pilot, "enter")
        await wait_for(pilot, lambda: app.place == "review")
        await wait_for(pilot, lambda: f"THREADS {number}" in text_of(app, "#verdict"))
        assert "Done in" in text_of(app, "#verdict")
        await wait_for(pilot, lambda: "finished" in text_of(app, "#output"))


async def test_typing_is_checked_with_line_numbers_and_fixed_by_one_key(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        editor = app.query_one("#editor")
        place = app.query_one("#place-draft")
        place.put_text(script('name = "x"\nwaltime = "1h"\nmemory = "1 GiB/core"', "true", "#!/bin/bash"), "", True)
        await wait_for(
            pilot,
            lambda: (
                place.report and [(one.code, one.line) for one in place.report.diagnostics][:1] == [("key-unknown", 4)]
            ),
        )
        await press(pilot, "f8", "f8")
        await wait_for(pilot, lambda: "waltime" in app.query_one(NoteBar).text)
        assert editor.cursor_location[0] == 3
        await press(pilot, "f9")
        await wait_for(pilot, lambda: "walltime" in editor.text)
        await wait_for(pilot, lambda: not place.report.diagnostics)
        await press(pilot, "ctrl+z")
        await wait_for(pilot, lambda: "waltime " in editor.text)


async def test_a_syntax_error_of_the_shell_is_shown_in_its_line(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        place = app.query_one("#place-draft")
        place.put_text(
            script('walltime = "1h"\nmemory = "1 GiB/core"', 'if true; then\necho "x"', "#!/bin/bash"), "", True
        )
        await wait_for(
            pilot, lambda: place.report and place.report.diagnostics and place.report.diagnostics[0].code == "syntax"
        )
        assert place.report.refused
        await press(pilot, "ctrl+g")
        await wait_for(pilot, lambda: "Not submitted" in app.query_one(NoteBar).text)


async def test_placement_start_and_cost_follow_the_text(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        place = app.query_one("#place-draft")
        text = script(
            'nodes = 2\nranks = 16\nthreads = 2\nmemory = "3 GiB/core"\nwalltime = "4d"', "true", "#!/bin/bash"
        )
        place.put_text(text, "", True)
        await wait_for(pilot, lambda: place.report and place.report.shape.cores == 32)
        report = text_of(app, "#report")
        assert "over the limit of 3d" in report
        assert "8 on each node" in text_of(app, "#dials")
        assert "0011223344556677" in report
        assert [len(node.own) for node in place.report.place.nodes] == [16, 16]


async def test_a_draft_survives_leaving_and_a_crash(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        await press(pilot, "enter")
        editor = app.query_one("#editor")
        await wait_for(pilot, lambda: editor.text)
        editor.insert("# a thought\n", (1, 0))
        await wait_for(pilot, lambda: "a thought" in (app.shelf.take() or Draft("")).text)
    async with demo(tmp_path) as (again, pilot):
        await to_draft(again, pilot)
        await wait_for(pilot, lambda: "a thought" in again.query_one("#editor").text)


def row_of(rows, wanted):
    """The row of the beginning that is wanted."""
    return next(row for row, entry in enumerate(rows.entries) if entry.begin and wanted(entry.begin))


async def test_scripts_are_opened_and_saved(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        rows = app.query_one("#beginnings")
        rows.move(row_of(rows, lambda begin: begin.path is not None and begin.path.name == "surge-north.sh"))
        await press(pilot, "enter")
        editor, place = app.query_one("#editor"), app.query_one("#place-draft")
        await wait_for(pilot, lambda: "surge-north" in editor.text)
        await wait_for(pilot, lambda: not place.document.edited)
        editor.insert("echo more\n", editor.document.end)
        await wait_for(pilot, lambda: place.document.edited)
        await press(pilot, "ctrl+s")
        await wait_for(pilot, lambda: not place.document.edited)
        assert Path(place.document.path).read_text().endswith("echo more\n")


async def test_a_file_that_cannot_be_opened_says_so_and_keeps_the_text(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        await press(pilot, "enter")
        editor, place = app.query_one("#editor"), app.query_one("#place-draft")
        await wait_for(pilot, lambda: editor.text)
        kept = editor.text
        (tmp_path / "binary").write_bytes(b"\0\1")
        for path, words in (
            (tmp_path / "gone.sh", "No such file"),
            (tmp_path / "binary", "binary"),
            (tmp_path, "a folder"),
        ):
            place.opening.open_file(path)
            await wait_for(pilot, lambda words=words: words in app.query_one(NoteBar).text)
            assert editor.text == kept


async def test_leaving_what_is_not_saved_is_asked_with_the_safe_answer_chosen(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        await press(pilot, "enter")
        editor = app.query_one("#editor")
        await wait_for(pilot, lambda: editor.text)
        kept = editor.text
        await press(pilot, "f2")
        await wait_for(pilot, lambda: app.focused.id == "beginnings")
        await press(pilot, "down", "enter")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "enter")
        await settled(pilot)
        assert editor.text == kept
        await press(pilot, "enter")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "y")
        await wait_for(pilot, lambda: editor.text != kept)


async def test_watch_shows_states_by_sign_and_word_and_says_why(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs") and "sediment-big" in text_of(app, "#jobs"))
        text = text_of(app, "#jobs")
        for sign, word in (
            ("▰", "of"),
            ("▱", "starts"),
            ("◫", "held"),
            ("◆", "done in"),
            ("✕", "failed"),
            ("◔", "overtime"),
        ):
            assert any(sign in line and word in line for line in text.split("\n")), (sign, word)
        jobs = app.query_one("#jobs")
        jobs.move(next(number for number, job in enumerate(jobs.jobs) if job.name == "sediment-big"))
        await wait_for(pilot, lambda: "waits for 8 nodes of tidal with 32 free cores" in app.query_one(NoteBar).text)
        assert "c" in text_of(app, "#ground")


async def test_the_now_line_runs_through_all_lanes(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs"))
        jobs = app.query_one("#jobs")
        await wait_for(pilot, lambda: jobs.jobs)
        waiting = [
            line
            for line, job in zip(text_of(app, "#jobs").split("\n"), jobs.jobs, strict=False)
            if job.phase is Phase.WAITING
        ]
        assert len({line.index("│") for line in waiting}) == 1
        before = waiting[0].index("│")
        await press(pilot, "right")
        await settled(pilot)
        moved = next(line for line in text_of(app, "#jobs").split("\n") if "│" in line)
        assert moved.index("│") < before
        await press(pilot, "0", "right_square_bracket")
        await settled(pilot)
        assert jobs.axis.span_ms == 16 * 3_600_000 and jobs.axis.shift_ms == 0


async def test_hold_release_and_cancel_from_watch(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs"))
        jobs = app.query_one("#jobs")
        await wait_for(pilot, lambda: jobs.jobs)

        def named(name):
            return next(job for job in jobs.jobs if job.name == name)

        jobs.move(jobs.jobs.index(named("eel-season")))
        await press(pilot, "h")
        await wait_for(pilot, lambda: named("eel-season").phase is Phase.HELD)
        assert jobs.current().name == "eel-season"
        await press(pilot, "r")
        await wait_for(pilot, lambda: named("eel-season").phase is Phase.WAITING)
        await press(pilot, "x")
        await wait_for(pilot, lambda: "loses its turn" in drawn(app.screen.query_one("#question")))
        await press(pilot, "y")
        await wait_for(pilot, lambda: named("eel-season").phase is Phase.CANCELLED)
        jobs.move(0)
        number = jobs.current().job
        await press(pilot, "x")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        assert "would be lost" in drawn(app.screen.query_one("#question"))
        await press(pilot, "escape", "x")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "right", "enter")
        await wait_for(pilot, lambda: app.client.site.session.engine.state.jobs[number].stopping == "cancelled")


async def test_scopes_widen_from_mine_to_everyone(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs"))
        jobs = app.query_one("#jobs")
        await wait_for(pilot, lambda: jobs.jobs)
        counts = [len(jobs.jobs)]
        for _ in range(2):
            await press(pilot, "m")
            await settled(pilot)
            counts.append(len(jobs.jobs))
        assert counts == sorted(counts) and counts[0] < counts[1] < counts[2]


async def test_runs_that_ended_are_marked_until_somebody_has_looked(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "5")
        await wait_for(pilot, lambda: app.query("#runs") and app.query_one("#runs").runs)
        runs, rehearsed = app.query_one("#runs"), app.client.rehearsed
        assert "▪" not in text_of(app, "#runs")  # what ended before the first visit
        await press(pilot, "end")
        rehearsed.advance(rehearsed.now_ms + 3 * 3_600_000)
        await wait_for(pilot, lambda: "▪" in text_of(app, "#runs") or runs.move(len(runs.runs)) or runs.scroll_to(y=0))
        at = next(at for at, view in enumerate(runs.runs) if runs.looked_at.is_new(view))
        job = runs.runs[at].job
        runs.move(at)
        await wait_for(pilot, lambda: not any(view.job == job and runs.looked_at.is_new(view) for view in runs.runs))
        await wait_for(pilot, lambda: str(job) in next(app.shelf.kept.folder.glob("looked-at-*")).read_text())


async def test_review_tells_a_failure_with_its_output(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "5")
        await wait_for(pilot, lambda: app.query("#runs"))
        runs = app.query_one("#runs")
        await wait_for(pilot, lambda: any(run.name == "levels-check" for run in runs.runs))
        runs.move(next(number for number, run in enumerate(runs.runs) if run.name == "levels-check"))
        await wait_for(pilot, lambda: "Failed after 3m with exit 2" in text_of(app, "#verdict"))
        verdict = text_of(app, "#verdict")
        assert "3m of 30m" in verdict and "RECORD" in verdict and "core-hours to tide-surge" in verdict
        await wait_for(pilot, lambda: "exit 2" in text_of(app, "#output"))
        await press(pilot, "D")
        await wait_for(pilot, lambda: app.place == "draft")
        await wait_for(pilot, lambda: 'name     = "levels-check"' in app.query_one("#editor").text)


async def test_the_ledger_is_true_to_the_second(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "6")
        await wait_for(pilot, lambda: app.query("#ledger-rows"))
        rows = app.query_one("#ledger-rows")
        await wait_for(pilot, lambda: len(rows.lines) == 6 and not any(line.adding_up for line in rows.lines))
        line = next(line for line in rows.lines if line.account == "tide-surge")
        session = app.client.site.session
        running = [job for job in session.engine.state.running() if job.request.account == "tide-surge"]
        assert line.running_core_ms == sum(charge_so_far(session.site, job, session.now()) for job in running)
        assert line.left_core_ms == 560_000 * 3_600_000 - line.charged_core_ms - line.running_core_ms
        charged = sum(row.charge_core_ms for row in rows_of(session.journal, sums) if row.account == "tide-surge")
        assert charged == line.charged_core_ms
        await press(pilot, "down", "down")
        await wait_for(pilot, lambda: "It was charged" in app.query_one(NoteBar).text)
        await wait_for(pilot, lambda: "is its target and" in app.query_one(NoteBar).text)
        assert "· tide-surge" in text_of(app, "#ledger-rows")


async def test_ledger_moves_its_period_opens_accounts_and_goes_to_the_jobs_behind_a_figure(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "6")
        await wait_for(pilot, lambda: app.query("#ranking") and app.query_one("#ranking").rows)
        place = app.query_one("LedgerPlace")
        await wait_for(pilot, lambda: place.seen.found.total.sums.jobs > 100)
        charged, span = place.seen.found.total.sums.charged_core_ms, place.seen.found.period
        await wait_for(pilot, lambda: "ends" in text_of(app, "#ledger-rows"))
        await press(pilot, "left")
        await wait_for(pilot, lambda: place.seen.found.period.end_ms == span.begin_ms)
        await press(pilot, "0", "down", "down", "enter")
        await wait_for(pilot, lambda: place.seen.found.where.get("account") == ("tide-surge",))
        await wait_for(pilot, lambda: "imre" in text_of(app, "#ledger-rows") and place.seen.over.split == "user")
        assert place.seen.found.total.sums.charged_core_ms < charged
        columns = app.query_one("#use-columns")
        assert all(name in text_of(app, "#use-columns") for name in place.seen.over.keys[: len(TONES)])
        wide = columns.size.width
        await press(pilot, "slash")
        await wait_for(pilot, lambda: app.query_one("#asked-period").has_focus and app.query_one("#asked-period").size)
        assert columns.size.width == wide
        await press(pilot, *"2027-02", "enter")
        await wait_for(pilot, lambda: place.seen.found.period.name == "February 2027")
        await wait_for(pilot, lambda: "waited    nobody" in text_of(app, "#went"))
        place.query_one(WentLines).show(place.seen.found, waits=False)  # as after every end of a job
        assert "waited    nobody" in text_of(app, "#went")
        await press(pilot, "right_square_bracket")
        await wait_for(pilot, lambda: place.seen.found.period.name == "2027 Q1")
        await press(pilot, "v", "g")
        await wait_for(pilot, lambda: place.seen.over.split == "queue" and place.seen.found.by == ("user",))
        await press(pilot, "tab", "enter")
        await wait_for(pilot, lambda: app.place == "review" and app.query_one("#runs").runs)
        assert {view.user for view in app.query_one("#runs").runs} == {place.seen.found.rows[0].key[0]}
        await press(pilot, "6", "b")
        await wait_for(pilot, lambda: "core-hours left of tide-surge" in text_of(app, "#budget-columns"))
        assert "8 times in 10" in text_of(app, "#budget-columns")
        await press(pilot, "b", "f")
        await wait_for(pilot, lambda: app.place == "review" and app.query_one("#runs").runs)
        assert not {"done", "cancelled"} & {str(view.phase) for view in app.query_one("#runs").runs}
        await press(pilot, "6", "d")  # the keys are still with what was ranked
        await wait_for(pilot, lambda: "of" in text_of(app, "#waste-head") and "less" in text_of(app, "#waste"))
        assert "surge-coast" in text_of(app, "#waste") and not app.query_one("#ranking").display
        await wait_for(pilot, lambda: "core-hours; of what they held" in app.query_one(NoteBar).text)
        name = place.query_one("#waste").current().name
        await press(pilot, "enter")
        await wait_for(
            pilot, lambda: app.place == "review" and {one.name for one in app.query_one("#runs").runs} == {name}
        )
        assert {words.split(",")[0] for words, _ in place.figures()} >= {
            "waits by size",
            "what was requested and not used",
        }
        await press(pilot, "6", "d", "slash", *"soon", "enter")
        await wait_for(pilot, lambda: "no period" in app.query_one(NoteBar).text)
        await press(pilot, "escape")
        await wait_for(pilot, lambda: place.seen.found.where == {})


@given(st.lists(st.integers(1, 40), max_size=6), st.integers(0, 80))
def test_names_are_cut_only_where_they_must_be_and_the_longest_first(lengths, room):
    found = fitted(lengths, room)
    assert sum(found) <= max(room, sum(min(2, one) for one in lengths))
    cut = sum(one < whole for one, whole in zip(found, lengths, strict=True))
    assert all(one in (whole, max(found)) for one, whole in zip(found, lengths, strict=True))
    assert not cut or max(found) == 2 or sum(found) + cut > room


async def test_ledger_is_whole_on_a_small_terminal(tmp_path):
    async with demo(tmp_path, size=(100, 30)) as (app, pilot):
        await press(pilot, "6")
        await wait_for(pilot, lambda: app.query("#ranking") and app.query_one("#ranking").rows)
        await press(pilot, "down", "down")
        await wait_for(pilot, lambda: "are left" in app.query_one(NoteBar).text)
        await press(pilot, "slash", *"2027-02-28", "enter")
        await wait_for(pilot, lambda: text_of(app, "#went").count("% before") == 3)
        assert app.query_one("#use-columns").size.height >= 10 and "not done" in text_of(app, "#ranking-head")
        assert app.query_one("#accounts").size.height >= 8 and app.query_one("#ranking").size.height >= 5
        await wait_for(pilot, lambda: "of its 560,000 are left" in drawn(app.query_one(NoteBar)))


async def test_an_account_is_changed_in_ledger_by_words(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "6")
        await wait_for(pilot, lambda: app.query("#ledger-rows") and len(app.query_one("#ledger-rows").lines) == 6)
        await press(pilot, "e")
        await wait_for(pilot, lambda: "Go to an account first" in app.query_one(NoteBar).text)
        await press(pilot, "down", "down", "e", *"add noor", "enter")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "y")
        await wait_for(pilot, lambda: "noor may charge tide-surge" in app.query_one(NoteBar).text)
        await press(pilot, "e", *"move 200 to silt for the survey", "enter")
        await wait_for(
            pilot, lambda: "from tide-surge to silt: for the survey?" in drawn(app.screen.query_one("#question"))
        )
        await press(pilot, "y")
        await wait_for(pilot, lambda: "200.0 core-hours given to silt, from tide-surge" in app.query_one(NoteBar).text)
        await press(pilot, "e", *"grant 5", "enter")
        await wait_for(pilot, lambda: "say why" in app.query_one(NoteBar).text)
        await press(pilot, "e", *"add noor", "enter")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "y")
        await wait_for(pilot, lambda: "noor may charge tide-surge already" in app.query_one(NoteBar).text)
        lines = {line.account: line for line in app.client.board().accounts}
        assert [grant.core_ms for grant in lines["silt"].grants] == [200 * 3_600_000]
        assert "noor" in lines["tide-surge"].members


async def test_ledger_prints_what_is_seen_and_rehearses_it_under_other_policies(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "6")
        await wait_for(pilot, lambda: app.query("#ranking") and app.query_one("#ranking").rows)
        await press(pilot, "ctrl+s")
        await wait_for(pilot, lambda: "was written: " in app.query_one(NoteBar).text)
        (path,) = app.folder.glob("report-*.pdf")
        assert path.read_bytes().startswith(b"%PDF-")
        await press(pilot, "p")
        await wait_for(pilot, lambda: "first-come" in text_of(app.screen, "#study-lines"))
        await press(pilot, "x")
        await wait_for(pilot, lambda: app.screen.query_one("#study-head").view.over)
        assert "as it was" in text_of(app.screen, "#study-lines")
        await press(pilot, "escape")
        await wait_for(pilot, lambda: app.query("#ranking"))


async def test_the_clock_is_turned_by_keys(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "plus")
        await wait_for(pilot, lambda: app.board.clock.speed == 10 and not app.board.clock.paused)
        await press(pilot, "space")
        await wait_for(pilot, lambda: app.board.clock.paused)
        before = app.client.rehearsed.now_ms
        await press(pilot, "full_stop")
        await wait_for(pilot, lambda: app.client.rehearsed.now_ms > before)


async def test_a_small_terminal_is_told_what_is_needed(tmp_path):
    async with demo(tmp_path, size=(80, 24)) as (app, pilot):
        await wait_for(pilot, lambda: "80×24 of 100×30" in drawn(app.query_one(NoteBar)))
        await pilot.resize_terminal(120, 40)
        await press(pilot, "4")
        await wait_for(pilot, lambda: "of 100×30" not in drawn(app.query_one(NoteBar)))
        await wait_for(pilot, lambda: "surge-north" in text_of(app, "#jobs"))


@pytest.mark.parametrize("size", [(100, 30), (130, 40), (220, 60)])
async def test_every_place_draws_at_every_size(tmp_path, size):
    async with demo(tmp_path, size=size, ranges=True) as (app, pilot):
        for number in range(1, 7):
            await press(pilot, f"alt+{number}")
            await settled(pilot)
        await press(pilot, "ctrl+t", "question_mark")
        await settled(pilot)
        assert app.theme == "chalk"


async def test_help_lists_the_keys_of_the_place(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs"))
        await press(pilot, "question_mark")
        await wait_for(pilot, lambda: app.screen.query("HelpLines"))
        text = drawn(app.screen.query_one("HelpLines"))
        assert "WATCH" in text and "EVERYWHERE" in text and "less time in sight" in text
        await press(pilot, "x")
        await wait_for(pilot, lambda: not app.screen.query("HelpLines"))


def contrast(one, other):
    def light(colour):
        parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
        parts = [part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
        return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]

    pair = sorted((light(one), light(other)), reverse=True)
    return (pair[0] + 0.05) / (pair[1] + 0.05)


@pytest.mark.parametrize("palette", [DUSK, CHALK], ids=["dusk", "chalk"])
def test_text_that_matters_can_be_read(palette):
    for role in {"ink", "dim", *PHASE_ROLES.values()}:
        assert contrast(getattr(palette, role), palette.ground) >= (
            4.5 if role != "rust" or not palette.dark else 4.2
        ), role


def test_saving_is_whole_or_not_at_all(tmp_path):
    target = tmp_path / "deep" / "a.sh"
    assert save(target, "one\r\ntwo\n") == ""
    assert target.read_bytes() == b"one\r\ntwo\n"
    target.chmod(0o640)
    assert save(target, "three") == ""
    assert target.stat().st_mode & 0o777 == 0o640
    assert "cannot be saved" in save(Path("/proc/nowhere/a.sh"), "x")
    assert [path.name for path in target.parent.iterdir()] == ["a.sh"]


def test_a_damaged_shelf_is_an_empty_one(tmp_path):
    for damaged in (None, "{", json.dumps({"odd": 1}), b"\xff\xfe"):
        if damaged is not None:
            (tmp_path / "draft-x.json").write_bytes(damaged if isinstance(damaged, bytes) else damaged.encode())
        assert DraftShelf(tmp_path, "x").take() is None
    shelf = DraftShelf(tmp_path, "x")
    for text in "abc":
        shelf.keep(Draft(text))
    assert shelf.kept.aside.finish() and DraftShelf(tmp_path, "x").take() == shelf.take() == Draft("c")
    nowhere = DraftShelf(Path("/proc/nowhere"), "x")
    nowhere.keep(Draft("a"))
    assert nowhere.kept.aside.finish() and "cannot be kept" in nowhere.keep(Draft("b"))


def test_every_template_is_a_right_request():
    from lazy_quarry.app.draft.templates import TEMPLATES, fill
    from lazy_quarry.core.header.submission import Submission
    from lazy_quarry.demo.session import Rehearsed

    client = Rehearsed(7).client()
    board = client.board()
    for template in TEMPLATES:
        text = fill(template, board)
        assert find_block(text)[1] == []
        assert client.check(Submission(text)).diagnostics == ()
