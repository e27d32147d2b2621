"""Draft: dials, beginnings, overrides, trials; and Survey: room, hours, traits, software. By the pilot, on the demo."""

import json

from lazy_quarry.app.draft import checks as draft_checks
from lazy_quarry.app.shared.frame import NoteBar
from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.plain_text import MOVING
from tests.app.support import demo, drawn, press, settled, text_of, to_draft, wait_for
from tests.conftest import script

PLAIN = script('walltime = "30m"\nmemory = "1 GiB/core"', "date", "#!/bin/bash")


async def drafted(app, pilot, text=PLAIN):
    """A draft with a text in it, reported on."""
    await to_draft(app, pilot)
    place = app.query_one("#place-draft")
    place.put_text(text, "", True)
    await wait_for(pilot, lambda: place.report and place.report.shape.cores and place.editor.text == text)
    return place


def header(place):
    return find_block(place.editor.text)[0].values


async def dial(app, pilot, name):
    """Focus the dials, on one of them."""
    rows = app.query_one("#dials")
    rows.focus()
    await wait_for(pilot, lambda: rows.has_focus)
    rows.move(next(at for at, one in enumerate(rows.dials, 1) if one.name == name))
    return rows


async def test_a_dial_that_is_turned_is_written_and_can_be_undone(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place = await drafted(app, pilot)
        await press(pilot, "f6")
        await wait_for(pilot, lambda: app.focused.id == "dials")
        await dial(app, pilot, "threads")
        await press(pilot, "right", "right")
        assert header(place)["threads"] == 3
        await wait_for(pilot, lambda: place.report.shape.cores == 3)
        await press(pilot, "ctrl+z")
        assert header(place)["threads"] == 2
        await press(pilot, "ctrl+z")
        assert place.editor.text == PLAIN
        await press(pilot, "ctrl+y", "backspace")
        assert "threads" not in header(place)


async def test_a_dial_follows_what_is_typed_in_the_header(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place = await drafted(app, pilot)
        place.editor.replace('"2h"', (2, 13), (2, 18))
        await pilot.pause()
        assert next(one for one in app.query_one("#dials").dials if one.name == "walltime").words == "2h"


async def test_typing_into_a_dial_sets_it_or_says_what_to_write(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place = await drafted(app, pilot)
        rows = await dial(app, pilot, "walltime")
        await press(pilot, "9", "0", "enter")
        await wait_for(pilot, lambda: "no unit" in app.query_one(NoteBar).text)
        assert header(place)["walltime"] == "30m" and rows.typing == "90"
        await press(pilot, "m", "enter")
        assert header(place)["walltime"] == "1h 30m"
        await press(pilot, "4", "escape")
        assert rows.typing is None and header(place)["walltime"] == "1h 30m"


async def test_dials_work_by_mouse(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place = await drafted(app, pilot)
        rows = await dial(app, pilot, "threads")
        await pilot.click(rows, offset=(35, rows.cursor))
        await wait_for(pilot, lambda: header(place).get("threads") == 2)


async def test_a_broken_header_stops_the_dials_and_says_where(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place = await drafted(app, pilot)
        place.editor.replace("oops", (2, 11), (2, 16))
        await pilot.pause()
        assert "line 3" in text_of(app, "#dials")
        await dial(app, pilot, "threads")
        await press(pilot, "right")
        assert "threads" not in place.editor.text


async def test_a_rung_of_the_ladder_is_taken_by_enter(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place = await drafted(app, pilot)
        report = app.query_one("#report")
        report.focus()
        await wait_for(pilot, lambda: report.has_focus)
        row = next(at for at, line in enumerate(report.lines) if line.change == (("walltime", "4h"),))
        report.move(row)
        await press(pilot, "enter")
        assert header(place)["walltime"] == "4h"


async def test_a_large_placement_opens_and_folds(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        text = script(
            'nodes = 16\nranks = 16\nmemory = "1 GiB/core"\nwalltime = "1h"', 'cat "$LQ_NODES"', "#!/bin/bash"
        )
        await drafted(app, pilot, text)
        report = app.query_one("#report")
        assert sum("rank " in "".join(piece[0] for piece in line.pieces) for line in report.lines) == 8
        report.focus()
        report.move(next(at for at, line in enumerate(report.lines) if line.opens))
        await press(pilot, "enter")
        assert sum("  rank " in "".join(piece[0] for piece in line.pieces) for line in report.lines) == 16


async def test_overrides_are_shown_in_the_header_and_go_with_the_job(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place = await drafted(app, pilot)
        await press(pilot, "f7")
        await wait_for(pilot, lambda: app.focused.id == "overrides-edit")
        await press(pilot, *"threads=4", "enter", *"name=other")
        await wait_for(pilot, lambda: place.report.shape.cores == 4 and place.report.name == "other")
        assert "# threads = 4" in drawn(app.query_one("#preview")) and "threads" not in header(place)
        assert "this time only" in next(line for line in text_of(app, "#dials").splitlines() if "threads" in line)
        await press(pilot, "ctrl+g")
        await wait_for(pilot, lambda: app.looked_at is not None)
        detail = app.client.detail(app.looked_at)
        assert (detail.script, detail.overrides) == (PLAIN, ("threads=4", "name=other"))
        await wait_for(pilot, lambda: not app.query_one("Overrides").values and place.editor.has_focus)
        await wait_for(pilot, lambda: "this time only" not in text_of(app, "#dials"))
        await press(pilot, "f2")
        rows = app.query_one("#beginnings")
        await wait_for(pilot, lambda: rows.has_focus)
        await wait_for(pilot, lambda: any(entry.begin and entry.begin.job == app.looked_at for entry in rows.entries))
        place.document.edited = False
        rows.move(next(at for at, entry in enumerate(rows.entries) if entry.begin and entry.begin.job == app.looked_at))
        await press(pilot, "enter")
        await wait_for(pilot, lambda: "from" in drawn(app.query_one("#title")))
        assert place.editor.text == PLAIN
        assert app.query_one("Overrides").values == ("threads=4", "name=other")


async def test_an_override_that_is_none_says_so(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await drafted(app, pilot)
        await press(pilot, "f7")
        await wait_for(pilot, lambda: app.focused.id == "overrides-edit")
        await press(pilot, *"nonsense")
        await wait_for(pilot, lambda: "not KEY=VALUE" in drawn(app.query_one("#preview")))


async def test_a_trial_brings_its_verdict_back_with_advice_that_can_be_taken(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        text = script(
            'walltime = "6h"\nmemory = "8 GiB/core"\n\n[rehearsal]\nruntime = "4m"\nmemory = "1 GiB"',
            "date",
            "#!/bin/bash",
        )
        place = await drafted(app, pilot, text)
        await press(pilot, "f5")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        assert "core-hours of" in drawn(app.screen.query_one("#question"))
        await press(pilot, "y")
        await wait_for(pilot, lambda: place.trial is not None)
        view = app.client.job(place.trial.jobs[0])
        assert (view.tier, view.walltime_s) == ("trial", 1800)
        for _ in range(200):
            if app.client.job(place.trial.jobs[0]).phase.final:
                break
            app.client.rehearsed.advance(app.client.rehearsed.now_ms + 120_000)
        app.read_board()
        await wait_for(pilot, lambda: "TRIED ONE" in text_of(app, "#report"))
        report = app.query_one("#report")
        report.focus()
        row = next(at for at, line in enumerate(report.lines) if line.change and line.change[0][0] == "memory")
        report.move(row)
        await press(pilot, "enter")
        assert header(place)["memory"] == "2.5 GiB/core"


async def test_several_sizes_tell_what_the_whole_needs(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        text = script(
            'walltime = "1h"\nmemory = "1 GiB/core"\n\n[rehearsal]\nruntime = "4m"',
            'solve "${cells:-40}"',
            "#!/bin/bash",
        )
        place = await drafted(app, pilot, text)
        await press(pilot, "f5")
        await wait_for(pilot, lambda: app.focused.id == "path")
        await press(pilot, *"cells=2,4,8", "enter")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "y")
        await wait_for(pilot, lambda: place.trial is not None)
        assert len(place.trial.jobs) == 3 and place.trial.asked.size == 40
        for _ in range(200):
            if all(app.client.job(job).phase.final for job in place.trial.jobs):
                break
            app.client.rehearsed.advance(app.client.rehearsed.now_ms + 120_000)
        assert [app.client.job(job).parameters for job in place.trial.jobs] == [
            (("cells", size),) for size in ("2", "4", "8")
        ]
        app.read_board()
        await wait_for(pilot, lambda: "TRIED SIZES" in text_of(app, "#report"))
        assert "cells=40 should take about" in " ".join(text_of(app, "#report").split())
        report = app.query_one("#report")
        report.focus()
        report.move(next(at for at, line in enumerate(report.lines) if line.change and line.change[0][0] == "walltime"))
        await press(pilot, "enter")
        assert header(place)["walltime"] != "1h"
        await press(pilot, "f5")
        await wait_for(pilot, lambda: app.focused.id == "path")
        await press(pilot, *"cells", "enter")
        await wait_for(pilot, lambda: "name=value" in app.query_one(NoteBar).text)


async def test_one_task_of_an_array_is_tried_by_its_values(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        text = script(
            'walltime = "1h"\nmemory = "1 GiB/core"\n\n[array.sweep]\nlevel = [1, 2, 3]', 'echo "$level"', "#!/bin/bash"
        )
        place = await drafted(app, pilot, text)
        assert place.report.shape.tasks == 3
        await press(pilot, "f5")
        await wait_for(pilot, lambda: app.focused.id == "path")
        await press(pilot, *"level=9", "enter")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "y")
        await wait_for(pilot, lambda: place.trial is not None)
        job = app.client.site.session.engine.state.jobs[place.trial.jobs[0]]
        assert job.request.parameters == (("level", "9"),)


async def begun(app, pilot, wanted):
    await to_draft(app, pilot)
    rows = app.query_one("#beginnings")
    await wait_for(
        pilot, lambda: rows.has_focus and app.board and any(entry.begin and entry.begin.job for entry in rows.entries)
    )
    rows.move(next(at for at, entry in enumerate(rows.entries) if entry.begin and wanted(entry.begin)))
    await press(pilot, "enter")


async def test_a_script_is_made_of_one_command_line(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await begun(app, pilot, lambda begin: begin.ask == "line")
        await wait_for(pilot, lambda: app.focused.id == "path")
        await press(pilot, *"date -u", "enter")
        place = app.query_one("#place-draft")
        await wait_for(pilot, lambda: "date -u" in place.editor.text)
        assert header(place)["name"] == "date"
        await wait_for(pilot, lambda: place.report and place.report.shape.cores == 1)
        assert place.report.diagnostics == ()


async def test_a_script_is_made_of_a_file_of_commands_which_stays_as_it_is(tmp_path):
    commands = tmp_path / "my commands.txt"
    commands.write_text("# first\ndate\n\nsleep 1\nhostname\n")
    async with demo(tmp_path) as (app, pilot):
        await begun(app, pilot, lambda begin: begin.ask == "commands")
        await wait_for(pilot, lambda: app.focused.id == "path")
        line = app.query_one("#path")
        line.value = str(commands)
        await press(pilot, "enter")
        place = app.query_one("#place-draft")
        await wait_for(pilot, lambda: "my commands.txt'" in place.editor.text)
        assert header(place)["threads"] == 3
        await wait_for(pilot, lambda: place.report and place.report.shape.cores == 3)
        assert [one.code for one in place.report.diagnostics] == []
        assert commands.read_text().startswith("# first")


async def test_a_file_without_commands_says_so(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        (tmp_path / "empty").write_text("# nothing\n")
        await to_draft(app, pilot)
        place = app.query_one("#place-draft")
        place.opening.take_commands(tmp_path / "empty")
        await wait_for(pilot, lambda: "no commands" in app.query_one(NoteBar).text)
        place.opening.take_commands(tmp_path / "gone")
        await wait_for(pilot, lambda: "No such file" in app.query_one(NoteBar).text)


async def test_commands_that_worked_in_a_shell_become_a_script(tmp_path):
    (tmp_path / "oxbow").mkdir()
    (tmp_path / "oxbow" / "shell-commands.json").write_text(json.dumps(["cd work", "date -u"]))
    async with demo(tmp_path) as (app, pilot):
        await begun(app, pilot, lambda begin: begin.commands)
        place = app.query_one("#place-draft")
        await wait_for(pilot, lambda: place.editor.text.endswith("cd work\ndate -u\n"))


async def test_a_shell_on_a_rehearsal_is_explained(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await drafted(app, pilot)
        await press(pilot, "f4")
        await wait_for(pilot, lambda: "rehearsal has no machine" in app.query_one(NoteBar).text)


# -- Survey ---------------------------------------------------------------------------------------


async def test_every_room_of_every_queue_starts_at_once_when_it_is_submitted(tmp_path):
    async with demo(tmp_path) as (app, _):
        tried = 0
        for queue in ("tidal", "deep", "lantern"):
            for room in app.client.room(queue):
                if not room.cores:
                    continue
                from lazy_quarry.app.draft.templates import from_room
                from lazy_quarry.core.header.submission import Submission
                from lazy_quarry.probe.script import looked_up

                submission = looked_up(Submission(from_room(room, app.board), "", str(tmp_path)))
                report = app.client.check(submission)
                assert not report.refused, report.diagnostics
                assert (report.place.start_ms, report.shape.cores) == (report.now_ms, room.cores), room
                tried += 1
        assert tried > 10


async def test_enter_on_a_room_drafts_it_and_it_starts(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await wait_for(pilot, lambda: app.focused is not None and app.focused.id == "nodes")
        await press(pilot, "b")
        grid = app.query_one("#room")
        await wait_for(pilot, lambda: grid.has_focus and grid.under_cursor() is not None)
        room = grid.under_cursor()
        await press(pilot, "enter")
        await wait_for(pilot, lambda: app.query("#place-draft") and app.query_one("#editor").text)
        place = app.query_one("#place-draft")
        await wait_for(pilot, lambda: place.report and place.report.shape.cores == room.cores)
        await press(pilot, "ctrl+g")
        await wait_for(pilot, lambda: app.looked_at is not None)
        assert app.client.job(app.looked_at).phase == "running"


async def test_enter_on_a_node_opens_its_hours_and_esc_goes_back(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await wait_for(pilot, lambda: app.focused is not None and app.focused.id == "nodes")
        rows = app.query_one("#nodes")
        nodes = {node.name for node in app.board.nodes if any(one.name == "eel-tracks" for one in node.occupants)}
        rows.move(next(at for at, row in enumerate(rows.rows) if row.nodes and row.nodes[0].name in nodes))
        await press(pilot, "enter")
        await wait_for(pilot, lambda: app.query_one("#hours").display)
        hours = text_of(app, "#hours")
        assert "THE HOURS OF C" in hours and "eel-tracks of tove" in hours and "firmware" in hours
        await press(pilot, "escape")
        await wait_for(pilot, lambda: rows.has_focus and not app.query_one("#hours").display)


async def test_marked_traits_narrow_the_others_and_dim_nodes(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await wait_for(pilot, lambda: app.focused is not None and app.focused.id == "nodes")
        await press(pilot, "tab", "tab")
        traits = app.query_one("#traits")
        await wait_for(pilot, lambda: traits.has_focus)
        traits.move(1 + traits.traits.index("gpu"))
        await press(pilot, "t")
        text = text_of(app, "#traits")
        assert "on no node together with these" in text and "4 nodes" in text
        await wait_for(pilot, lambda: "has no gpu" in text_of(app, "#nodes"))


async def test_software_is_searched_and_added_to_the_draft(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place = await drafted(app, pilot)
        await press(pilot, "alt+1")
        await wait_for(pilot, lambda: app.focused.id == "nodes")
        await press(pilot, "slash")
        await wait_for(pilot, lambda: app.focused.id == "search")
        await press(pilot, *"eels", "enter")
        await wait_for(pilot, lambda: header(place).get("modules") == ["tracks/1.3"])


async def test_alike_nodes_fold_and_unfold(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await wait_for(pilot, lambda: app.focused is not None and app.focused.id == "nodes")
        rows = app.query_one("#nodes")
        folded = rows.row_count()
        await press(pilot, "z")
        assert rows.row_count() == 32 + 4 > folded


async def test_survey_and_draft_fit_a_small_terminal(tmp_path):
    async with demo(tmp_path, size=(100, 30)) as (app, pilot):
        await wait_for(pilot, lambda: "TIDAL" in text_of(app, "#nodes") and "ROOM NOW" in text_of(app, "#room"))
        await drafted(app, pilot)
        await settled(pilot)
        assert "REQUEST" in text_of(app, "#dials") and "PLACEMENT" in text_of(app, "#report")


async def test_an_array_is_submitted_folds_in_watch_and_opens(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        text = script(
            'name = "swept"\nwalltime = "10m"\nmemory = "1 GiB/core"\n\n[array]\nat-once = 2\n\n[array.sweep]\nlevel = [1, 2, 3]',
            'echo "$level"', "#!/bin/bash",
        )  # fmt: skip
        await drafted(app, pilot, text)
        await press(pilot, "ctrl+g")
        await wait_for(pilot, lambda: app.looked_at is not None)
        number = app.looked_at
        await press(pilot, "alt+4")
        await wait_for(pilot, lambda: app.query("#jobs") and "0 of 3 done, 2 running" in text_of(app, "#jobs"))
        rows = app.query_one("#jobs")
        await wait_for(pilot, lambda: rows.current() and rows.current().job == number)
        await press(pilot, "z")
        await wait_for(pilot, lambda: all(one in text_of(app, "#jobs") for one in ("·1  level=1", "·2  level=2")))
        app.client.rehearsed.advance(app.client.rehearsed.now_ms + 3_600_000)
        app.read_board()
        await wait_for(
            pilot, lambda: "Done in" in app.query_one(NoteBar).text or "3 of 3 done" in text_of(app, "#jobs")
        )
        assert app.client.job(number).phase == "done"
        await press(pilot, "z")
        await wait_for(pilot, lambda: "·1  level=1" not in text_of(app, "#jobs"))


async def test_escape_and_a_number_go_to_a_place_from_the_script(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place = await drafted(app, pilot)
        text = place.editor.text
        place.editor.focus()
        await press(pilot, "escape", "4")
        await wait_for(pilot, lambda: app.place == "watch")
        assert place.editor.text == text
        await app.action_go("draft")
        place.editor.focus()
        await press(pilot, "escape", "escape")
        assert place.editor.has_focus


async def test_a_draft_is_checked_again_only_when_it_or_the_site_has_changed(tmp_path, monkeypatch):
    async with demo(tmp_path) as (app, pilot):
        place = await drafted(app, pilot)
        await settled(pilot)
        asked = []
        monkeypatch.setattr(place.checks, "check", lambda: asked.append(1) or type(place.checks).check(place.checks))
        version = app.board.version
        place.checks.follow(version + 1)
        place.checks.follow(version + 1)
        assert len(asked) == 1
        place.checks.revision += 1
        place.checks.follow(version + 1)
        place.checks.follow(version + 2)
        assert len(asked) == 3
        monkeypatch.setattr(draft_checks, "AGAIN_S", 0.0)
        place.checks.follow(version + 2)
        assert len(asked) == 4


async def test_nothing_in_a_script_reaches_the_terminal_as_a_control(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        hostile = "\x1b]0;gone\x07 \x9b2J \u202eback\x08"
        text = PLAIN.replace("# ///\n", f'# name = "{hostile[:4]}"\n# {hostile} = 1\n# ///\n', 1) + hostile
        place = await drafted(app, pilot)
        place.put_text(text, "", True)
        await wait_for(pilot, lambda: any("not TOML" in one.message for one in place.report.diagnostics))
        await settled(pilot)
        sent = "".join(strip.text for strip in app.screen._compositor.render_strips())
        assert "gone" in sent and not MOVING.search(sent)


async def test_actions_that_do_not_apply_in_draft_say_when_they_do(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "2")
        await wait_for(pilot, lambda: app.place == "draft")
        await press(pilot, "ctrl+p")
        await wait_for(pilot, lambda: app.screen.query("#found"))
        shown = {one.key: one for one in app.screen.query_one("#found").entries}
        assert shown["ctrl+g"].run is None and shown["ctrl+g"].reason == "with a script in the editor"
        assert shown["f9"].run is None and shown["ctrl+o"].run is not None
        assert shown["f3"].reason == "with a script that has an [array]"
