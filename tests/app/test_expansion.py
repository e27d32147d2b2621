"""The tasks of a sweep, read before it runs."""

import csv

from lazy_quarry.app.shared.expansion_screen import ExpansionScreen
from lazy_quarry.app.shared.figure_pane import FigurePane
from tests.app.support import demo, press, settled, text_of, to_draft, wait_for

SWEEP = """#!/bin/bash
# /// job
# name = "flow"
# walltime = "10m"
# output = "logs/{job}-{task}.txt"
# [array]
# at-once = 4
# [array.sweep]
# level = { range = "-0.5..0.5 by 0.5" }
# grid = ["coarse", "mid", "a b"]
# ///
model --level "$level" --grid "$grid" > "r-$grid.nc"
"""


async def opened(app, pilot, script=SWEEP):
    await to_draft(app, pilot)
    place = app.query_one("DraftPlace")
    place.put_text(script, "", True, ())
    await wait_for(pilot, lambda: place.report is not None and (place.report.shape.tasks or script is not SWEEP))
    await press(pilot, "f3")


async def test_a_sweep_is_read_found_in_sorted_and_taken_along(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await opened(app, pilot)
        await wait_for(pilot, lambda: isinstance(app.screen, ExpansionScreen))
        screen = app.screen
        assert "9 tasks, 4 at once" in text_of(screen, "#expansion-head")
        assert "tasks 1 and 4 would both write r-coarse.nc" in text_of(screen, "#expansion-head")
        assert 'model --level "-0.5" --grid "coarse"' in text_of(screen, "#tasks")
        await press(pilot, "slash", *"mid 0.5", "enter")
        await wait_for(pilot, lambda: len(screen.found) == 2)
        assert "2 of 9 tasks" in text_of(screen, "#expansion-head")
        await press(pilot, "s", "S")
        assert screen.found.task(0).parameters == (("level", "0.5"), ("grid", "mid"))
        assert "level=0.5, grid=mid" in text_of(screen, "#expansion-note")
        await press(pilot, "ctrl+r")
        written = app.folder / "tasks-flow.csv"
        await wait_for(pilot, lambda: "was written: 2 rows" in text_of(screen, "#expansion-head"))
        with written.open(newline="") as file:
            rows = list(csv.DictReader(file))
        assert [row["grid"] for row in rows] == ["mid", "mid"] and rows[0]["level"] == "0.5"
        await press(pilot, "ctrl+e")
        await wait_for(pilot, lambda: isinstance(app.screen, FigurePane))
        await press(pilot, "escape")
        await settled(pilot)
        await press(pilot, "escape")  # ends the search
        await wait_for(pilot, lambda: len(screen.found) == 9)
        await press(pilot, "escape")
        await wait_for(pilot, lambda: not isinstance(app.screen, ExpansionScreen))


async def test_the_tasks_of_a_submitted_array_are_shown_with_its_number(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs") and app.query_one("#jobs").current())
        jobs = app.query_one("#jobs")
        await press(pilot, "f3")
        await wait_for(pilot, lambda: "works on an array" in text_of(app, "NoteBar"))
        jobs.move(next(place for place, view in enumerate(jobs.jobs) if view.rows))
        number = jobs.current().job
        await press(pilot, "f3")
        await wait_for(pilot, lambda: isinstance(app.screen, ExpansionScreen))
        assert "24 tasks, 4 at once" in text_of(app.screen, "#expansion-head")
        assert f"logs/surge-levels-{number}-1.txt" in text_of(app.screen, "#tasks")


async def test_a_script_without_tasks_says_so(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await opened(app, pilot, "#!/bin/bash\n# /// job\n# ranks = 1\n# ///\ntrue\n")
        await wait_for(pilot, lambda: "it is a single job" in text_of(app, "NoteBar"))
