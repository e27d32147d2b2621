"""The cells that the terminal has: only cells that are to look different are sent to it, over a slow line as over a quick one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import lru_cache
from typing import Any

from rich.cells import get_character_cell_size
from rich.color import ColorSystem
from rich.console import Console, RenderableType
from rich.control import Control
from rich.segment import Segment
from rich.style import Style
from textual._compositor import ChopsUpdate, CompositorUpdate, LayoutUpdate
from textual.app import App
from textual.screen import Screen
from textual.strip import Strip

Cell = tuple[str, Style | None]
"""A sign and its style; the second cell of a wide sign is empty."""
GAP = 4
"""Cells between two changes that are sent all the same: to move the cursor costs as much."""


_Look = tuple[str, str, str]
"""Attributes, ink and ground of a cell, as parameters of SGR (ECMA-48)."""
_PLAIN: _Look = ("", "39", "49")
_ATTRIBUTES = (
    ("bold", "1"),
    ("dim", "2"),
    ("italic", "3"),
    ("underline", "4"),
    ("blink", "5"),
    ("reverse", "7"),
    ("strike", "9"),
)


@lru_cache(maxsize=4096)
def _codes(style: Style, system: ColorSystem) -> _Look:
    attributes = ";".join(code for name, code in _ATTRIBUTES if getattr(style, name))
    ink = ";".join(style.color.downgrade(system).get_ansi_codes(True)) if style.color else "39"
    ground = ";".join(style.bgcolor.downgrade(system).get_ansi_codes(False)) if style.bgcolor else "49"
    return attributes, ink, ground


def _step(before: _Look, now: _Look) -> str:
    """From one look to another. Attributes are only added to; to lose one, all are set anew."""
    if before[0] and before[0] != now[0]:
        codes = ["0", *(code for code, plain in zip(now, _PLAIN, strict=True) if code != plain)]
    else:
        codes = [code for code, old in zip(now, before, strict=True) if code != old]
    return f"\x1b[{';'.join(codes)}m"


def _blank(cell: Cell) -> bool:
    """True when nothing of a cell is seen but its ground."""
    style = cell[1]
    return cell[0] == " " and not (style is not None and (style.underline or style.reverse or style.strike))


def _same(one: Cell | None, other: Cell) -> bool:
    """True when two cells look alike: the ink of an empty one isn't seen."""
    if one == other:
        return True
    if one is None or not (_blank(one) and _blank(other)):
        return False
    return (one[1].bgcolor if one[1] else None) == (other[1].bgcolor if other[1] else None)


class CellsUpdate(CompositorUpdate):
    """Runs of cells, each from its place on."""

    def __init__(self, runs: list[tuple[int, int, Strip]]) -> None:
        self.runs = runs

    def render_segments(self, console: Console) -> str:
        """The control sequences (ECMA-48) and signs; of a style only what is another than before."""
        system = console._color_system
        parts, before = list[str](), _PLAIN
        for x, y, strip in self.runs:
            parts.append(Control.move_to(x, y).segment.text)
            for text, style, _ in strip:
                now = _PLAIN if style is None or system is None else _codes(style, system)
                if now != before:
                    parts.append(_step(before, now))
                    before = now
                parts.append(text)
        if before != _PLAIN:
            parts.append("\x1b[0m")
        return "".join(parts)


class SentCells:
    """The cells of the terminal as they were sent, as far as that is known."""

    def __init__(self) -> None:
        self._lines: dict[int, dict[int, Cell]] = {}
        self._size = (0, 0)

    def forget(self) -> None:
        """Somebody else may have written on the terminal, or its size has changed."""
        self._lines.clear()

    def narrowed(self, update: CompositorUpdate, size: tuple[int, int]) -> CompositorUpdate:
        """An update with just the cells that differ from what the terminal has, which are then taken as sent."""
        if size != self._size:
            self.forget()
            self._size = size
        if isinstance(update, ChopsUpdate):
            pieces = _chops(update)
        elif isinstance(update, LayoutUpdate):
            pieces = _layout(update)
        else:
            self.forget()
            return update
        runs = list[tuple[int, int, Strip]]()
        for y, x, cells in pieces:
            known = self._lines.setdefault(y, {})
            for first, last in _changed(known, x, cells):
                begin, end = _whole(cells, *_with_neighbours(known, x, len(cells), first, last))
                runs.append((x + begin, y, _strip(cells[begin:end])))
            known.update(enumerate(cells, x))
        return CellsUpdate(runs)


