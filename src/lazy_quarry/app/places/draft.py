"""Draft: write the script and its request; see at once if it is right, where it fits, when it would start."""

import os
from contextlib import suppress
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from textual import on, work
from textual.binding import Binding
from textual.containers import Container, Horizontal, Vertical
from textual.widgets import Input, TextArea

from lazy_quarry.app.draft_shelf import Draft
from lazy_quarry.app.header_dials import HeaderEdit
from lazy_quarry.app.key_notes import KEY_NOTES
from lazy_quarry.app.messages import CursorMoved, Say
from lazy_quarry.app.places.draft_files import DraftFiles
from lazy_quarry.app.places.place import KeyHint
from lazy_quarry.app.places.trial_report import Trial, lines, receipt_words, task_words
from lazy_quarry.app.templates import from_room, script
from lazy_quarry.app.widgets.dial_rows import DialRows, DialTurned
from lazy_quarry.app.widgets.draft_report import CheckChosen, ReportRows, RungChosen
from lazy_quarry.app.widgets.draft_title import DraftTitle
from lazy_quarry.app.widgets.editor import Editor, Margin
from lazy_quarry.app.widgets.overrides import Overrides, OverridesEdit
from lazy_quarry.app.widgets.starting_points import BeginPreview, BeginRows
from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.diagnostic import Diagnostic, Severity
from lazy_quarry.core.header.edit import set_key
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.units import clock_time
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.probe.language import findings
from lazy_quarry.probe.script import looked_up, with_surroundings
from lazy_quarry.site.board import Board
from lazy_quarry.site.draft_view import DraftReport
from lazy_quarry.site.views import Receipt, RoomView

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

PAUSE_S = 0.03
"""After the last key, before the draft is checked."""


