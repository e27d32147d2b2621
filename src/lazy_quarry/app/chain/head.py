"""The head of Chain: which chain, what was found in its file, when it is done."""

from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.core.units import clock_time, format_core_hours, plural
from lazy_quarry.views.chain_views import ChainReport, ChainView
from lazy_quarry.wording.sentences import all_done_words


class ChainHead(Lines):
    """Two lines above the list and the graph."""

    DEFAULT_CSS = "ChainHead { height: 3; }"

    def __init__(self) -> None:
        super().__init__(id="chain-head")
        self.view: ChainView | None = None
        self.report: ChainReport | None = None
        self.path, self.played = "", False

    def show(self, view: ChainView | None, report: ChainReport | None, path: str, played: bool = False) -> None:
        """Another chain, or other findings; ``path`` says which file is open, ``played`` that a rehearsal is."""
        self.view, self.report, self.path, self.played = view, report, path, played
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """Title, then findings or the end."""
        view = self.view
        if row == 1:
            pen.write(" CHAINS", "ink", bold=True)
            if view is not None:
                at = clock_time(view.now_ms, view.now_ms, self.quarry.zone)
                how = f"played: it is {at}" if self.played else "rehearsed as the queue is now"
                whole = self.report is None or self.report.chain is not None
                how = how if whole else "something must change first" if view.parts else "not begun"
                which = f"chain {view.number} {view.name}" if view.number else f"{view.name}, {how}"
                pen.to(43 if self.size.width >= 130 else 27)
                pen.write(which, "ink").write(f"   {plural(len(view.parts), 'job')}", "dim")
                if view.ends_ms is not None and (view.left or not view.number):
                    words = all_done_words(view, self.quarry.zone)
                    if pen.at + 3 + len(words) > self.size.width:
                        words = all_done_words(view, self.quarry.zone, short=True)
                    pen.write(f"   {words}", "river")
                elif view.number:
                    pen.write(f"   {view.state}", "dim")
                if view.most_core_ms and pen.at + 32 < self.size.width:
                    pen.write(f"   at most {format_core_hours(view.most_core_ms)} core-hours", "dim")
        elif row == 2:
            findings = self.report.findings if self.report is not None and (view is None or not view.number) else ()
            worst = findings[0][1] if findings else None
            if worst is not None and worst.code == "chain-empty" and view is not None and not view.parts:
                pen.to(43 if self.size.width >= 130 else 27)
                pen.write(f"no jobs yet: {key_of('add')} adds the first one", "dim")
            elif worst is not None:
                told = {"error": ("✕", "rust"), "warning": ("!", "ochre"), "hint": ("·", "dim")}[worst.severity.value]
                more = f"   and {plural(len(findings) - 1, 'finding')} more" if len(findings) > 1 else ""
                pen.to(43 if self.size.width >= 130 else 27).write(
                    f"{told[0]} line {worst.line}: {worst.message}{more}", told[1]
                )
            elif view is None:
                pen.write(f"   {key_of('open_file')} opens a chain file", "dim")
            elif self.path and not view.number:
                pen.to(43 if self.size.width >= 130 else 27).cell(
                    self.path, max(0, self.size.width - pen.at - 1), "dim"
                )
