"""Only cells that change are sent, and the terminal has what it should."""

from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.segment import Segment
from rich.style import Style
from textual._compositor import ChopsUpdate, LayoutUpdate
from textual.geometry import Region
from textual.strip import Strip

from lazy_quarry.app.sent_cells import SentCells

WIDTH, HEIGHT = 12, 4
STYLES = [Style(color="red"), Style(bold=True), Style()]
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


class Terminal:
    """A terminal as far as cells go."""

    def __init__(self):
        self.cells = [[(" ", None)] * WIDTH for _ in range(HEIGHT)]

    def take(self, update):
        sent = 0
        for x, y, strip in update.runs:
            for text, style, _ in strip:
                for sign in text:
                    self.cells[y][x] = sign, style
                    sent += 1
                    if cell_len(sign) == 2:
                        self.cells[y][x + 1] = "", style
                    x += cell_len(sign)
        return sent


def cells_of(strip):
    found = []
    for text, style, _ in strip:
        for sign in text:
            found += [(sign, style), ("", style)][: cell_len(sign)]
    return found


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
        assert terminal.cells == [cells_of(strip) for strip in frame]
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


def test_of_a_part_that_is_drawn_only_its_span_is_looked_at():
    sent = SentCells()
    first = Strip([Segment("abcdefghijkl", STYLES[0])])
    sent.narrowed(LayoutUpdate([[first]], Region(0, 0, WIDTH, 1)), (WIDTH, 1))
    other = ChopsUpdate(
        [{0: Strip([Segment("ABCDEF", STYLES[0])]), 6: Strip([Segment("GHIJKL", STYLES[0])])}], [(0, 4, 8)], [[6, 12]]
    )
    runs = sent.narrowed(other, (WIDTH, 1)).runs
    assert [(x, strip.text) for x, _, strip in runs] == [(4, "EF"), (6, "GH")]
