"""CSV that does nothing, to a terminal or in a spreadsheet, and loses nothing of plain values."""

import csv
import io
import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.formats.csv_rows import csv_text, safe_cell

CELLS = st.one_of(
    st.text(),
    st.integers(),
    st.floats(allow_nan=False),
    st.none(),
    st.sampled_from(["=1+1", "-x", "+a", "@b", "\x1b[2J", "-0.5", "1e-3"]),
)


@given(st.lists(st.lists(CELLS, min_size=1, max_size=4), max_size=5))
def test_no_cell_is_a_control_or_a_formula(rows):
    text = csv_text(rows)
    for sign in text:
        assert unicodedata.category(sign) != "Cc" or sign in "\r\n"
    read = list(csv.reader(io.StringIO(text)))
    assert len(read) == len(rows)
    for line, row in zip(read, rows, strict=True):
        assert len(line) == len(row)
        for told, cell in zip(line, row, strict=True):
            if told[:1] in tuple("=+-@") and told:
                float(told)
            if isinstance(cell, str) and cell.isascii() and cell.isprintable() and cell[:1] not in tuple("=+-@'"):
                assert told == cell


@pytest.mark.parametrize(
    "cell, told",
    [
        ("-0.5", "-0.5"),
        ("+1e5", "+1e5"),
        ("-", "'-"),
        ("-x", "'-x"),
        ("=A1", "'=A1"),
        ("\tx", "'\\tx"),
        ("a\x1b[31m", "a\\x1b[31m"),
        (-3, -3),
        (None, None),
    ],
)
def test_a_number_stays_one_and_a_formula_is_text(cell, told):
    assert safe_cell(cell) == told
