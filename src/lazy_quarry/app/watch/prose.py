"""Lines that are read and scrolled; among them why a job waits."""

from collections.abc import Iterator
from datetime import tzinfo

from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.cells import Pen, wrap
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.wording.sentences import ordinal, sooner_words, standing_words, start_words


class Prose(Rows):
    """Lines that are read and scrolled."""

    DEFAULT_CSS = "Prose { height: 1fr; }"
    has_cursor = False

    def __init__(self, *, id: str) -> None:
        super().__init__(id=id)
        self.lines: list[tuple[str, str]] = []
        self._of = 0
        """The job whose output was put here last."""

    def row_count(self) -> int:
        """All lines."""
        return len(self.lines)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """A line in its colour."""
        text, colour = self.lines[row]
        pen.write(f"   {text}", colour)

    def put(self, lines: list[tuple[str, str]]) -> None:
        """Other lines."""
        self.lines = lines
        self.refit()

    def follow(self, job: int, lines: list[tuple[str, str]]) -> None:
        """Follow what a job printed: its end is in sight and stays there, unless somebody has scrolled away from it."""
        at_end = job != self._of or self.scroll_offset.y >= len(self.lines) - self.size.height
        self._of = job
        self.put(lines)
        if at_end:
            self.call_after_refresh(self._to_end)

    def _to_end(self) -> None:
        # forced, for as long as no scrollbar shows a scroll is left out
        self.scroll_to(y=max(0, len(self.lines) - self.size.height), animate=False, force=True)


def why_prose(detail: JobDetail, width: int, now_ms: int, zone: tzinfo) -> Iterator[tuple[str, str]]:
    """Say what a job waits for, when it likely starts, what would be sooner, its standing: lines with their colours."""
    told = detail.explained
    words = detail.why or detail.verdict or "it waits for nothing"
    for line in wrap(f"{words[:1].upper()}{words[1:]}", width - 6, 4):
        yield line, "ink"
    if told is None:
        return
    if start := start_words(detail.view, now_ms, zone):
        yield f"Likely it starts {start}.", "river"
    sooner = list(sooner_words(detail.view, told.changes, now_ms, zone))
    for _, words in sooner:
        for line in wrap(f"→ {words}", width - 6, 2):
            yield line, "moss"
    if sooner:
        yield f"  {key_of('change')} changes the request to one of these", "dim"
    if told.place is None:
        return
    yield "", "ink"
    yield f"{ordinal(told.place)} in the queue; {standing_words(told.parts)}", "ink"
    for one in told.ahead:
        for line in wrap(one.words, width - 6, 2):
            yield line, "dim"
