"""Promises of every place: words can be read, a question keeps the keys, all keys are a key away, no colour where none is wanted."""

import threading
from functools import partial
from itertools import pairwise

import pytest
from rich.segment import Segment
from rich.style import Style
from textual.color import Color

from lazy_quarry.app.ledger.amount_scale import AmountScale
from lazy_quarry.app.shared.cells import FILLS, Pen
from lazy_quarry.app.shared.frame import PLACES, NoteBar
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.shared.theme import CHALK, DUSK, SIXTEEN
from lazy_quarry.app.textual_fixes.no_colour import NoColour, rgb_of
from lazy_quarry.app.watch.prose import Prose
from lazy_quarry.core.units import HOUR_MS
from tests.app.support import PATIENCE_S, demo, drawn, press, settled, to_draft, wait_for

WORDS = ("ink", "dim", "ochre", "moss", "rust", "river", "heather")


def luminance(colour):
    parts = [part / 255 for part in rgb_of(colour)]
    red, green, blue = (part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4 for part in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def contrast(one, other):
    """WCAG 2, relative luminances."""
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("palette", [DUSK, CHALK])
@pytest.mark.parametrize("role", WORDS)
def test_words_have_a_contrast_of_four_and_a_half_on_both_grounds(palette, role):
    assert min(contrast(getattr(palette, role), ground) for ground in (palette.ground, palette.raised)) >= 4.5
    assert contrast(palette.ground, palette.ochre) >= 4.5  # what is under the cursor


@pytest.mark.parametrize("palette", [DUSK, CHALK, SIXTEEN])
def test_colours_of_fills_are_never_those_of_words(palette):
    for role in FILLS:
        styles = [
            style for text, style in Pen(palette).write("hours 12", role).cell("scale", 9, role).pieces if text.strip()
        ]
        assert {style.color.name for style in styles} == {palette.dim}
        assert Pen(palette).write("░─·┊", role).pieces[0][1].color.name == getattr(palette, role)


def test_without_colour_no_line_sets_one_and_the_cursor_is_reversed():
    plain = NoColour(frozenset(map(rgb_of, (DUSK.ground, DUSK.raised))))
    line = [
        Segment("a", DUSK.style("rust")),
        Segment("b", DUSK.style("ground", "ochre", True)),
        Segment("c", None),
        Segment("d", Style(reverse=True)),
    ]
    styles = [style for _, style, _ in plain.apply(line, Color.parse("black"))]
    assert [bool(style and style.reverse) for style in styles] == [False, True, False, True] and styles[1].bold
    assert not any(style and (style.color or style.bgcolor) for style in styles)


@pytest.mark.parametrize("size", [(160, 47), (100, 30)])
async def test_all_keys_are_among_the_keys_in_every_place_at_every_width(tmp_path, size):
    async with demo(tmp_path, size) as (app, pilot):
        for place in PLACES:
            await app.action_go(place)
            await settled(pilot)
            assert drawn(app.query_one(NoteBar)).splitlines()[-1].rstrip().endswith("? all keys"), place


async def test_a_question_keeps_the_keys(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "4")
        await wait_for(pilot, lambda: app.query("#jobs"))
        app.ask("Cancel it?", lambda: None, yes="Cancel", no="Keep")
        await wait_for(pilot, lambda: app.screen.query("#question"))
        theme = app.theme
        await press(pilot, "alt+6", "6", "ctrl+t", "ctrl+p", "ctrl+e", "³", "question_mark")
        assert (app.place, app.theme) == ("watch", theme) and app.screen.query("#question")
        await press(pilot, "escape")
        await wait_for(pilot, lambda: not app.screen.query("#question"))
        await press(pilot, "alt+6")
        await wait_for(pilot, lambda: app.place == "ledger")


async def test_alt_and_a_digit_with_its_eighth_bit_set_goes_to_a_place_only_where_nothing_is_typed(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        await press(pilot, "³")
        await wait_for(pilot, lambda: app.place == "chain")
        await to_draft(app, pilot)
        await press(pilot, "enter")
        await wait_for(pilot, lambda: app.focused is not None and app.focused.id == "editor")
        await press(pilot, "²")
        assert app.place == "draft" and "²" in app.query_one("#editor").text


async def test_the_end_of_an_output_is_in_sight_and_stays_there(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        lines = Prose(id="printed")
        lines.styles.height = 11
        await app.screen.mount(lines, before=0)
        lines.follow(1, [(f"line {number}", "ink") for number in range(300)])
        await wait_for(pilot, lambda: "line 299" in drawn(lines))
        lines.follow(1, [(f"line {number}", "ink") for number in range(320)])
        await wait_for(pilot, lambda: "line 319" in drawn(lines))
        lines.scroll_to(y=10, animate=False, force=True)
        await settled(pilot)
        lines.follow(1, [(f"line {number}", "ink") for number in range(340)])
        await settled(pilot)
        assert "line 12" in drawn(lines) and "line 339" not in drawn(lines)
        lines.follow(2, [(f"line {number}", "ink") for number in range(200)])  # another job's
        await wait_for(pilot, lambda: "line 199" in drawn(lines))


@pytest.mark.parametrize("tall", [3, 7, 12, 31])
@pytest.mark.parametrize("most", [0, 1, 950 * HOUR_MS, 3_333 * HOUR_MS, 100_000 * HOUR_MS])
def test_scales_have_round_steps_at_even_distances(most, tall):
    scale = AmountScale.of(most, tall)
    marks = [row for row in range(1, tall + 1) if scale.mark(row)]
    assert marks and len({after - before for before, after in pairwise(marks)}) <= 1
    assert scale.edge(marks[-1]) >= most * 0.999
    digits = f"{scale.step / HOUR_MS:.6e}".split("e")[0].rstrip("0").rstrip(".")
    assert digits in ("1", "2", "2.5", "4", "5", "8")


async def test_what_a_reading_finds_is_never_shown_after_what_a_later_one_found(tmp_path):
    async with demo(tmp_path) as (app, pilot):
        found, place = [], app.query(Place).first()
        began, goes_on, ended = ({name: threading.Event() for name in "abcde"} for _ in range(3))

        def work(name):
            began[name].set()
            goes_on[name].wait(PATIENCE_S)
            app.hand_over(found.append, name)
            ended[name].set()

        for name in "abcde":
            acts = name in "de"  # these don't replace one another, and are told whenever they are done
            place.run_worker(partial(work, name), thread=True, exclusive=not acts, group="acts" if acts else "reading")
            await wait_for(pilot, began[name].is_set)
        for name in "baced":
            goes_on[name].set()
            await wait_for(pilot, ended[name].is_set)
        assert found == ["b", "c", "e", "d"]