class DraftPlace(DraftFiles):
    """The script on the left; its request as dials on the right, and what the site says of it."""

    DEFAULT_CSS = """
    DraftPlace { padding-top: 1; }
    DraftPlace #left { width: 1fr; height: 1fr; }
    DraftPlace #right { width: 78; height: 1fr; border-left: solid $faint; }
    DraftPlace #path { display: none; border: none; height: 1; background: $raised; padding: 0 1; }
    DraftPlace #page { height: 1fr; }
    DraftPlace.-narrow #sides { layout: vertical; }
    DraftPlace.-narrow { padding-top: 0; }
    DraftPlace.-narrow #right { width: 1fr; height: 9; layout: horizontal; border-left: none; border-top: solid $faint; }
    DraftPlace.-narrow #right:focus-within { height: 14; }
    DraftPlace.-narrow DialRows { max-height: 15; }
    DraftPlace.-narrow ReportRows { padding-top: 0; }
    """
    BINDINGS = [
        Binding("ctrl+g", "submit", "submit", priority=True),
        Binding("ctrl+s", "save", "save", priority=True),
        Binding("ctrl+o", "ask_path('open')", "open", priority=True),
        Binding("f2", "begin", "begin", priority=True),
        Binding("f4", "shell", "shell", priority=True),
        Binding("f5", "try_one", "try one", priority=True),
        Binding("f6", "side", "next pane", priority=True),
        Binding("f7", "overrides", "for this time only", priority=True),
        Binding("f8", "next_check", "next check", priority=True),
        Binding("f9", "fix", "fix", priority=True),
        Binding("ctrl+z", "undo", "undo"),
        Binding("ctrl+y", "redo", "redo"),
        Binding("escape", "back", "back"),
    ]
    report: DraftReport | None = None
    trial: Trial | None = None
    origin = ""
    """Where a script without a file comes from."""
    _revision = 0

    def compose(self):  # type: ignore[no-untyped-def]
        """DraftTitle, editor with its margin, overrides; dials and report."""
        with Horizontal(id="sides"):
            with Vertical(id="left"):
                yield DraftTitle()
                yield Input(id="path")
                with Horizontal(id="page"):
                    yield Margin()
                    yield Editor()
                yield BeginRows()
                yield Overrides()
            with Container(id="right"):
                yield DialRows()
                yield ReportRows()
                yield BeginPreview()

    def on_mount(self) -> None:
        """Take up the draft as it was left, or show what one can begin from."""
        self._findings: tuple[Diagnostic, ...] = ()
        self.watch(self.editor, "scroll_y", self._scrolled, init=False)
        draft = self.quarry.shelf.take()
        if draft is not None and draft.text.strip():
            self.put_text(draft.text, draft.path, draft.edited, tuple(draft.overrides.splitlines()))
        else:
            self.action_begin()

    def kept(self) -> Draft:
        """The draft as it would be put away."""
        overrides = "\n".join(self.query_one(Overrides).values)
        return Draft(self.editor.text, self.path, self.edited, overrides)

    def leave(self) -> None:
        """Keep what was typed since the last pause."""
        if self.editor.text.strip():
            self.quarry.shelf.keep(self.kept())

    def _scrolled(self) -> None:
        self.query_one(Margin).top = int(self.editor.scroll_offset.y)

    def arrive(self) -> None:
        """Keys go to the script."""
        rows = self.query_one(BeginRows)
        (rows if rows.display else self.editor).focus()

    def show(self, board: Board) -> None:
        """The site has moved on, so may the forecast have."""
        first = self.board is None
        super().show(board)
        self._tell_trial()
        if first and self.query_one(BeginRows).display:
            self.action_begin()  # now it is known what the site has
        if self.display:
            self._dials()
            self._check()

    # -- text --------------------------------------------------------------------------------------

    def put_text(self, text: str, path: str, edited: bool, overrides: tuple[str, ...] = (), words: str = "") -> None:
        """Take up a script."""
        self.path, self.origin = path, words
        self.saved = None if edited else text
        self.editor.load_text(text)
        self.editor.look()
        pane = self.query_one(Overrides)
        pane.put(overrides)
        pane.display = bool(overrides)
        self.mark(edited)
        self.leave_begin()
        self.call_after_refresh(self._check)

    def put_script(self, text: str, name: str) -> None:
        """Begin from a script that was submitted once; the file it came from stays as it is."""
        self.put_text(text, "", True, (), f"from {name}")

    def put_room(self, room: RoomView) -> None:
        """Begin a draft that asks for just what there is room for now."""
        self.take_new(from_room(room, self.board))

    def add_module(self, module: str) -> None:
        """Have the draft load a module; an empty one is begun for it."""
        if not self.editor.text.strip() or self.query_one(BeginRows).display:
            self.take_new(script(self.board, "new", (f'modules  = ["{module}"]',), "true"))
            return
        block, _ = find_block(self.editor.text)
        loaded = list(block.values.get("modules", [])) if block else []
        if module not in loaded:
            self._apply((("modules", [*loaded, module]),))
        self.leave_begin()

    def mark(self, edited: bool) -> None:
        """Say whether it is saved."""
        self.edited = edited
        title = self.query_one(DraftTitle)
        title.name_words = self.path or self.origin or "new script"
        title.state_words = (
            ("edited, not saved" if self.path else "not saved") if edited else "saved" if self.path else ""
        )
        title.refresh()

    @on(TextArea.Changed)
    def _changed(self) -> None:
        self._revision += 1
        self.editor.look()
        self.mark(self.editor.text != self.saved)
        self.query_one(ReportRows).stale = self.query_one(DialRows).stale = True
        self._dials()
        pane = self.query_one(Overrides)
        if pane.display:
            pane.show(self.editor.text)
        self.set_timer(PAUSE_S, partial(self._settle, self._revision))

    def _settle(self, revision: int) -> None:
        if self._revision == revision:
            self._check()
            problem = self.quarry.shelf.keep(self.kept())
            if problem:
                self.post_message(Say(problem, bad=True))

    @on(TextArea.SelectionChanged)
    def _moved(self) -> None:
        self.post_message(CursorMoved())

    def action_undo(self) -> None:
        """Take the last change back, from a dial or the keyboard."""
        self.editor.undo()

    def action_redo(self) -> None:
        """Make it again."""
        self.editor.redo()

    # -- dials -------------------------------------------------------------------------------------

    def _dials(self) -> None:
        """The dials as the header stands, at once; what follows from them comes with the report."""
        if self.board is None:
            return
        block, problems = find_block(self.editor.text)
        broken = next((one for one in problems if one.code in ("toml", "header-unclosed")), None)
        words = f"the header cannot be read: line {broken.line}" if broken else ""
        values = None if broken else block.values if block else {}
        self.query_one(DialRows).show(values, self.board, words)

    def on_dial_turned(self, message: DialTurned) -> None:
        """Write it into the header."""
        self._apply(message.change)

    def on_rung_chosen(self, message: RungChosen) -> None:
        """Ask for what the ladder shows."""
        self._apply(message.change)

    def _apply(self, change: HeaderEdit) -> None:
        text = self.editor.text
        try:
            for key, value in change:
                text = set_key(text, key, value)
        except BadValue as fault:
            self.post_message(Say(f"The header cannot be changed: {fault}", bad=True))
            return
        self.editor.put(text)

    # -- checks ------------------------------------------------------------------------------------

    def _submission(self) -> Submission:
        """What is in the editor, as it would be submitted; what is to be looked up comes later."""
        directory = str(Path(self.path).parent) if self.path else str(self.quarry.folder)
        overrides = self.query_one(Overrides).values
        return Submission(self.editor.text, self.path or "script", directory, overrides, (), tuple(os.environ.items()))

    def _check(self) -> None:
        if self.quarry.client is not None and self.editor.text.strip():
            self._ask(self.quarry.client, self._submission(), self._revision, self._findings)

    @work(thread=True, exclusive=True, group="check")
    def _ask(self, client: "SiteClient", submission: Submission, revision: int, known: tuple[Diagnostic, ...]) -> None:
        """First what the site itself says, with what was known of the script; then with what others say of it."""
        quick = replace(with_surroundings(submission), findings=known)
        try:
            report = client.check(quick)
            if revision == self._revision:
                self.quarry.hand_over(self._show_report, report, known, revision)
            found = findings(submission.script)
            if found != known and revision == self._revision:
                report = client.check(replace(quick, findings=found))
                self.quarry.hand_over(self._show_report, report, found, revision)
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))

    def _show_report(self, report: DraftReport, found: tuple[Diagnostic, ...], revision: int) -> None:
        if revision != self._revision:
            return
        self.report, self._findings = report, found
        self.query_one(ReportRows).show(report)
        self.query_one(DialRows).told(report)
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
            by_line = sorted(self.report.diagnostics, key=lambda one: one.line)
            self._go_to(next((one for one in by_line if one.line > here), by_line[0]))

    def action_fix(self) -> None:
        """Make the fix of the check under the cursor, else of the first that has one."""
        if self.report is None:
            return
        here = self.editor.cursor_location[0] + 1
        fixable = [one for one in self.report.diagnostics if one.fix]
        one = next((one for one in fixable if one.line == here), fixable[0] if fixable else None)
        chosen = self.query_one(ReportRows)
        if chosen.has_focus and (check := chosen.check_under_cursor()) and check.fix:
            one = check
        if one is None or one.fix is None:
            self.post_message(Say("No check has a fix that is certain; change it by hand."))
            return
        self.editor.put(one.fix.apply(self.editor.text))
        self.post_message(Say(f"Done: {one.fix.label}. ctrl+z takes it back."))

    # -- panes -------------------------------------------------------------------------------------

    def action_back(self) -> None:
        """Back to the script; from the script to the dials, where f6 goes on."""
        pane = self.query_one(Overrides)
        if self.editor.has_focus:
            self.action_side()
        elif self.query_one(OverridesEdit).has_focus and not pane.values:
            self.action_overrides()
        else:
            self.leave_begin()
        self.post_message(CursorMoved())

    def on_key(self, event) -> None:  # type: ignore[no-untyped-def]
        """Enter does what the line under the cursor stands for."""
        rows, report = self.query_one(BeginRows), self.query_one(ReportRows)
        if event.key == "enter" and (rows.has_focus or report.has_focus):
            event.stop()
            (rows if rows.has_focus else report).choose()

    def action_side(self) -> None:
        """Keys to the dials, to the report, to the script."""
        dials, report = self.query_one(DialRows), self.query_one(ReportRows)
        if report.has_focus:
            self.editor.focus()
        elif dials.has_focus:
            report.focus()
        else:
            dials.focus()

    def action_overrides(self) -> None:
        """Show or put away what is said at submission beside the file."""
        pane = self.query_one(Overrides)
        pane.display = not pane.display
        if pane.display:
            pane.show(self.editor.text)
            self.query_one(OverridesEdit).focus()
        else:
            pane.put(())
            self.editor.focus()

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
            self._refused("Not submitted", receipt)
            return
        when = "no forecast yet"
        if receipt.forecast_ms is not None:
            when = "it runs now"
            if receipt.forecast_ms > receipt.now_ms:
                when = f"it should start about {clock_time(receipt.forecast_ms, receipt.now_ms, self.quarry.zone)}"
        self.quarry.hand_over(self._submitted, receipt.job, when)

    def _refused(self, what: str, receipt: Receipt) -> None:
        worst = next(one for one in receipt.diagnostics if one.severity is Severity.ERROR)
        self.post_message(Say(f"{what}: line {worst.line}, {worst.message}. f8 goes there.", bad=True))

    def _submitted(self, job: int, when: str) -> None:
        self.quarry.looked_at = job
        self.post_message(Say(f"Submitted as {job}; {when}. alt+4 watches it."))
        self.quarry.read_board()

    # -- trying one, and the shell -----------------------------------------------------------------

    def action_try_one(self) -> None:
        """Run one in the trial tier; of an array, ask which."""
        if not self.editor.text.strip() or self.quarry.client is None:
            self.post_message(Say("There is nothing to try yet; f2 shows what a script can begin from.", bad=True))
        elif self.report is not None and self.report.shape.tasks:
            self.action_ask_path("task")
        else:
            self.try_task("")

    def try_task(self, words: str) -> None:
        """Try one task, by its number or values; nothing means the first."""
        try:
            task, values = task_words(words)
        except BadValue as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        if self.quarry.client is not None:
            walltime = self.report.shape.walltime_s if self.report else 0
            self._try(self.quarry.client, self._submission(), task, values, Trial(0, walltime))

    @work(thread=True, group="submit", exclusive=True)
    def _try(
        self,
        client: "SiteClient",
        submission: Submission,
        task: int | None,
        values: dict[str, str] | None,
        trial: Trial,
    ) -> None:
        try:
            receipt = client.try_one(looked_up(submission), task, values)
            if receipt.job is None:
                self._refused("Not tried", receipt)
                return
            walltime = client.job(receipt.job).walltime_s
        except QuarryError as fault:
            self.post_message(Say(f"Not tried: {fault}", bad=True))
            return
        trial.job = receipt.job
        self.post_message(Say(receipt_words(receipt.job, walltime)))
        self.quarry.hand_over(self._tried, trial)

    def _tried(self, trial: Trial) -> None:
        self.trial = trial
        self.quarry.read_board()

    def _tell_trial(self) -> None:
        """What has become of the job that tries the draft."""
        if self.trial is not None and self.board is not None:
            report = self.query_one(ReportRows)
            told, changes = lines(self.trial, self.board, self.quarry.zone)
            if told != report.tried:
                report.tried, report.tried_changes = told, changes
                report.redraw()

    def action_shell(self) -> None:
        """A shell on cores of this machine; what works in it can become a script."""
        self.quarry.open_shell(self.report)

    # -- words -------------------------------------------------------------------------------------

    def note(self) -> str:
        """What the key in the cursor's line means, or what is wrong there."""
        if self.query_one(BeginRows).display:
            return "A script says at its top what it asks for, in comments. Begin from a shape, or from something you have."
        dials = self.query_one(DialRows)
        if dials.has_focus and (dial := dials.under_cursor()):
            if dial.trait:
                return (
                    f"{dial.name}: → wants it, again leaves its nodes out. What would match is counted with the others."
                )
            return f"{dial.name}: {KEY_NOTES.get(dial.key, '')}"
        report = self.query_one(ReportRows)
        if report.has_focus and (line := report.under_cursor()):
            if line.check:
                return self._check_words(line.check)
            if line.change:
                told = ", ".join(f"{key} = {value}" if value is not None else f"no {key}" for key, value in line.change)
                return f"enter asks for this instead: {told}."
        row = self.editor.cursor_location[0]
        if self.report:
            here = [one for one in self.report.diagnostics if one.line == row + 1]
            if here:
                return self._check_words(here[0])
        with suppress(IndexError):
            line_text = self.editor.document.get_line(row)
            key = line_text.removeprefix("#").partition("=")[0].strip()
            if key in KEY_NOTES and self.editor.header and self.editor.header[0] < row < self.editor.header[1]:
                return f"{key}: {KEY_NOTES[key]}"
        if self.report and self.report.refused:
            return "Something must change before it can be submitted; the checks on the right say what."
        return "The header between the two # /// lines says what the job asks for. ctrl+g submits it as it stands."

    @staticmethod
    def _check_words(one: Diagnostic) -> str:
        fix = f" f9: {one.fix.label}." if one.fix else ""
        return f"Line {one.line}, {one.severity.words}: {one.message}.{fix}"

    def keys(self) -> list[KeyHint]:
        """What can be done here."""
        if self.query_one(BeginRows).display:
            return [
                ("↑↓", "choose", ""),
                ("enter", "take it", ""),
                ("ctrl+o", "open by path", "app.place_action('ask_path(\"open\")')"),
                ("f4", "a shell", "app.place_action('shell')"),
                ("esc", "back to the script", "app.place_action('back')"),
            ]
        keys: list[KeyHint] = [("ctrl+g", "submit", "app.place_action('submit')")]
        if self.report and self.report.diagnostics:
            keys.append(("f8", "next check", "app.place_action('next_check')"))
            if any(one.fix for one in self.report.diagnostics):
                keys.append(("f9", "fix", "app.place_action('fix')"))
        return [
            *keys,
            ("f6", "next pane", "app.place_action('side')"),
            ("f5", "try one", "app.place_action('try_one')"),
            ("f7", "this time only", "app.place_action('overrides')"),
            ("f2", "begin from", "app.place_action('begin')"),
            ("f4", "shell", "app.place_action('shell')"),
            ("ctrl+s", "save", "app.place_action('save')"),
            ("ctrl+o", "open", "app.place_action('ask_path(\"open\")')"),
            ("ctrl+z", "undo", "app.place_action('undo')"),
            ("alt+1…6 or esc 1…6", "places", ""),
            ("ctrl+q", "leave", "app.quit"),
        ]
