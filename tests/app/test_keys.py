"""One language of keys: each has one meaning, none is silent, all are found by what people say, nothing is costly by accident."""

import csv
import importlib
import json
import pkgutil
from pathlib import Path

import pytest

import lazy_quarry.app
from lazy_quarry.app.app import QuarryApp
from lazy_quarry.app.found_by_words import found_by_words
from lazy_quarry.app.key_table import acts_by_place
from lazy_quarry.app.shared.acts import ACTS, Bound, key_of
from lazy_quarry.app.shared.finder import FoundRows
from lazy_quarry.app.shared.frame import PLACES, NoteBar
from tests.app.support import demo, drawn, press, settled, text_of, to_draft, wait_for
from tools.keys_page import PAGE, page


def every_binding():
    """All that is bound in places, lists and dialogs, with the class that has it."""
    for found in pkgutil.walk_packages(lazy_quarry.app.__path__, f"{lazy_quarry.app.__name__}."):
        for one in vars(importlib.import_module(found.name)).values():
            if isinstance(one, type) and one.__module__ == found.name and one is not QuarryApp:
                for binding in vars(one).get("BINDINGS", ()):
                    yield one, binding


def test_a_key_has_one_meaning_and_an_act_one_key():
    keys = [key for act in ACTS.values() for key in act.key.split(",")]
    assert len(keys) == len(set(keys))
    letters = {key for key in keys if len(key) == 1 or key.startswith(("ctrl+", "f")) or key in ("delete", "slash")}
    for owner, binding in every_binding():
        if isinstance(binding, Bound):
            assert binding.key == ACTS[binding.act].key and binding.tooltip, (owner, binding)
        else:  # arrows, and the keys of a dialog's own line
            assert not letters & set(binding.key.split(",")) or binding.key in ("escape,ctrl+e", "escape,ctrl+p"), (
                owner,
                binding,
            )
    for place, acts in acts_by_place().items():
        assert all(len(one.tooltip) > 8 and one.tooltip[0].islower() for one in acts.values()), place


def test_the_tables_of_the_documentation_are_those_of_the_bindings():
    assert page(PAGE.read_text()) == PAGE.read_text(), "run: .venv/bin/python tools/keys_page.py"
    changing = {name for name, act in ACTS.items() if act.changes}
    assert {"hold", "release", "cancel", "again", "again_failed", "change", "remove", "submit", "save"} <= changing


SAID = {
    "stop": "x", "kill": "x", "abort": "x", "rerun": "u", "resubmit": "u", "repeat": "u", "retry failed": "U", "hold": "h",
    "freeze": "h", "unhold": "r", "resume": "r", "walltime": "e", "modify": "e", "memory": "e", "priority": "⇧↑", "why": "w",
    "pending": "w", "log": "o", "stdout": "o", "tail": "o", "script": "D", "array": "f3", "filter": "/", "grep": "/",
    "select": "t", "sort": "s", "group": "g", "columns": "c", "nodes": "1", "everyone": "m", "zoom": "[", "csv": "ctrl+r",
    "json": "ctrl+r", "export": "ctrl+e", "svg": "ctrl+e", "notify": "B", "quit": "ctrl+q", "help": "?", "theme": "ctrl+t",
    "garbled": "ctrl+l", "send": "ctrl+g", "budget": "6", "grant": "e", "dependency": "l", "template": "f2", "test": "f5",
    "zip": "Z", "clipboard": "y", "compare": "d", "undo": "ctrl+z",
}  # fmt: skip


