"""CSV (RFC 4180) that neither a terminal nor a spreadsheet takes for more than text.

Controls in a cell are written as escapes. A text that a spreadsheet would take for a formula, since it begins with ``=``, ``+``,
``-``, ``@``, a tab or a line end and is no number, has an apostrophe before it.
"""

import csv
import io
import re
from collections.abc import Iterable, Iterator

from lazy_quarry.core.plain_text import plain

_NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?")
_FORMULA = ("=", "+", "-", "@", "\t", "\r", "\n")
_PIECE = 1 << 16


def csv_text(rows: Iterable[Iterable[object]]) -> str:
    """Rows as one text."""
    return "".join(csv_pieces(rows))


def csv_pieces(rows: Iterable[Iterable[object]]) -> Iterator[str]:
    """Rows, a piece of whole lines at a time."""
    out = io.StringIO()
    writer = csv.writer(out)
    for row in rows:
        writer.writerow([safe_cell(cell) for cell in row])
        if out.tell() > _PIECE:
            yield out.getvalue()
            out.seek(0)
            out.truncate()
    yield out.getvalue()


def safe_cell(cell: object) -> object:
    """The written form of a value: numbers and nothing as they are, all else as a text that does nothing."""
    if cell is None or isinstance(cell, int | float):
        return cell
    text = str(cell)
    told = plain(text)
    return f"'{told}" if text.startswith(_FORMULA) and not _NUMBER.fullmatch(text) else told
