"""Chain: a file opened, rehearsed, supposed otherwise, submitted, followed, cancelled and drawn."""

import threading
from datetime import UTC

from textual import events

from lazy_quarry.app.chain.canvas import LINES, canvas
from lazy_quarry.app.shared.draft_shelf import DraftShelf
from lazy_quarry.app.shared.figure_pane import FigurePane
from lazy_quarry.app.shared.frame import NoteBar
from lazy_quarry.core.plain_text import in_plain_signs
from lazy_quarry.demo.rehearsed import Rehearsed
from tests.app.support import demo, press, settled, text_of, wait_for
from tests.cli.test_chains import TWELVE, source


async def to_chain(app, pilot):
    await press(pilot, "3")
    await wait_for(pilot, lambda: app.query("#chains") and app.focused is not None and app.focused.id == "chains")


async def opened(app, pilot):
    """The demo's own chain, opened by its key."""
    await to_chain(app, pilot)
    await press(pilot, "ctrl+o", "enter")
    await wait_for(pilot, lambda: app.query_one("#parts").view is not None)


async def test_the_demo_s_chain_is_opened_rehearsed_and_supposed_otherwise(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await opened(app, pilot)
        head, graph, parts = (text_of(app, name) for name in ("#chain-head", "#graph", "#parts"))
        assert "season, rehearsed as the queue is now" in head and "all done about" in head and "5 jobs" in head
        assert "prepare" in graph and "▸" in graph and "40 tasks" in graph and "doesn't run" in graph
        assert parts.count("critical") == 4 and "starts" in text_of(app, "#part-head")
        rows = app.query_one("#parts")
        before = rows.view.ends_ms
        await press(pilot, "down", "W")
        await wait_for(pilot, lambda: rows.view.ends_ms > before)
        assert "×2?" in text_of(app, "#parts")
        await press(pilot, "W", "X")
        assert "Rehearsed as if levels failed" in app.query_one(NoteBar).text
        await wait_for(pilot, lambda: "if it fails" in text_of(app, "#graph"))
        await press(pilot, "up", "down")  # what was said goes with the cursor
        await wait_for(
            pilot, lambda: {one.name for one in rows.view.parts if one.ends_ms is None} == {"gather", "report"}
        )
        assert "levels" in app.query_one(NoteBar).text and "runs once prepare has ended" in app.query_one(NoteBar).text


async def test_a_chain_is_submitted_followed_and_cancelled_as_one(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await opened(app, pilot)
        await press(pilot, "l", "ctrl+g")  # a line that was begun goes with the draft
        await wait_for(pilot, lambda: [view.number for view in app.query_one("#chains").views] == [1])
        assert app.query_one("ChainPlace").chain.begun == ("", "")
        view = app.query_one("#parts").view
        assert view.parts[0].phase == "running" and view.ends_ms is not None
        app.client.rehearsed.advance(app.client.rehearsed.now_ms + 3_600_000)
        await wait_for(pilot, lambda: app.query_one("#parts").view.parts[0].done_tasks > 0)
        assert "/4" in text_of(app, "#graph")
        await press(pilot, "x")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "y")
        rehearsed = app.client.rehearsed
        await wait_for(
            pilot, lambda: app.query_one("#parts").view.left == 0 or rehearsed.advance(rehearsed.now_ms + 60_000)
        )
        await press(pilot, "enter")
        await wait_for(pilot, lambda: app.place == "review")


async def test_a_chain_file_that_must_change_says_where(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        bad = tmp_path / "bad.toml"
        bad.write_text('[jobs.a]\ncommands = ["x"]\nafter = { b = "succeeds" }\n')
        await to_chain(app, pilot)
        app.query_one("ChainPlace").open_file(bad)
        await wait_for(pilot, lambda: "line 3" in text_of(app, "#chain-head"))
        assert "no job here" in text_of(app, "#chain-head")
        await press(pilot, "ctrl+g")
        await wait_for(pilot, lambda: "Not submitted: line 3" in app.query_one(NoteBar).text)
        app.query_one("ChainPlace").open_file(tmp_path / "none.txt")
        await wait_for(pilot, lambda: "is not there" in app.query_one(NoteBar).text)
        await press(pilot, "h")
        await wait_for(pilot, lambda: "works on a chain that was submitted" in app.query_one(NoteBar).text)


async def test_a_chain_is_taken_along_and_a_click_on_a_slab_goes_there(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await opened(app, pilot)
        graph = app.query_one("#graph")
        x, y = graph.drawn.places["report"]
        await pilot.click("#graph", offset=(x - graph.shift + 4, y - graph.scroll_offset.y))
        await wait_for(pilot, lambda: app.query_one("#parts").current().name == "report" and graph.chosen == "report")
        await press(pilot, "ctrl+e")
        await wait_for(pilot, lambda: isinstance(app.screen, FigurePane))
        await press(pilot, "escape")
        await settled(pilot)


def test_slabs_and_lines_never_lie_on_one_another():
    view = Rehearsed(7).client().report_chain(source(**TWELVE), [], {}).chain
    drawn = canvas(view, UTC)
    slabs = {(x + at, y + row) for x, y in drawn.places.values() for at in range(20) for row in range(2)}
    assert len(slabs) == 12 * 40
    for y, row in enumerate(drawn.rows):
        for x, cell in enumerate(row):
            assert ((x, y) in slabs) == bool(cell.part)
    arrows = sum(cell.sign == "▸" for row in drawn.rows for cell in row)
    assert arrows == 11  # each job but the first is pointed at
    assert len({in_plain_signs(sign) for sign in LINES.values()}) == len(LINES)  # conditions differ in plain signs too


def waits(app):
    view = app.query_one("#parts").whole
    return {one.name: dict(one.after) for one in view.parts} if view else {}


async def test_a_chain_is_changed_by_keys_undone_and_saved(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        app.folder = tmp_path

        async def comes(name, after):
            await wait_for(pilot, lambda: waits(app).get(name) == after)

        await opened(app, pilot)
        await press(pilot, "down", "down", "a", *"check", "space", *"true", "enter")
        await comes("check", {"gather": "succeeds"})
        assert "edited, not saved" in text_of(app, "#chain-head") and app.query_one("#parts").current().name == "gather"
        await press(pilot, "end", "e")  # the cursor stayed, so that more can hang on that job
        await comes("check", {"gather": "fails"})
        await press(pilot, "L")  # it has one tie only
        await comes("check", {})
        await press(pilot, "home", "l", "e", "end")
        assert "A line from prepare" in app.query_one(NoteBar).text and "fails" in app.query_one(NoteBar).text
        await press(pilot, "l")
        await comes("check", {"prepare": "fails"})
        await press(pilot, "l", "home", "l")  # prepare after check: they would wait for one another
        await wait_for(pilot, lambda: "Not changed: these wait for one another" in app.query_one(NoteBar).text)
        await press(pilot, "end", "delete")
        await wait_for(pilot, lambda: "check" not in waits(app))
        await press(pilot, "ctrl+z")
        await comes("check", {"prepare": "fails"})
        await press(pilot, "ctrl+z", "ctrl+z", "ctrl+y")
        await comes("check", {})
        await press(pilot, "ctrl+s")  # an example stays as it is: it asks where to
        await press(pilot, "enter")
        saved = tmp_path / "season.toml"
        await wait_for(pilot, saved.exists)
        assert "[jobs.check]" in saved.read_text() and "# A chain: fields are prepared" in saved.read_text()
        await wait_for(pilot, lambda: "not saved" not in text_of(app, "#chain-head"))
        saved.write_text(saved.read_text().replace("[jobs.check]", "[jobs.looked]"))  # by an editor elsewhere
        app.query_one("ChainPlace").read()
        await wait_for(pilot, lambda: "looked" in waits(app) and "check" not in waits(app))


async def test_keys_typed_ahead_act_in_their_order(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await opened(app, pilot)
        for key in ("end", "l", "home", "e", "l"):  # all there before the first is looked at
            app.post_message(events.Key(key, key if len(key) == 1 else None))
        await wait_for(
            pilot, lambda: "clean" in waits(app)["prepare"] or "wait for one another" in app.query_one(NoteBar).text
        )
        assert "Not changed" in app.query_one(NoteBar).text  # prepare after clean, as it was typed
        place = app.query_one("ChainPlace")
        assert place.chain.condition == "fails" and app.query_one("#parts").current().name == "prepare"


async def test_keys_typed_while_a_file_is_looked_for_are_for_what_comes_of_it(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await to_chain(app, pilot)
        disk = threading.Event()
        app.shelf.kept.aside.do(disk.wait)
        for key in ("ctrl+o", "enter"):
            app.post_message(events.Key(key, None))
        await wait_for(pilot, lambda: app.kept_back)
        disk.set()
        await wait_for(pilot, lambda: app.query_one("#parts").view is not None)
        assert "season, rehearsed as the queue is now" in text_of(app, "#chain-head")


async def test_a_job_of_a_chain_goes_to_draft_and_back_and_another_chain_is_begun(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        app.folder = tmp_path
        place = await begun(app, pilot, tmp_path / "mine.toml")
        await press(pilot, "a", *"first", "space", *"true", "enter")
        await wait_for(pilot, lambda: waits(app) == {"first": {}})
        await press(pilot, "enter")
        await wait_for(
            pilot, lambda: app.query("DraftPlace") and app.query_one("DraftPlace").document.keeper is not None
        )
        draft = app.query_one("DraftPlace")
        assert "first of mine.toml" in text_of(app, "DraftTitle") and "SAID BY THE CHAIN" in text_of(
            app, "#overrides-title"
        )
        draft.editor.put(
            draft.document.text.replace("true\n", "echo one\necho two\n").replace(
                "# ///\nset", "# threads = 4\n# ///\nset"
            )
        )
        await press(pilot, "ctrl+s")
        await wait_for(pilot, lambda: "Saved as first of mine.toml" in app.query_one(NoteBar).text)
        text = (tmp_path / "mine.toml").read_text()
        assert "echo two" in text and "threads = 4" in text and "set -euo" not in text
        await press(pilot, "alt+3")
        await wait_for(pilot, lambda: place.query_one("#parts").view.parts[0].cores == 4)
        (tmp_path / "other.sh").write_text(
            '#!/bin/bash\n# /// job\n# walltime = "5m"\n# memory = "100 MiB/core"\n# ///\ntrue\n'
        )
        await press(pilot, "a", *"other", "enter", "down")  # a script of its name lies there
        await wait_for(pilot, lambda: waits(app) == {"first": {}, "other": {"first": "succeeds"}})
        await press(pilot, "enter")
        await wait_for(pilot, lambda: draft.document.path == str(tmp_path / "other.sh"))
        await press(pilot, "alt+3")
        (tmp_path / "other.sh").unlink()
        place.read()
        await wait_for(pilot, lambda: "cannot be read" in text_of(app, "#chain-head"))
        assert "other" in text_of(app, "#graph") and "must change" in text_of(
            app, "#chain-head"
        )  # it is drawn all the same


async def begun(app, pilot, path):
    """A new chain in this file."""
    await to_chain(app, pilot)
    place = app.query_one("ChainPlace")
    place.open_file(path)
    await wait_for(pilot, lambda: app.screen.query("#question"))
    await press(pilot, "y")
    await wait_for(pilot, lambda: place.chain.desk.open)
    return place


async def test_a_chain_is_drawn_by_mouse_played_and_its_tasks_are_read_beside_it(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await opened(app, pilot)
        graph, rows = app.query_one("#graph"), app.query_one("#parts")

        def at(name, more=4):
            x, y = graph.drawn.places[name]
            return {"offset": (x - graph.shift + 1 + more, y - graph.scroll_offset.y)}

        await pilot.mouse_down("#graph", **at("prepare"))
        await pilot.mouse_up("#graph", **at("report"))
        await wait_for(pilot, lambda: waits(app)["report"] == {"gather": "succeeds", "prepare": "succeeds"})
        await pilot.click("#graph", **at("clean", -2))
        await wait_for(pilot, lambda: waits(app)["clean"] == {"levels": "finishes"})
        await pilot.mouse_down("#graph", **at("prepare"))
        await pilot.mouse_up("#graph", **at("report"))
        await wait_for(pilot, lambda: waits(app)["report"] == {"gather": "succeeds"})
        await pilot.click("#graph", **at("levels"))
        await wait_for(pilot, lambda: "level=0.5 grid=coarse" in text_of(app, "#chain-tasks"))
        assert 'surge --level "0.5"' in text_of(app, "#chain-tasks") and "40 tasks" in text_of(app, "#chain-tasks")
        await press(pilot, "f3")
        await wait_for(pilot, lambda: app.screen.query("#tasks"))
        await press(pilot, "escape", "p")
        states = set()
        place = app.query_one("ChainPlace")

        def over():
            states.update((one.name, one.phase) for one in rows.view.parts)
            return place.playing.played_ms is not None and place.playing.played_ms >= rows.whole.ends_ms

        await wait_for(pilot, lambda: rows.view is not rows.whole)
        await press(pilot, "greater_than_sign", "greater_than_sign", "greater_than_sign")
        await wait_for(pilot, over)
        for share in range(21):  # a slow machine shows few instants of it
            place.playing.played_ms = rows.whole.now_ms + share * (rows.whole.ends_ms - rows.whole.now_ms) / 20
            place.follow()
            over()
        assert {("report", "waiting"), ("report", "done"), ("levels", "running")} <= states
        assert "played: it is" in text_of(app, "#chain-head")
        await press(pilot, "p")
        await wait_for(pilot, lambda: rows.view is rows.whole)


def test_a_chain_too_wide_for_the_pane_is_drawn_narrower_and_folded():
    wide = {f"p{n}": 'after = { first = "succeeds" }' for n in range(12)}
    last = "after = { " + ", ".join(f'{name} = "succeeds"' for name in wide) + " }"
    jobs = source(first="", **wide, last=last)
    view = Rehearsed(7).client().report_chain(jobs, [], {}).chain
    whole = canvas(view, UTC)
    assert len(whole.rows) == 37 and whole.wide == 20 and not whole.folded
    drawn = canvas(view, UTC, (60, 16))
    assert drawn.wide == 12 and list(drawn.folded) == ["p0"] and drawn.places["p7"] == drawn.places["p0"]
    words = "\n".join("".join(cell.sign for cell in row) for row in drawn.rows)
    assert "12 jobs" in words and len(drawn.rows[0]) <= 60 and len(drawn.rows) <= 16
    assert len(canvas(view, UTC, (60, 16), fold=False).rows) == 37


async def test_after_a_submission_another_chain_is_begun_by_keys(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await opened(app, pilot)
        await press(pilot, "ctrl+g")
        await wait_for(pilot, lambda: [view.number for view in app.query_one("#chains").views] == [1])
        await press(pilot, "ctrl+o", *["backspace"] * 80, *"next.toml", "enter")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        await press(pilot, "y")
        await wait_for(pilot, lambda: "A new chain, next" in app.query_one(NoteBar).text)
        await wait_for(
            pilot, lambda: app.query_one("#chains").current() and app.query_one("#chains").current().name == "next"
        )
        await press(pilot, "a", *"first", "enter")
        await wait_for(pilot, lambda: "say what first runs" in app.query_one(NoteBar).text)
        assert app.query_one("#chain-path").value == "first "
        await press(pilot, *"true", "enter")
        await wait_for(pilot, lambda: [one.name for one in app.query_one("#parts").view.parts] == ["first"])
        # a beginning without a job is nothing that could be lost
        place = app.query_one("ChainPlace")
        place.chain.desk.put('name = "empty"\n', "/tmp/empty.toml", "")
        asked = []
        place.file.unless_lost(lambda: asked.append(True))
        assert asked and not place.chain.desk.worth_keeping


def test_a_change_made_while_the_file_is_read_again_is_not_lost(tmp_path, monkeypatch):
    from lazy_quarry.app.chain import desk as chain_desk

    path = tmp_path / "season.toml"
    path.write_text('[jobs.a]\ncommands = ["true"]\n')
    desk = chain_desk.ChainDesk(tmp_path, DraftShelf(tmp_path, "chain"))
    desk.put(path.read_text(), str(path))
    path.write_text('[jobs.b]\ncommands = ["true"]\n')
    read, typed = chain_desk.read_source, []

    def slow(*given):
        found = read(*given)
        if not typed:
            typed.append(1)
            desk.change(lambda text: text + "# mine\n")  # meanwhile somebody types
        return found

    with monkeypatch.context() as patch:
        patch.setattr(chain_desk, "read_source", slow)
        assert desk.read_again() is False
    assert desk.text.endswith("# mine\n") and "jobs.a" in desk.text
    assert desk.undo() and desk.read_again() and "jobs.b" in desk.text