async def test_fifty_words_that_people_say_find_what_they_mean(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        place = await app.action_go("watch")
        await wait_for(pilot, lambda: place.query_one("#jobs").jobs)
        rows = FoundRows(found_by_words(app, place))
        assert len(SAID) >= 40
        for word, key in SAID.items():
            ranked = rows.ranked(word)
            assert key in [one.key for one in ranked[:4]], (word, [one.words for one in ranked[:5]])


async def test_no_key_is_silent(tmp_path):
    """Each letter in each place does something that is seen, or says why not."""
    async with demo(tmp_path, ranges=True) as (app, pilot):
        for place in ("survey", "chain", "watch", "review", "ledger"):
            await app.action_go(place)
            await settled(pilot)
            letters = [one.key for one in acts_by_place()[place].values() if len(one.key) == 1]
            for key in (*letters, "H", "8"):
                await app.action_go(place)
                await settled(pilot)
                before = seen(app)
                await press(pilot, key)
                await settled(pilot)
                assert seen(app) != before, (place, key)
                await press(pilot, "escape", "escape", "escape")
                app.said_until = 0.0


def seen(app):
    """The whole screen as one text."""
    return [strip.text for strip in app.screen._compositor.render_strips()], app.theme, app.place, str(app.focused)


async def test_keys_elsewhere_say_where_they_work_and_messages_go_with_the_cursor(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs") and app.query_one("#jobs").jobs)
        await press(pilot, "R")
        assert "R (results) does nothing in Watch; it works in Review." in app.query_one(NoteBar).text
        await press(pilot, "j")
        assert "does nothing" not in app.query_one(NoteBar).text
        await press(pilot, "r")
        assert "r (release) works on a job of yours that is held" in app.query_one(NoteBar).text
        await press(pilot, "down")
        assert "r (release)" not in app.query_one(NoteBar).text
        await press(pilot, "f12")
        assert "f12 does nothing here; ? lists all keys" in app.query_one(NoteBar).text


async def test_help_opens_while_typing_and_gives_way_to_what_is_pressed(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        await press(pilot, "enter")
        await wait_for(pilot, lambda: app.focused is not None and app.focused.id == "editor")
        assert ("f1", "all keys", "app.keys") in app.query_one(NoteBar).keys
        before = app.focused.text
        await press(pilot, "question_mark")
        assert len(app.focused.text) == len(before) + 1 and not app.screen.query("HelpLines")
        await press(pilot, "f1")
        await wait_for(pilot, lambda: app.screen.query("HelpLines"))
        text = drawn(app.screen.query_one("HelpLines"))
        assert "DRAFT" in text and "EVERYWHERE" in text and "submit the script as it stands" in text
        await press(pilot, "alt+4")
        await wait_for(pilot, lambda: app.place == "watch" and not app.screen.query("HelpLines"))
        await press(pilot, "question_mark", "question_mark")
        await wait_for(pilot, lambda: not app.screen.query("HelpLines"))
        await press(pilot, "question_mark", "ctrl+p")
        await wait_for(pilot, lambda: app.screen.query("#found"))
        await press(pilot, *"help", "enter")
        await wait_for(pilot, lambda: app.screen.query("HelpLines"))
        await press(pilot, "escape", "ctrl+p", *"theme", "enter")
        await wait_for(pilot, lambda: app.theme == "chalk")


async def test_a_click_on_what_submits_asks_and_a_failed_array_runs_again_with_what_was_learnt(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        await press(pilot, "down", "enter")
        place = app.query_one("#place-draft")
        await wait_for(pilot, lambda: place.report is not None and place.report.shape.cores == 8)
        jobs = len(app.client.jobs())
        await app.run_action("app.click('submit')")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        assert "Submit threads? 8 cores" in drawn(app.screen.query_one("#question"))
        await press(pilot, "enter")
        await settled(pilot)
        assert len(app.client.jobs()) == jobs
        await press(pilot, "alt+4")
        await wait_for(pilot, lambda: app.query("#jobs") and app.query_one("#jobs").jobs)
        rows = app.query_one("#jobs")
        rows.move(next(at for at, view in enumerate(rows.jobs) if view.name == "roughness-fit"))
        await press(pilot, "U")
        await wait_for(pilot, lambda: app.screen.query("#again-settings"))
        assert "8 tasks of 14331 roughness-fit" in text_of(app.screen, "#again-head")
        line = app.screen.query_one("#again-settings")
        assert "memory=6.75 GiB/core" in line.value and "Advised" in text_of(app.screen, "#again-head")
        await wait_for(pilot, lambda: "8 tasks of roughness-fit, each 4 cores" in text_of(app.screen, "#again-foot"))
        await press(pilot, "tab", "enter")
        await wait_for(pilot, lambda: "run again as" in app.query_one(NoteBar).text)
        new = app.client.job(int(app.query_one(NoteBar).text.split("again as ")[1].split(",")[0]))
        assert new.rows == ((31, 38, 1),) and new.memory_mib >= 4 * 6912


async def test_tables_are_saved_by_one_key_in_every_place(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        app.folder = tmp_path / "out"
        app.folder.mkdir()
        names = {"survey": "nodes", "watch": "jobs-mine", "review": "runs", "ledger": "accounts"}
        for place, name in names.items():
            await app.action_go(place)
            await settled(pilot)
            await wait_for(
                pilot, lambda: app.place_in_sight().tables() and list(app.place_in_sight().tables()[0].rows())
            )
            await press(pilot, "ctrl+r")
            await wait_for(pilot, lambda name=name: f"{name}.csv was written" in app.query_one(NoteBar).text)
            await press(pilot, "ctrl+r")
            await wait_for(pilot, lambda name=name: f"{name}.json was written" in app.query_one(NoteBar).text)
            rows = list(csv.DictReader((app.folder / f"{name}.csv").open(newline="")))
            assert [list(row) for row in rows] and len(rows) == len(
                json.loads((app.folder / f"{name}.json").read_text())
            )
        await press(pilot, "ctrl+r")
        await wait_for(pilot, lambda: "accounts-2.csv was written" in app.query_one(NoteBar).text)
        app.folder = Path("/proc/nowhere")
        await press(pilot, "5", "ctrl+r")
        await wait_for(pilot, lambda: "cannot be written" in app.query_one(NoteBar).text)


def test_every_place_is_in_the_frame_and_has_keys():
    assert set(acts_by_place()) == set(PLACES)
    whole = {one.act for one in QuarryApp.BINDINGS if isinstance(one, Bound)}
    assert {"figure", "table", "keys", "find_act", "leave"} <= whole and key_of("keys") == "?"


@pytest.mark.parametrize("size", [(80, 24), (100, 30)])
async def test_names_stay_on_a_small_terminal_and_answers_are_not_hidden(tmp_path, size):
    async with demo(tmp_path, size=size) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs") and app.query_one("#jobs").jobs)
        await settled(pilot)
        assert "surge-north" in text_of(app, "#jobs") and "sediment-big" in text_of(app, "#jobs")
        await wait_for(pilot, lambda: "surge-north runs on" in app.query_one(NoteBar).text)
        assert ("80×24" in drawn(app.query_one(NoteBar))) is (size == (80, 24))


async def test_the_cursor_stays_where_it_was_and_a_new_script_begins_at_its_first_row(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "b")
        room = app.query_one("#room")
        await wait_for(pilot, lambda: room.has_focus and room.rooms)
        await press(pilot, "down", "right")
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.place == "watch")
        await press(pilot, "1")
        await wait_for(pilot, lambda: room.has_focus and (room.cursor, room.column) == (3, 2))
        await to_draft(app, pilot)
        await press(pilot, "down", "enter")
        place, dials = app.query_one("#place-draft"), app.query_one("#dials")
        await wait_for(pilot, lambda: place.report is not None and place.report.shape.cores)
        await press(pilot, "f6", "end")
        assert dials.cursor > 5
        place.put_text(place.document.text.replace("threads", "other"), "", True)
        await settled(pilot)
        assert dials.cursor == 1 and place.editor.cursor_location == (0, 0)


async def test_in_start_a_number_is_a_value_and_a_dial_sets_name_and_at_once(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_draft(app, pilot)
        place = app.query_one("#place-draft")
        await wait_for(pilot, lambda: app.board is not None)
        sweep = '#!/bin/bash\n# /// job\n# walltime = "1h"\n# memory = "1 GiB/core"\n# [array.sweep]\n# a = [1, 2, 3]\n# ///\necho $a\n'
        place.put_text(sweep, "", True)
        await wait_for(pilot, lambda: place.report is not None and place.report.shape.tasks == 3)
        rows = app.query_one("#report")
        place.editor.focus()
        await press(pilot, "escape")  # numbers go to places until the cursor is moved
        rows.move(next(at for at, line in enumerate(rows.lines) if line.change and line.change[0][0] == "walltime"))
        rows.resting = False
        await press(pilot, *"45m")
        assert "45m" in text_of(app, "#report") and app.place == "draft"
        await press(pilot, "enter")
        await wait_for(pilot, lambda: '"45m"' in place.document.text)
        dials = app.query_one("#dials")
        dials.focus()
        dials.move(1 + next(at for at, dial in enumerate(dials.dials) if dial.key == "array.at-once"))
        await press(pilot, "2", "enter")
        await wait_for(pilot, lambda: "at-once = 2" in place.document.text)
        await press(pilot, "home", *"levels", "enter")
        await wait_for(pilot, lambda: 'name = "levels"' in " ".join(place.document.text.split()))


async def test_a_report_is_mailed_after_asking_and_an_empty_chain_is_no_error(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "6")
        await wait_for(pilot, lambda: app.query("#ranking") and app.query_one("#ranking").rows)
        await press(pilot, "ctrl+g")
        await wait_for(pilot, lambda: app.focused.id == "asked-address")
        await press(pilot, *"nobody", "enter")
        await wait_for(pilot, lambda: "is not a mail address" in app.query_one(NoteBar).text)
        await press(pilot, "ctrl+g", *"noor@oxbow.example", "enter")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        assert "to noor@oxbow.example?" in drawn(app.screen.query_one("#question"))
        await press(pilot, "y")
        await wait_for(pilot, lambda: any(letter.to == "noor@oxbow.example" for letter in app.client.letters(20)))
        place = await app.action_go("chain")
        place.open_file(tmp_path / "new.toml")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "y")
        await wait_for(pilot, lambda: "no jobs yet: a adds the first one" in text_of(app, "#chain-head"))
        assert "must change" not in text_of(app, "#chain-head")
