"""A figure taken along, from each place that draws."""

import xml.etree.ElementTree as ET

from lazy_quarry.app.shared.figure_pane import FigurePane, FigurePath, FigureRows
from lazy_quarry.app.shared.frame import NoteBar
from tests.app.support import demo, press, text_of, wait_for


async def opened(app, pilot, words):
    await press(pilot, "ctrl+e")
    await wait_for(pilot, lambda: isinstance(app.screen, FigurePane))
    path = app.screen.query_one(FigurePath)
    await wait_for(pilot, lambda: path.name_of == words)
    return path


async def test_a_figure_is_chosen_drawn_and_replaced_only_when_asked_twice(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await wait_for(pilot, lambda: app.focused is not None and app.focused.id == "nodes")
        path = await opened(app, pilot, "nodes")
        assert path.value.endswith("nodes.svg")
        await press(pilot, "down", "right", "down", "right")
        assert path.value.endswith("nodes.pdf") and app.screen.query_one(FigureRows).value(2) == "dusk"
        await press(pilot, "up", "left", "enter")
        await wait_for(pilot, lambda: not isinstance(app.screen, FigurePane))
        drawn = app.folder / "nodes.svg"
        await wait_for(pilot, lambda: "nodes.svg was written" in app.query_one(NoteBar).text)
        assert "Nodes of oxbow" in "".join(ET.parse(drawn).getroot().itertext())
        drawn.write_text("older")
        await opened(app, pilot, "nodes")
        await press(pilot, "enter")
        await wait_for(pilot, lambda: "is there already" in text_of(app.screen, "#figure-said"))
        assert drawn.read_text() == "older"
        await press(pilot, "enter")
        await wait_for(pilot, lambda: not isinstance(app.screen, FigurePane))
        assert drawn.read_text() != "older"


async def test_a_pane_stays_open_when_its_file_cannot_be_written(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await wait_for(pilot, lambda: app.focused is not None and app.focused.id == "nodes")
        path = await opened(app, pilot, "nodes")
        path.value = str(tmp_path / "none" / "a.svg")
        await press(pilot, "enter")
        await wait_for(pilot, lambda: "cannot be written" in " ".join(text_of(app.screen, "#figure-said").split()))
        await press(pilot, "escape")
        await wait_for(pilot, lambda: not isinstance(app.screen, FigurePane))


async def test_watch_offers_its_lanes_and_ledger_its_columns(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs") and app.query_one("#jobs").current())
        await opened(app, pilot, "lanes")
        await press(pilot, "escape", "b")
        await wait_for(pilot, lambda: app.query_one("#jobs").by_node)
        await opened(app, pilot, "node-lanes")
        await press(pilot, "escape", "6")
        await wait_for(pilot, lambda: app.query("#use-columns") and app.query_one("#use-columns").found)
        await opened(app, pilot, "use-by-account")
