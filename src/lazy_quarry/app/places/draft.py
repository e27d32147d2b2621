"""Draft: write the script and its request; see at once if it is right, where it fits, when it would start."""

import os
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from textual import on, work
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.widgets import Input, TextArea

from lazy_quarry.app.drafts import Draft, save
from lazy_quarry.app.messages import CursorMoved, Say
from lazy_quarry.app.pen import Pen
from lazy_quarry.app.places.place import Key, Place
from lazy_quarry.app.templates import fill
from lazy_quarry.app.widgets.beginnings import Begin, BeginRows
from lazy_quarry.app.widgets.drawn import Lines
from lazy_quarry.app.widgets.editor import Editor, Margin
from lazy_quarry.app.widgets.report import CheckChosen, ReportRows
from lazy_quarry.core.header.check import decode_script
from lazy_quarry.core.header.diagnostic import Diagnostic, Severity
from lazy_quarry.core.units import clock_time
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.run.look import looked_up
from lazy_quarry.views import Board, DraftReport, Submission

if TYPE_CHECKING:
    from lazy_quarry.client import SiteClient

PAUSE_S = 0.06
"""After the last key, before the draft is checked."""

KEY_NOTES = {
    "walltime": "The longest it may run; it is stopped at the limit. The less you ask for, the sooner a gap fits it.",
    "memory": "What it may use, for each core, rank, node or the whole job. A job that uses more is stopped.",
    "ranks": "Processes in all, dealt onto the nodes as evenly as can be.",
    "ranks-per-node": "Processes on each node.",
    "threads": "Cores for each rank.",
    "nodes": "On how many nodes the ranks are dealt; without it, as few as they fit on.",
    "queue": "Which nodes, under which limits; a list means any of them will do.",
    "account": "What is charged for it.",
    "output": "Where it prints; {name} {job} {user} {date} are filled in. Folders are made.",
    "errors": "Where its standard error goes; joined puts it into the output.",
    "name": "What it is called: letters, digits and . _ - only.",
    "tier": "The level of service: priority, limits, charge.",
    "grace": "Between SIGTERM at the end of the walltime and SIGKILL.",
    "warn": "So long before its end the script gets SIGUSR1, to save its work.",
    "expect": "Files that must be there and not empty when it is done, or it counts as failed.",
    "modules": "What is loaded before it starts, after everything else is unloaded.",
    "gpus": "GPUs for each node.",
    "directory": "Where it starts; without it, where it was submitted.",
}


class Title(Lines):
    """The file's name, and whether it is saved."""

    DEFAULT_CSS = "Title { height: 2; }"

    def __init__(self) -> None:
        super().__init__(id="title")
        self.name_words = "new script"
        self.state_words = ""

    def draw(self, row: int, pen: Pen) -> None:
        """The one line."""
        if row == 0:
            pen.write(f"  {self.name_words}", bold=True).write(f"   {self.state_words}", "dim")