def _chops(update: ChopsUpdate) -> Iterator[tuple[int, int, list[Cell]]]:
    """(line, cell, cells) of what an update of some spans is to send."""
    for y, begin, end in update.spans:
        for stop, (x, strip) in zip(update.chop_ends[y], update.chops[y].items(), strict=False):
            if strip is not None and x < end and stop > begin:
                cells = _cells(strip)
                yield y, max(x, begin), cells[max(0, begin - x) : max(0, min(stop, end) - x)]


def _layout(update: LayoutUpdate) -> Iterator[tuple[int, int, list[Cell]]]:
    """The same of an update of a whole region."""
    for y, line in enumerate(update.strips, update.region.y):
        cells = list[Cell]()
        for strip in line:
            cells += _cells(strip)
        yield y, update.region.x, cells


def _cells(segments: Iterable[Segment]) -> list[Cell]:
    cells = list[Cell]()
    for text, style, control in segments:
        if control:
            continue
        if text.isascii():
            cells += [(sign, style) for sign in text]
            continue
        for sign in text:
            width = get_character_cell_size(sign)
            if width:
                cells.append((sign, style))
                cells += [("", style)] * (width - 1)
            elif cells:  # it belongs to the sign before
                cells[-1] = cells[-1][0] + sign, cells[-1][1]
    return cells


def _changed(known: dict[int, Cell], x: int, cells: list[Cell]) -> Iterator[tuple[int, int]]:
    """From which cell to which they differ."""
    begin = end = -1
    for at, cell in enumerate(cells, x):
        if _same(known.get(at), cell):
            continue
        if begin >= 0 and at - end > GAP:
            yield begin, end
            begin = -1
        begin = at if begin < 0 else begin
        end = at + 1
    if begin >= 0:
        yield begin, end


def _with_neighbours(known: dict[int, Cell], x: int, count: int, first: int, last: int) -> tuple[int, int]:
    """The run, with the cells beside it where a drawn sign goes: fonts let blocks and lines reach a little into these."""
    begin, end = first - x, last - x
    if begin > 0 and not known.get(first, (" ", None))[0].isascii():
        begin -= 1
    if end < count and not known.get(last - 1, (" ", None))[0].isascii():
        end += 1
    return begin, end


def _whole(cells: list[Cell], begin: int, end: int) -> tuple[int, int]:
    """A run that neither begins nor ends within a wide sign; counted from the first of these cells."""
    while begin > 0 and not cells[begin][0]:
        begin -= 1
    while end < len(cells) and not cells[end][0]:
        end += 1
    return begin, end


def _strip(cells: list[Cell]) -> Strip:
    """Neighbours of one style together."""
    segments = list[Segment]()
    for sign, style in cells:
        last = segments[-1] if segments else None
        if last is not None and (last.style is style or _same((" ", last.style), (sign, style))):
            segments[-1] = Segment(last.text + sign, last.style)
        else:
            segments.append(Segment(sign, style))
    return Strip(segments)


class SendingApp(App[None]):
    """An application that sends a terminal only what is to look different there."""

    def __init__(self) -> None:
        super().__init__()
        self._sent = SentCells()
        self._cursor_sent = self.cursor_position

    def on_mount(self) -> None:
        """Whoever has the terminal meanwhile writes on it."""
        self.app_resume_signal.subscribe(self, lambda _: self.action_draw_again())

    def on_app_focus(self) -> None:
        """Somebody comes back to the terminal: what stands there may be of somebody else."""
        self.action_draw_again()

    def action_draw_again(self) -> None:
        """Send all cells once more."""
        self._sent.forget()
        self.refresh(layout=True)

    def _display(self, screen: Screen[Any], renderable: RenderableType | None) -> None:
        """Send an update, narrowed to what changes."""
        written = (
            self._running and not (self._closed or self._batch_count or self.is_headless) and self._driver is not None
        )
        if written and isinstance(renderable, CompositorUpdate):
            renderable = self._sent.narrowed(renderable, (self.size.width, self.size.height))
            if (
                isinstance(renderable, CellsUpdate)
                and not renderable.runs
                and self.cursor_position == self._cursor_sent
            ):
                return
            self._cursor_sent = self.cursor_position
        super()._display(screen, renderable)
