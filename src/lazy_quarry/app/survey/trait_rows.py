"""The traits of a site: what has each, and what has it together with those that are marked."""

from textual import events

from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.messages import CursorMoved
from lazy_quarry.core.units import fold_names, plural
from lazy_quarry.views.board import Board


class TraitRows(Rows):
    """Each trait with the nodes and cores that have it; marked ones narrow the others."""

    DEFAULT_CSS = "TraitRows { height: auto; max-height: 9; width: 1fr; border-top: solid $faint; }"

    def __init__(self) -> None:
        super().__init__(id="traits")
        self.board: Board | None = None
        self.traits: list[str] = []
        self.marked: set[str] = set()
        self.cursor = 1

    def show(self, board: Board) -> None:
        """New figures."""
        self.board = board
        traits = sorted({trait for node in board.nodes for trait in node.traits})
        if traits != self.traits:
            self.traits = traits
            self.marked &= set(traits)
            self.refresh(layout=True)
        self.display = bool(traits)
        self.refit()
        self.cursor = max(1, self.cursor)

    def get_content_height(self, container, viewport, width) -> int:  # type: ignore[no-untyped-def]
        """As many rows as there are traits, and the heading."""
        return self.row_count()

    def row_count(self) -> int:
        """A heading and the traits."""
        return 1 + len(self.traits)

    def move(self, to: int) -> None:
        """To another trait."""
        super().move(max(1, to))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """The heading, or a trait."""
        if not (current and self.has_focus) or row == 0:
            pen.ground = "ground"
        if row == 0:
            words = (
                f"with {' and '.join(sorted(self.marked))}"
                if self.marked
                else f"{key_of('mark')} marks one, to see what is left"
            )
            pen.write(" TRAITS", bold=True).write(f"   {words}", "dim")
            return
        assert self.board is not None
        trait = self.traits[row - 1]
        with_it = [node for node in self.board.nodes if self.marked | {trait} <= set(node.traits)]
        free = sum(node.cores - node.cores_used for node in with_it if not node.shut)
        cores = sum(node.cores for node in with_it)
        marked = trait in self.marked
        pen.write(" ◆ " if marked else " ◇ ", "ochre" if marked else "dim").cell(trait, 14, bold=marked)
        if not with_it:
            pen.write("on no node together with these", "rust")
            return
        names = fold_names([node.name for node in with_it])
        pen.cell(plural(len(with_it), "node"), 11, "dim", right=True)
        pen.cell(plural(cores, "core"), 13, "dim", right=True).write(f" {free:>7,} free   ", "dim")
        pen.cell(names, max(0, min(40, self.room - pen.at)), "dim")

    def on_key(self, event: events.Key) -> None:
        """Mark and unmark."""
        if event.key == "enter":
            self._mark(self.cursor)
            event.stop()
            event.prevent_default()
        else:
            super().on_key(event)

    def mark(self) -> None:
        """Mark the trait under the cursor, or take its mark away."""
        self._mark(self.cursor)

    def _mark(self, row: int) -> None:
        if 1 <= row <= len(self.traits):
            self.marked ^= {self.traits[row - 1]}
            self.refresh()
            self.post_message(CursorMoved())

    def clicked(self, row: int, column: int) -> None:
        """A click marks."""
        self.move(row)
        self._mark(row)