class DraftPlace(Place):
    """The script on the left, what the site says of it on the right."""

    DEFAULT_CSS = """
    DraftPlace { padding-top: 1; }
    DraftPlace #left { width: 1fr; height: 1fr; }
    DraftPlace #path { display: none; border: none; height: 1; background: $raised; padding: 0 1; }
    DraftPlace.-narrow #sides { layout: vertical; }
    DraftPlace.-narrow ReportRows { width: 1fr; height: 12; border-left: none; border-top: solid $faint; }
    """
    BINDINGS = [
        Binding("ctrl+g", "submit", "submit", priority=True),
        Binding("ctrl+s", "save", "save", priority=True),
        Binding("ctrl+o", "ask_path('open')", "open", priority=True),
        Binding("f2", "begin", "begin", priority=True),
        Binding("f6", "side", "other side", priority=True),
        Binding("f8", "next_check", "next check", priority=True),
        Binding("f9", "fix", "fix", priority=True),
        Binding("escape", "back", "back"),
    ]
    report: DraftReport | None = None
    path = ""
    edited = False
    _asked = ""
    _revision = 0

    def compose(self):  # type: ignore[no-untyped-def]
        """Title, editor with its margin, report."""
        with Horizontal(id="sides"):
            with Vertical(id="left"):
                yield Title()
                yield Input(id="path")
                with Horizontal(id="page"):
                    yield Margin()
                    yield Editor()
                yield BeginRows()
            yield ReportRows()

    @property
    def editor(self) -> Editor:
        """Where the script is written."""
        return self.query_one(Editor)

    def on_mount(self) -> None:
        """Take up the draft as it was left, or show what one can begin from."""
        self.watch(self.editor, "scroll_y", self._scrolled, init=False)
        draft = self.quarry.shelf.take()
        if draft is not None and draft.text.strip():
            self._put(draft.text, draft.path, draft.edited)
        else:
            self.action_begin()

    def leave(self) -> None:
        """Keep what was typed since the last pause."""
        if self.editor.text.strip():
            self.quarry.shelf.keep(Draft(self.editor.text, self.path, self.edited))

    def _scrolled(self) -> None:
        self.query_one(Margin).top = int(self.editor.scroll_offset.y)

    def arrive(self) -> None:
        """Keys go to the script."""
        rows = self.query_one(BeginRows)
        (rows if rows.display else self.editor).focus()

    def show(self, board: Board) -> None:
        """The site has moved on, so may the forecast have."""
        super().show(board)
        if self.display:
            self._check()

    # -- text --------------------------------------------------------------------------------------

    def _put(self, text: str, path: str, edited: bool) -> None:
        self.path = path
        self._saved = None if edited else text
        self.editor.load_text(text)
        self.editor.look()
        self._mark(edited)
        self._leave_begin()
        self.call_after_refresh(self._check)

    def put_script(self, text: str, name: str) -> None:
        """Begin from a script that was submitted once; the file it came from stays as it is."""
        self._put(text, "", True)
        self.query_one(Title).name_words = f"from {name}"

    def _mark(self, edited: bool) -> None:
        self.edited = edited
        title = self.query_one(Title)
        title.name_words = self.path or "new script"
        title.state_words = (
            ("edited, not saved" if self.path else "not saved") if edited else "saved" if self.path else ""
        )
        title.refresh()

    @on(TextArea.Changed)
    def _changed(self) -> None:
        self._revision += 1
        self.editor.look()
        self._mark(self.editor.text != self._saved)
        self.query_one(ReportRows).stale = True
        self.set_timer(PAUSE_S, partial(self._settle, self._revision))

    def _settle(self, revision: int) -> None:
        if self._revision == revision:
            self._check()
            problem = self.quarry.shelf.keep(Draft(self.editor.text, self.path, self.edited))
            if problem:
                self.post_message(Say(problem, bad=True))

    _saved: str | None = None

    @on(TextArea.SelectionChanged)
    def _moved(self) -> None:
        self.post_message(CursorMoved())

    # -- checks ------------------------------------------------------------------------------------

    def _submission(self) -> Submission:
        """What is in the editor, as it would be submitted; what its own language says of it comes later."""
        directory = str(Path(self.path).parent) if self.path else str(self.quarry.folder)
        text = self.editor.text
        name = self.path or "script"
        return Submission(text, name, directory, environment=tuple(os.environ.items()))

    def _check(self) -> None:
        if self.quarry.client is not None and self.editor.text.strip():
            self._ask(self.quarry.client, self._submission(), self._revision)

    @work(thread=True, exclusive=True, group="check")
    def _ask(self, client: "SiteClient", submission: Submission, revision: int) -> None:
        try:
            report = client.check(looked_up(submission))
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        if revision == self._revision:
            self.quarry.hand_over(self._show_report, report)

    def _show_report(self, report: DraftReport) -> None:
        self.report = report
        self.query_one(ReportRows).show(report)
        self.query_one(Margin).diagnostics = report.diagnostics
        self.post_message(CursorMoved())

    def on_check_chosen(self, message: CheckChosen) -> None:
        """Go to the line of a check."""
        self._go_to(message.diagnostic)

    def _go_to(self, one: Diagnostic) -> None:
        self.editor.move_cursor((max(0, one.line - 1), max(0, one.column - 1)), center=True)
        self.editor.focus()

    def action_next_check(self) -> None:
        """To the next line that has a check."""
        if self.report and self.report.diagnostics:
            here = self.editor.cursor_location[0] + 1
            lines = sorted(self.report.diagnostics, key=lambda one: one.line)
            self._go_to(next((one for one in lines if one.line > here), lines[0]))

    def action_fix(self) -> None:
        """Make the fix of the check under the cursor, else of the first that has one."""
        if self.report is None:
            return
        here = self.editor.cursor_location[0] + 1
        fixable = [one for one in self.report.diagnostics if one.fix]
        one = next((one for one in fixable if one.line == here), fixable[0] if fixable else None)
        if one is None or one.fix is None:
            self.post_message(Say("No check has a fix that is certain; change it by hand."))
            return
        fixed = one.fix.apply(self.editor.text)
        self.editor.replace(fixed, (0, 0), self.editor.document.end)
        self.post_message(Say(f"Done: {one.fix.label}. ctrl+z takes it back."))

    # -- files -------------------------------------------------------------------------------------

    def action_begin(self) -> None:
        """Show what a draft can begin from."""
        rows = self.query_one(BeginRows)
        rows.show(self.quarry.folder)
        rows.display, self.query_one("#page").display = True, False
        rows.move(2)
        rows.focus()
        self.post_message(CursorMoved())

    def _leave_begin(self) -> None:
        self.query_one(BeginRows).display, self.query_one("#page").display = False, True
        self.query_one("#path", Input).display = False
        if self.display:
            self.editor.focus()

    def action_back(self) -> None:
        """Back to the script; from the script to the other side, where number keys go to places."""
        if self.editor.has_focus:
            self.action_side()
        else:
            self._leave_begin()
        self.post_message(CursorMoved())

    def on_key(self, event) -> None:  # type: ignore[no-untyped-def]
        """Enter takes what one begins from, or goes to a check."""
        if event.key == "enter":
            rows, report = self.query_one(BeginRows), self.query_one(ReportRows)
            if rows.has_focus:
                event.stop()
                rows.choose()
            elif report.has_focus and (one := report.check_under_cursor()):
                event.stop()
                self._go_to(one)

    def on_begin(self, message: Begin) -> None:
        """Begin, after a question when something not saved would go."""
        if self.edited and self.editor.text.strip():
            self.quarry.ask(
                "Leave this script, which is not saved? Its text would be lost.", lambda: self._begin(message)
            )
        else:
            self._begin(message)

    def _begin(self, message: Begin) -> None:
        if message.template is not None:
            self._put(fill(message.template, self.board), "", True)
        elif message.path is not None:
            self._open(message.path)

    def _open(self, path: Path) -> None:
        try:
            text = decode_script(path.read_bytes())
        except BadValue as fault:
            self.post_message(Say(f"{path}: {fault}", bad=True))
        except OSError as fault:
            self.post_message(Say(f"{path} cannot be opened: {fault.strerror}", bad=True))
        else:
            self._put(text, str(path), False)
            self.quarry.shelf.keep(Draft(text, str(path), False))
            self.post_message(Say(f"Opened {path}."))

    def action_ask_path(self, what: str) -> None:
        """Ask for a path in a line above the script."""
        self._asked = what
        line = self.query_one("#path", Input)
        line.placeholder = "path to open" if what == "open" else "path to save as"
        line.value = self.path or f"{self.quarry.folder}/"
        line.display = True
        line.cursor_position = len(line.value)
        line.focus()

    @on(Input.Submitted, "#path")
    def _path_given(self, event: Input.Submitted) -> None:
        path = Path(os.path.expanduser(event.value.strip()))
        path = path if path.is_absolute() else self.quarry.folder / path
        if self._asked == "open":
            self.on_begin(Begin(path=path))
            return
        if path.exists() and str(path) != self.path:
            self.quarry.ask(f"{path} is there already. Replace it?", lambda: self._save(path))
        else:
            self._save(path)

    def action_save(self) -> None:
        """Save to its file, or ask for one."""
        if self.path:
            self._save(Path(self.path))
        else:
            self.action_ask_path("save")

    def _save(self, path: Path) -> None:
        problem = save(path, self.editor.text)
        if problem:
            self.post_message(Say(problem, bad=True))
            return
        self.path = str(path)
        self._saved = self.editor.text
        self._mark(False)
        self._leave_begin()
        self.quarry.shelf.keep(Draft(self.editor.text, self.path, False))
        self.post_message(Say(f"Saved to {path}."))

    # -- submitting --------------------------------------------------------------------------------

    def action_submit(self) -> None:
        """Submit what is in the editor, as it stands."""
        if not self.editor.text.strip():
            self.post_message(Say("There is nothing to submit yet; f2 shows what a script can begin from.", bad=True))
        elif self.quarry.client is not None:
            self._send(self.quarry.client, self._submission())

    @work(thread=True, group="submit", exclusive=True)
    def _send(self, client: "SiteClient", submission: Submission) -> None:
        try:
            receipt = client.submit(looked_up(submission))
        except QuarryError as fault:
            self.post_message(Say(f"Not submitted: {fault}", bad=True))
            return
        if receipt.job is None:
            worst = next(one for one in receipt.diagnostics if one.severity is Severity.ERROR)
            self.post_message(Say(f"Not submitted: line {worst.line}, {worst.message}. f8 goes there.", bad=True))
            return
        when = "no forecast yet"
        if receipt.forecast_ms is not None:
            when = "it runs now"
            if receipt.forecast_ms > receipt.now_ms:
                when = f"it should start about {clock_time(receipt.forecast_ms, receipt.now_ms, self.quarry.zone)}"
        self.quarry.hand_over(self._submitted, receipt.job, when)

    def _submitted(self, job: int, when: str) -> None:
        self.quarry.looked_at = job
        self.post_message(Say(f"Submitted as {job}; {when}. alt+4 watches it."))
        self.quarry.read_board()

    # -- words -------------------------------------------------------------------------------------

    def note(self) -> str:
        """What the key in the cursor's line means, or what is wrong there."""
        if self.query_one(BeginRows).display:
            return "A script says at its top what it asks for, in a block of comments. Begin from a shape, or open one of yours."
        row = self.editor.cursor_location[0]
        if self.report:
            here = [one for one in self.report.diagnostics if one.line == row + 1]
            if here:
                fix = f" f9: {here[0].fix.label}." if here[0].fix else ""
                return f"Line {here[0].line}, {here[0].severity.words}: {here[0].message}.{fix}"
        with suppress(IndexError):
            line = self.editor.document.get_line(row)
            key = line.removeprefix("#").partition("=")[0].strip()
            if key in KEY_NOTES and self.editor.header and self.editor.header[0] < row < self.editor.header[1]:
                return f"{key}: {KEY_NOTES[key]}"
        if self.report and self.report.refused:
            return "Something must change before it can be submitted; the checks on the right say what."
        return "The header between the two # /// lines says what the job asks for. ctrl+g submits it as it stands."

    def keys(self) -> list[Key]:
        """What can be done here."""
        if self.query_one(BeginRows).display:
            return [
                ("↑↓", "choose", ""),
                ("enter", "take it", ""),
                ("ctrl+o", "open by path", "app.place_action('ask_path(\"open\")')"),
                ("esc", "back to the script", "app.place_action('back')"),
            ]
        keys: list[Key] = [("ctrl+g", "submit", "app.place_action('submit')")]
        if self.report and self.report.diagnostics:
            keys.append(("f8", "next check", "app.place_action('next_check')"))
            if any(one.fix for one in self.report.diagnostics):
                keys.append(("f9", "fix", "app.place_action('fix')"))
        return [
            *keys,
            ("ctrl+s", "save", "app.place_action('save')"),
            ("ctrl+o", "open", "app.place_action('ask_path(\"open\")')"),
            ("f2", "shapes and scripts", "app.place_action('begin')"),
            ("f6", "other side", "app.place_action('side')"),
            ("alt+1…6 or esc 1…6", "places", ""),
            ("ctrl+q", "leave", "app.quit"),
        ]

    def action_side(self) -> None:
        """Keys to the script, or to the report."""
        report = self.query_one(ReportRows)
        if report.has_focus:
            self.editor.focus()
        else:
            report.focus()
            checks = [number for number, line in enumerate(report.lines) if line.check]
            if checks:
                report.move(checks[0])
