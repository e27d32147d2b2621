"""Chain: a file opened, rehearsed, supposed otherwise, submitted, followed, cancelled and drawn."""

from datetime import UTC

from lazy_quarry.app.chain_canvas import LINES, canvas
from lazy_quarry.app.widgets.figure_pane import FigurePane
from lazy_quarry.app.widgets.frame import NoteBar
from lazy_quarry.core.plain_text import in_plain_signs
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.link.in_process import InProcessClient
from tests.app.support import demo, press, settled, text_of, wait_for
from tests.cli.test_chains import TWELVE, source


async def to_chain(app, pilot):
    await press(pilot, "3")
    await wait_for(pilot, lambda: app.query("#chains") and app.focused is not None and app.focused.id == "chains")


async def opened(app, pilot):
    """The demo's own chain, opened by its key."""
    await to_chain(app, pilot)
    await press(pilot, "o", "enter")
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
        await press(pilot, "tab", "down", "w")
        await wait_for(pilot, lambda: rows.view.ends_ms > before)
        assert "×2?" in text_of(app, "#parts")
        await press(pilot, "w", "f")
        await wait_for(
            pilot, lambda: {one.name for one in rows.view.parts if one.ends_ms is None} == {"gather", "report"}
        )
        assert "levels" in app.query_one(NoteBar).text and "after prepare finishes" in app.query_one(NoteBar).text


async def test_a_chain_is_submitted_followed_and_cancelled_as_one(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await opened(app, pilot)
        await press(pilot, "ctrl+g")
        await wait_for(pilot, lambda: [view.number for view in app.query_one("#chains").views] == [1])
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
        await press(pilot, "tab", "enter")
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
        app.query_one("ChainPlace").open_file(tmp_path / "none.toml")
        await wait_for(pilot, lambda: "is not there" in app.query_one(NoteBar).text)
        await press(pilot, "h")
        await wait_for(pilot, lambda: "for a chain that was submitted" in app.query_one(NoteBar).text)


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
    view = InProcessClient(Rehearsed(7).site).report_chain(source(**TWELVE), [], {}).chain
    drawn = canvas(view, UTC)
    slabs = {(x + at, y + row) for x, y in drawn.places.values() for at in range(20) for row in range(2)}
    assert len(slabs) == 12 * 40
    for y, row in enumerate(drawn.rows):
        for x, cell in enumerate(row):
            assert ((x, y) in slabs) == bool(cell.part)
    arrows = sum(cell.sign == "▸" for row in drawn.rows for cell in row)
    assert arrows == 11  # each job but the first is pointed at
    assert len({in_plain_signs(sign) for sign in LINES.values()}) == len(LINES)  # conditions differ in plain signs too
