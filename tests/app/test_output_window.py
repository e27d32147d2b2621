"""A window on a file of any size: whatever is read in whatever order, its lines are the file's."""

from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.app.review import output_window
from lazy_quarry.app.review.output_window import OutputWindow, find
from lazy_quarry.run.runner import OutputChunk

texts = st.lists(st.text("abc ", max_size=12), max_size=60).map("\n".join)


def piece(raw, begin, count):
    part = raw[begin : begin + count]
    return OutputChunk("f", part.decode(), begin + len(part), len(raw))


@given(texts, st.booleans(), st.integers(0, 300), st.integers(1, 40), st.lists(st.booleans(), max_size=20))
def test_line_numbers_are_those_of_the_file_wherever_it_was_opened(text, ended, begin, count, steps):
    raw = (text + "\n" if ended else text).encode()
    window, begin = OutputWindow(), min(begin, len(raw))
    window.put(begin, piece(raw, begin, count))
    for later in [*steps, *[True] * 900, *[False] * 900]:
        if later and not window.at_end:
            window.later(piece(raw, window.end, count))
        elif not later and window.begin:
            first = max(0, window.begin - count)
            window.earlier(first, piece(raw, first, count + 7))  # more than is wanted
        else:
            continue
        assert "\n".join(window.lines) in raw.decode()
    if len(raw) <= output_window.MOST_PIECES * count:
        assert (
            window.lines == raw.decode().removesuffix("\n").split("\n") or window.lines == raw.decode().split("\n")[:-1]
        )


@given(texts, st.integers(1, 50))
def test_the_first_line_that_is_wanted_is_found(text, count):
    raw, lines = text.encode(), text.split("\n")

    def found(wanted):
        return find(lambda at: piece(raw, at, count), lambda line: line == wanted, 0, lambda: False)

    for wanted in {"nowhere", *(line for line in lines[:3] if line)}:
        place = lines.index(wanted) if wanted in lines else None
        assert found(wanted) == (None if place is None else sum(len(line) + 1 for line in lines[:place]))
    assert find(lambda at: piece(raw, at, count), lambda line: True, 0, lambda: True) is None


def test_no_more_is_kept_than_is_needed(monkeypatch):
    monkeypatch.setattr(output_window, "MOST_PIECES", 3)
    raw = "".join(f"{number}\n" for number in range(100)).encode()
    window = OutputWindow()
    window.put(0, piece(raw, 0, 30))
    while not window.at_end:
        window.later(piece(raw, window.end, 30))
    assert window.lines[-1] == "99" and len(window.lines) < 40
    while window.begin:
        first = max(0, window.begin - 30)
        window.earlier(first, piece(raw, first, window.begin - first))
    assert window.lines[:3] == ["0", "1", "2"] and len(window.lines) < 60
