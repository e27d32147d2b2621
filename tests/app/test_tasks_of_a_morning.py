"""Ten tasks of a morning, by keys alone: that each can be done, and in how many keys."""

import csv

from lazy_quarry.core.job.job import Phase
from tests.app.support import demo, settled, text_of, wait_for


class Fingers:
    """Presses keys and counts them; what is typed counts by its letters."""

    def __init__(self, app, pilot):
        self.app, self.pilot, self.count = app, pilot, 0

    async def __call__(self, *keys, until=None):
        for key in keys:
            self.count += 1
            await self.pilot.press(key)
        await self.pilot.pause()
        if until is not None:
            await wait_for(self.pilot, until)
        await settled(self.pilot)

    def taken(self, most):
        count, self.count = self.count, 0
        assert count <= most, f"{count} keys, and {most} at most"

    def seen(self, selector, words):
        return bool(self.app.query(selector)) and words in text_of(self.app, selector)

    def note(self, words):
        return lambda: words in self.app.query_one("#note").text


async def test_ten_tasks_of_a_morning_take_few_keys(tmp_path):
    async with demo(tmp_path, ranges=True) as (app, pilot):
        app.folder = tmp_path
        press, jobs = Fingers(app, pilot), lambda: app.query_one("#jobs")

        # 1. Draft what could start now over several nodes of another queue, for four hours.
        await press("b", "down", "down", "down", "down", "right", "enter", until=lambda: app.place == "draft")
        await wait_for(pilot, lambda: 'queue    = "deep"' in app.query_one("#editor").text)
        press.taken(7)

        # 2. Ask for less time, and submit it.
        await press(
            "f6",
            "down",
            "down",
            "down",
            "down",
            *"45m",
            "enter",
            until=lambda: '"45m"' in app.query_one("#editor").text,
        )
        await press("ctrl+g", until=press.note("Submitted as"))
        press.taken(10)

        # 3. Why does a job wait, and when will it start?
        await press("alt+4", until=lambda: app.place == "watch" and jobs().jobs)
        await press("slash", *"sed", "enter", "w", until=lambda: press.seen("#why-lines", "starts about"))
        press.taken(7)

        # 4. Ask for half of its nodes, knowing what that comes to.
        await press("e", until=lambda: app.query_one("#changes").rows)
        await press(*"nodes=4;ranks=128", until=lambda: press.seen("#change-told", "sediment-big, 128 cores for"))
        await press("enter", until=press.note("changed, with nodes=4"))
        await press("escape")
        press.taken(20)

        # 5. Why did some tasks of an array fail, and what did the first of them print?
        await press(
            "slash", *"rou", "enter", until=lambda: jobs().current() and jobs().current().name == "roughness-fit"
        )
        await press("enter", until=lambda: app.place == "review" and press.seen("#tasks", "WHY SOME FAILED"))
        await press("tab", "f", "enter", until=lambda: press.seen("#verdict", "14331/31"))
        press.taken(9)

        # 6. Run these again, with the memory that they needed.
        await press("backspace", until=lambda: app.query_one("ReviewPlace").seen.sheet == "tasks")
        await press("U", until=lambda: app.screen.query("#again-settings"))
        await wait_for(pilot, lambda: "8 tasks" in text_of(app.screen, "#again-foot"))
        await press("tab", "enter", until=press.note("run again as"))
        press.taken(4)

        # 7. Which runs reached their walltime since January? Take the list along.
        await press("tab", "slash", *"overtime since January", "enter")
        await wait_for(pilot, lambda: app.query_one("#runs").runs and press.seen("#run-head", "since January"))
        await press("ctrl+r", until=press.note("runs.csv was written"))
        assert all(row["state"] == "overtime" for row in csv.DictReader((tmp_path / "runs.csv").open()))
        press.taken(26)

        # 8. Hold two jobs, look at one, release both.
        await press("4", "escape", until=lambda: len(jobs().jobs) > 3)
        for name in ("eel-season", "estuary-long"):
            jobs().move(next(at for at, view in enumerate(jobs().jobs) if view.name == name))
            await press("t")
        await press("h", until=lambda: all(view.phase is Phase.HELD for view in jobs().chosen(app.board.jobs)))
        await press("r", until=lambda: not any(view.phase is Phase.HELD for view in jobs().chosen(app.board.jobs)))
        await press("escape", until=lambda: not jobs().marked)
        press.taken(7)

        # 9. Three jobs that wait for one, in the demo's chain; suppose that it fails.
        await press("3", "ctrl+o", "enter", until=lambda: press.seen("#chain-head", "rehearsed"))
        await press("down")
        for name in ("one", "two", "six"):
            await press("a", *f"{name} true", "enter", until=press.note(f"{name} was added after"))
        await press("X", until=lambda: press.seen("#graph", "if it fails"))
        press.taken(5 + 3 * 10)

        # 10. What did the account's people use last month? As a table, and as a report.
        await press(
            "6",
            "slash",
            *"last month",
            "enter",
            "down",
            "down",
            "enter",
            until=lambda: app.query_one("LedgerPlace").seen.account,
        )
        await press("ctrl+r", until=press.note("accounts.csv was written"))
        await press("ctrl+s", until=press.note(".pdf was written"))
        press.taken(18)
