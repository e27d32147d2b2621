"""Dialogs end once and by themselves, whatever lies over them and whatever keys come."""

import os
import random
import time

import pytest

from lazy_quarry.app.review.output import OutputReading
from lazy_quarry.app.shared.dialog import Dialog
from lazy_quarry.app.shared.figure_pane import FigurePane
from lazy_quarry.app.shared.finder import Finder
from lazy_quarry.app.shared.key_help import Help
from lazy_quarry.app.shared.question import Question
from lazy_quarry.app.shared.run_again import RunAgain
from tests.app.support import demo, press, settled, wait_for
from tests.conftest import SEEDS

KEYS = [
    *"abcdefghijklmnoprstuvwxyzABDEFLMNPRSTUWZ?/0123456789 +-<>.,[]",
    *(
        [
            "up",
            "down",
            "left",
            "right",
            "enter",
            "escape",
            "tab",
            "shift+tab",
            "home",
            "end",
            "pageup",
            "pagedown",
            "delete",
            "backspace",
            "shift+up",
            "shift+down",
        ]
    ),
    *(f"alt+{number}" for number in range(1, 7)),
    *(
        [
            "ctrl+p",
            "ctrl+e",
            "ctrl+r",
            "ctrl+s",
            "ctrl+z",
            "ctrl+o",
            "ctrl+t",
            "ctrl+l",
            "f1",
            "f2",
            "f3",
            "f5",
            "f6",
            "f7",
            "f8",
            "f9",
        ]
    ),
]
"""Without the keys that end the application, a shell and $EDITOR; ctrl+g submits at once, as it says."""
COSTLY = (
    "again",
    "submit",
    "cancel",
    "grant",
    "move",
    "members",
    "remove_made",
    "try_one",
    "cancel_chain",
    "continue_chain",
    "post",
)
LONG_S = float(os.environ.get("LQ_LONG_KEYS_S", "0"))
"""Seconds of keys, where a person asks for more: LQ_LONG_KEYS_S=600 make test."""


async def test_a_dialog_that_a_worker_ends_while_another_lies_over_it_ends_when_that_has_gone(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        told = []
        await wait_for(pilot, lambda: app.focused is not None)
        app.push_screen(Question("Below?", yes="Yes", no="No"), told.append)
        await wait_for(pilot, lambda: isinstance(app.screen, Question))
        below = app.screen
        app.push_screen(Finder([]))
        await wait_for(pilot, lambda: isinstance(app.screen, Finder))
        below.finish(True)
        below.finish(False)
        await settled(pilot)
        assert isinstance(app.screen, Finder) and not told
        await press(pilot, "escape")
        await wait_for(pilot, lambda: not isinstance(app.screen, Dialog))
        assert told == [True]
        below.finish(False)  # it has ended
        await settled(pilot)
        assert told == [True] and app.is_running


async def test_the_palette_opens_over_no_dialog_but_takes_the_place_of_the_list_of_keys(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await wait_for(pilot, lambda: app.focused is not None and app.focused.id == "nodes")
        await press(pilot, "ctrl+e")
        await wait_for(pilot, lambda: isinstance(app.screen, FigurePane))
        await press(pilot, "ctrl+p")
        await settled(pilot)
        assert isinstance(app.screen, FigurePane)
        await press(pilot, "escape")
        await wait_for(pilot, lambda: not isinstance(app.screen, Dialog))
        await press(pilot, "?")
        await wait_for(pilot, lambda: isinstance(app.screen, Help))
        app.action_find_action()
        await wait_for(pilot, lambda: isinstance(app.screen, Finder))
        await press(pilot, "escape")
        await wait_for(pilot, lambda: len(app.screen_stack) == 1)


@pytest.mark.parametrize("seed", range(SEEDS))
async def test_whatever_keys_are_pressed_nothing_is_stuck_raises_or_costs_anything_unasked(tmp_path, seed, monkeypatch):
    """Nothing that costs is called but by an answer: here every dialog that asks is answered with its safe answer."""
    chance, end = random.Random(seed), time.monotonic() + LONG_S
    asked, unasked = [], []
    async with demo(tmp_path) as (app, pilot):
        app.folder = tmp_path
        await wait_for(pilot, lambda: app.focused is not None)
        for name in COSTLY:
            monkeypatch.setattr(
                app.client, name, lambda *given, name=name: unasked.append((name, given)), raising=False
            )
        monkeypatch.setattr(
            Question, "finish", lambda self, result=None: asked.append(self) or Dialog.finish(self, False)
        )
        monkeypatch.setattr(
            RunAgain, "finish", lambda self, result=None: asked.append(self) or Dialog.finish(self, None)
        )
        monkeypatch.setattr(OutputReading, "outside", lambda self, variable: None)
        rounds = 0
        while rounds < 1 or time.monotonic() < end:
            rounds += 1
            for place in chance.sample("123456", 6):
                await press(pilot, f"alt+{place}")
                for _ in range(25):
                    await pilot.press(chance.choice(KEYS))
            for _ in range(12):
                await pilot.press("escape")
                await settled(pilot)
            await wait_for(pilot, lambda: app.is_running and not isinstance(app.screen, Dialog))
            assert not unasked, (seed, unasked)
