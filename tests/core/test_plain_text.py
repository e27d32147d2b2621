"""Text from outside on a terminal: nothing acts on it, and signs of ours have plain ones as wide."""

from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.segment import Segment
from textual.color import Color

from lazy_quarry.app.shared.theme import SIXTEEN
from lazy_quarry.app.textual_fixes.plain_line import PlainLine
from lazy_quarry.core.job.phase import SIGNS
from lazy_quarry.core.plain_text import MOVING, displayed, in_plain_signs, plain, shortened

SOURCE = Path(__file__).parents[2] / "src" / "lazy_quarry"


@given(st.text(st.characters(codec=None), max_size=80))
def test_nothing_that_is_shown_acts_on_a_terminal(text):
    assert not MOVING.search(plain(text)) and plain(plain(text)) == plain(text)
    assert not MOVING.search(displayed(text).replace("\n", "").replace("\t", ""))
    assert len(shortened(text, 20)) <= 20 * 10 and "\n" not in shortened(text)
    drawn = PlainLine().apply([Segment(text)], Color.parse("black"))
    assert not MOVING.search("".join(segment.text for segment in drawn))


def test_colours_of_a_program_are_left_out_and_all_else_is_shown():
    assert displayed("\x1b[1;31mred\x1b[0m\r\nnext\x1b]0;title\x07") == "red\nnext\\x1b]0;title\\x07"


def test_every_sign_that_is_drawn_has_a_plain_one_as_wide_and_states_stay_apart():
    drawn = {sign for path in SOURCE.glob("app/**/*.py") for sign in path.read_text() if not sign.isascii()}
    drawn |= set(SIGNS.values())
    for sign in drawn:
        assert in_plain_signs(sign).isascii(), sign
        assert cell_len(in_plain_signs(sign)) == cell_len(sign), sign
    assert len({in_plain_signs(sign) for sign in SIGNS.values()}) == len(SIGNS)
    assert PlainLine(signs=True).apply([Segment("▰ 3 × 4")], Color.parse("black")) == [Segment("> 3 x 4")]


def test_sixteen_colours_keep_meanings_apart():
    roles = ("ochre", "moss", "rust", "river", "heather", "ink", "faint", "ground", "raised")
    assert len({getattr(SIXTEEN, role) for role in roles}) == len(roles)
