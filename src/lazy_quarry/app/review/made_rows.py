"""The files that a job made, newest first."""

from textual.message import Message

from lazy_quarry.app.shared.acts import bound
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.core.units import clock_time, format_bytes, plural
from lazy_quarry.run.node.made_files import MadeFile, MadeFiles

HEAD = 2


class RemoveWanted(Message):
    """These files are to be removed, if the person says so."""

    def __init__(self, paths: list[str]) -> None:
        super().__init__()
        self.paths = paths


class MadeRows(Rows):
    """A heading, the folder, and a row a file; some can be marked to remove them together."""

    DEFAULT_CSS = "MadeRows { width: 1fr; height: 1fr; }"
    BINDINGS = [
        bound("mark", "mark", "mark a file, to remove or fetch several together"),
        bound("remove", "remove", "remove what is marked, after asking"),
    ]

    def __init__(self) -> None:
        super().__init__(id="made")
        self.made: MadeFiles | None = None
        self.job, self.now_ms = 0, 0
        self.marked: set[str] = set()

    def wait_for(self, job: int) -> None:
        """They are being looked for."""
        if self.job != job:
            self.job, self.made, self.cursor, self.marked = job, None, HEAD, set()
            self.refit()

    def show(self, job: int, made: MadeFiles, now_ms: int) -> None:
        """The files of a job."""
        self.job, self.made, self.now_ms = job, made, now_ms
        self.marked &= {one.path for one in made.files}
        self.cursor = max(HEAD, self.cursor)
        self.refit()

    @property
    def current(self) -> MadeFile | None:
        """The file under the cursor."""
        files = self.made.files if self.made else ()
        return files[self.cursor - HEAD] if 0 <= self.cursor - HEAD < len(files) else None

    @property
    def path(self) -> str:
        """The whole path of the file under the cursor, or empty."""
        return f"{self.made.folder}/{self.current.path}" if self.made and self.current else ""

    @property
    def chosen(self) -> list[str]:
        """The paths of what is marked, else of the file under the cursor."""
        return sorted(self.marked) or ([self.current.path] if self.current else [])

    def row_count(self) -> int:
        """Heading, folder, files."""
        return HEAD + (len(self.made.files) if self.made else 0)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """When it was written, its size, its path, what is wrong with it."""
        made = self.made
        if row == 0:
            pen.write(" WHAT IT MADE", bold=True)
            if made is None:
                pen.write("   looking …", "river")
            elif made.problem:
                pen.write(f"   {made.problem}", "dim")
            else:
                words = plural(len(made.files), "file") + (", and there may be more" if made.more else "")
                pen.write(f"   {words}, newest first", "dim")
            return
        if row == 1:
            pen.cell(f" {made.folder}" if made else "", max(0, self.room), "dim")
            return
        assert made is not None
        one = made.files[row - HEAD]
        mark = "▪" if one.path in self.marked else " "
        at = clock_time(one.written_ms, self.now_ms, self.quarry.zone)
        pen.write(f" {mark}", "ochre").cell(at, 10, "dim").cell(format_bytes(one.size), 10, "dim", right=True).write(
            "  "
        )
        words = one.problem or ("changed: it was there before" if one.earlier else one.kind)
        left = self.room - pen.at
        room = max(8, left - len(words) - 2, min(len(one.path), left * 2 // 3))
        pen.cell(one.path, room, "rust" if one.problem else "ink", bold=current)
        pen.cell(
            f" {words}", max(0, self.room - pen.at), "rust" if one.problem else "heather" if one.earlier else "dim"
        )

    def action_mark(self) -> None:
        """Mark the file, or not."""
        if self.current is not None:
            self.marked ^= {self.current.path}
            self.refresh()

    def action_remove(self) -> None:
        """Remove what is marked, else the file under the cursor."""
        if self.chosen:
            self.post_message(RemoveWanted(self.chosen))
