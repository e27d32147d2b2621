"""A key press to the repainted Watch, a hundred thousand jobs against a hundred; and a refresh, and a letter of a search.

Counted is the processor's time of the thread that paints: a pilot waits between a key and the repainting for much longer
than either takes, and the demo's forecasts are drawn by another thread meanwhile, for up to a second at a time.
"""

import asyncio
import random
import tempfile
import time

from lazy_quarry.app.open_site import demo_app
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.values import replace


def board_of(board, count: int):
    """The demo's board with so many jobs, most of them waiting."""
    chance = random.Random(3)
    model = next(view for view in board.jobs if view.phase is Phase.WAITING)
    names = [f"{stem}-{number}" for stem in ("surge", "eel", "kelp", "silt") for number in range(50)]
    more = [
        replace(
            model,
            job=20_000 + number,
            label=str(20_000 + number),
            name=chance.choice(names),
            user=board.person.user,
            submitted_ms=board.now_ms - number * 1000,
            forecast_ms=board.now_ms + number * 60_000,
            forecast_end_ms=board.now_ms + number * 60_000 + 3_600_000,
        )
        for number in range(count)
    ]
    return replace(board, jobs=tuple(more))


async def timed(count: int) -> dict[str, float]:
    """Seconds of the quickest of several: a step of the cursor, a letter of a search, a refresh."""
    with tempfile.TemporaryDirectory() as folder:
        import os

        os.environ["LQ_STATE"] = folder
        app = demo_app(1, True, 7, past_days=1)
        async with app.run_test(size=(160, 47)) as pilot:
            while app.board is None or not app.query("Place"):
                await pilot.pause(0.05)
            await pilot.press("4")
            while not app.query("#jobs"):
                await pilot.pause(0.05)
            app._leaving.set()  # the demo's own boards stay away from here on
            await pilot.pause(0.7)
            place = app.query_one("#place-watch")
            place._learn = lambda: None
            board = board_of(app.board, count)
            place.prepare(board)
            place.show(board)
            await pilot.pause(0.2)
            taken: dict[str, float] = {}

            async def note(what: str, *keys: str) -> None:
                began = time.thread_time()
                await pilot.press(*keys)
                await pilot.pause()
                taken[what] = min(taken.get(what, 9.9), time.thread_time() - began)

            for _ in range(12):
                await note("step", "down")
            for _ in range(6):
                await note("page", "pagedown")
                await note("page", "pageup")
            await pilot.press("slash")
            await pilot.pause(0.5)
            for letter in ("e", "e", "l", "-", "1"):
                await note("letter", letter)
            await pilot.press("escape")
            for number in range(5):
                fresh = replace(board, now_ms=board.now_ms + number)
                place.prepare(fresh)
                began = time.thread_time()
                place.show(fresh)
                await pilot.pause()
                taken["refresh"] = min(taken.get("refresh", 9.9), time.thread_time() - began)
        os.environ.pop("LQ_STATE", None)
    return taken


def figures(best):
    few, many = asyncio.run(timed(100)), asyncio.run(timed(100_000))
    for what in ("step", "page", "letter", "refresh"):
        yield f"watch-{what}", many[what], "s", few[what], 1.5
