"""Driving the application: the demo with its clock standing, and what is drawn on it."""

import asyncio
import os
import threading
import time
import traceback
from contextlib import asynccontextmanager

import pytest

from lazy_quarry.app import app as application
from lazy_quarry.app.open_site import demo_app
from lazy_quarry.files import given, ours
from lazy_quarry.site import foresight, supposed_jobs
from lazy_quarry.site.searches import Searches
from tests.conftest import quickly

PATIENCE_S = 30.0


@asynccontextmanager
async def demo(folder, size=(160, 47), ranges=False):
    """The application on the demo, its past made and its clock standing, with the pilot; with or without ranges of starts."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("LQ_STATE", str(folder))
        for module in (foresight, supposed_jobs):
            patch.setattr(module, "DRAWS", 2)  # for ranges that only stand there
        if not ranges:
            patch.setattr(foresight.Foresight, "start", lambda self: None)
        patch.setattr(Searches, "keep_up", lambda self: None)  # a search puts what is missing into the index itself
        patch.setattr(
            application, "SAY_S", 60.0
        )  # where processors are busy, a sentence could go before it is looked at
        app = demo_app(1, True, 7, past_days=3)
        touched = touched_by_loop(app, patch)
        async with app.run_test(size=size) as pilot:
            await wait_for(pilot, lambda: app.board is not None and app.query("Place"))
            if ranges:
                quickly(app.client.rehearsed)
            await wait_for(pilot, lambda: any(line.jobs > 60 and not line.adding_up for line in app.board.accounts))
            await settled(pilot)
            yield app, pilot
            assert not touched, f"the application's own loop waited for a disk: {touched[0]}"


def touched_by_loop(app, patch):
    """Where the application's own loop opened a file, or waited until one was on the disk."""
    found = []

    def watched(module, name):
        real = getattr(module, name)

        def seen(*arguments, **named):
            if threading.get_ident() == app._thread_id:
                found.append("".join(traceback.format_stack(limit=8)))
            return real(*arguments, **named)

        patch.setattr(module, name, seen)

    for module, name in ((given, "opened"), (ours, "opened"), (os, "fsync")):
        watched(module, name)
    return found


async def wait_for(pilot, condition):
    """Wait for a condition, never for a time."""
    end = time.monotonic() + PATIENCE_S
    while time.monotonic() < end:
        await asyncio.sleep(
            0.02
        )  # asking every widget each time, as a pause does, would take the processor from what is waited for
        if condition():
            await pilot.pause(0)
            if condition():
                return
    raise AssertionError("it never came: " + pilot.app.query_one("NoteBar").text)


async def settled(pilot):
    """All that was on its way has been drawn."""
    app = pilot.app
    await wait_for(
        pilot,
        lambda: (
            app.shelf.kept.aside.idle and all(worker.is_finished for worker in app.workers if worker.group != "follow")
        ),
    )


async def press(pilot, *keys):
    await pilot.press(*keys)


def drawn(widget):
    """The text that a drawn widget shows."""
    lines = []
    for row in range(widget.size.height):
        lines.append("".join(segment.text for segment in widget.render_line(row)).rstrip())
    return "\n".join(lines)


def text_of(app, selector):
    return drawn(app.query_one(selector))


async def to_draft(app, pilot):
    """Go to Draft, and wait until keys arrive there."""
    await press(pilot, "2")
    await wait_for(pilot, lambda: app.focused is not None and app.focused.id in ("beginnings", "editor"))
