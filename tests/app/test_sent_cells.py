"""Only cells that change are sent, and the terminal has what it should."""

import re
from importlib.util import module_from_spec, spec_from_file_location

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.console import Console
from rich.segment import Segment
from rich.style import Style
from textual import strip as strip_module
from textual._compositor import ChopsUpdate, LayoutUpdate
from textual.geometry import Region
from textual.strip import Strip

from lazy_quarry.app.textual_fixes.light_strips import lighten_strips
from lazy_quarry.app.textual_fixes.sent_cells import SentCells

WIDTH, HEIGHT = 12, 4
STYLES = [
    Style(color="red"), Style(bold=True), Style(), Style(color="blue", bgcolor="red"), Style(bgcolor="red", underline=True),
    Style(bold=True, reverse=True), Style(color="blue"), Style(color="blue", underline=True),
]  # fmt: skip
SIGNS = st.sampled_from(["a", "b", " ", "│", "▆", "世"])


@st.composite
def lines(draw):
    """A line of just this width, in pieces of different styles."""
    segments, width = [], 0
    while width < WIDTH:
        sign = draw(SIGNS)
        if width + cell_len(sign) > WIDTH:
            sign = " "
        segments.append(Segment(sign, draw(st.sampled_from(STYLES))))
        width += cell_len(sign)
    return Strip(segments)


CONSOLE = Console(color_system="truecolor", force_terminal=True)


def look(sign, style):
    """The visible part of a cell: of an empty one its ground alone."""
    style = style or Style()
    ground = style.bgcolor.name if style.bgcolor else ""
    if sign == " " and not (style.underline or style.reverse):
        return sign, "", "", ground
    flags = "".join(name[0] for name in ("bold", "underline", "reverse") if getattr(style, name))
    return sign, flags, style.color.name if style.color else "", ground


class Terminal:
    """A terminal (ECMA-48) as far as cells, colours and attributes go."""

    def __init__(self):
        self.cells = [[look(" ", None)] * WIDTH for _ in range(HEIGHT)]

    def take(self, update):
        """Do what is sent; how many signs that were."""
        text, sent = update.render_segments(CONSOLE), 0
        x = y = 0
        style = Style()
        for move, codes, signs in re.findall(r"\x1b\[([\d;]+)H|\x1b\[([\d;]*)m|([^\x1b]+)", text):
            if move:
                y, x = (int(part) - 1 for part in move.split(";"))
            elif codes:
                for code in codes.split(";"):
                    style = Style() if code == "0" else style + CODES[code]
            for sign in signs:
                self.cells[y][x] = look(sign, style)
                if cell_len(sign) == 2:
                    self.cells[y][x + 1] = "", *self.cells[y][x][1:]
                sent, x = sent + 1, x + cell_len(sign)
        assert as_seen([[look("x", style)]]) == [[("x", "", "", "")]]  # whoever writes next begins plain
        return sent


CODES = {
    "1": Style(bold=True), "4": Style(underline=True), "7": Style(reverse=True), "31": Style(color="red"),
    "34": Style(color="blue"), "41": Style(bgcolor="red"), "39": Style(color="default"), "49": Style(bgcolor="default"),
}  # fmt: skip


def cells_of(strip):
    found = []
    for text, style, _ in strip:
        for sign in text:
            seen = look(sign, style)
            found += [seen, ("", *seen[1:])][: cell_len(sign)]
    return found


def as_seen(cells):
    """The same with colours left out that are the terminal's own."""
    return [[tuple("" if one == "default" else one for one in cell) for cell in line] for line in cells]


@given(
    st.lists(
        st.tuples(st.lists(lines(), min_size=HEIGHT, max_size=HEIGHT), st.sampled_from(["all", "spans", "other"])),
        min_size=1,
        max_size=6,
    )
)
def test_after_every_update_the_terminal_has_just_what_it_should(frames):
    sent, terminal, shown = SentCells(), Terminal(), None
    for frame, how in frames:
        if how == "all" or shown is None:
            update = LayoutUpdate([[strip] for strip in frame], Region(0, 0, WIDTH, HEIGHT))
        else:
            if how == "other":
                sent.forget()
            spans = [(y, 0, WIDTH) for y in range(HEIGHT)]
            update = ChopsUpdate([{0: strip} for strip in frame], spans, [[WIDTH]] * HEIGHT)
        terminal.take(sent.narrowed(update, (WIDTH, HEIGHT)))
        shown = frame
        assert as_seen(terminal.cells) == as_seen([cells_of(strip) for strip in frame])
        again = LayoutUpdate([[strip] for strip in frame], Region(0, 0, WIDTH, HEIGHT))
        assert terminal.take(sent.narrowed(again, (WIDTH, HEIGHT))) == 0


def test_a_clock_in_a_line_costs_its_cells():
    sent = SentCells()

    def frame(words):
        return LayoutUpdate([[Strip([Segment(words, STYLES[0])])]], Region(0, 0, WIDTH, 1))

    sent.narrowed(frame("it is 12:07:"), (WIDTH, 1))
    [(x, y, strip)] = sent.narrowed(frame("it is 12:08:"), (WIDTH, 1)).runs
    assert (x, y, strip.text) == (10, 0, "8")
    assert len(sent.narrowed(frame("it is 12:08:"), (WIDTH + 1, 1)).runs) == 1  # of another size nothing is known


def test_only_the_changed_span_of_a_line_is_compared():
    sent = SentCells()
    first = Strip([Segment("abcdefghijkl", STYLES[0])])
    sent.narrowed(LayoutUpdate([[first]], Region(0, 0, WIDTH, 1)), (WIDTH, 1))
    other = ChopsUpdate(
        [{0: Strip([Segment("ABCDEF", STYLES[0])]), 6: Strip([Segment("GHIJKL", STYLES[0])])}], [(0, 4, 8)], [[6, 12]]
    )
    runs = sent.narrowed(other, (WIDTH, 1)).runs
    assert [(x, strip.text) for x, _, strip in runs] == [(4, "EF"), (6, "GH")]


def test_lines_that_begin_without_stores_are_those_of_textual():
    def all_of(strip):
        line = strip([Segment("a世", STYLES[0]), Segment("│ b", STYLES[4])])
        asked = (
            lambda: line.crop(1, 4), lambda: line.divide([2, 5])[1], lambda: line.apply_style(STYLES[1]),
            lambda: line.adjust_cell_length(9), lambda: line.crop_extend(0, 8, STYLES[2]), lambda: line.apply_offsets(1, 2),
        )  # fmt: skip
        assert all(ask() is ask() for ask in asked), "what was worked out is kept"
        return [list(ask()) for ask in asked] + [line.cell_length, line.text, line.link_ids, line.render(Console())]

    bare = module_from_spec(found := spec_from_file_location("bare_strip", strip_module.__file__))
    found.loader.exec_module(bare)
    lighten_strips()
    assert all_of(Strip) == all_of(bare.Strip)
    with pytest.raises(AttributeError):
        Strip([]).nothing_of_that_name  # noqa: B018
