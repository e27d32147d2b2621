"""Draft: write the script and its request; see at once if it is right, where it fits, when it would start."""

from functools import partial

from textual import on
from textual.containers import Container, Horizontal, Vertical
from textual.widgets import Input, TextArea

from lazy_quarry.app.draft import sentences as draft_sentences
from lazy_quarry.app.draft.beginning import DraftBeginning
from lazy_quarry.app.draft.checks import DraftChecks
from lazy_quarry.app.draft.dial_rows import DialRows, DialTurned
from lazy_quarry.app.draft.document import DraftDocument
from lazy_quarry.app.draft.editor import Editor, Margin
from lazy_quarry.app.draft.header_dials import HeaderEdit
from lazy_quarry.app.draft.line import DraftLine
from lazy_quarry.app.draft.opening import DraftOpening
from lazy_quarry.app.draft.overrides import Overrides, OverridesEdit
from lazy_quarry.app.draft.report import CheckChosen, ReportRows, RungChosen
from lazy_quarry.app.draft.saving import DraftSaving
from lazy_quarry.app.draft.sending import DraftSending
from lazy_quarry.app.draft.starting_points import Begin, BeginPreview, BeginRows
from lazy_quarry.app.draft.tasks import DraftTasks
from lazy_quarry.app.draft.templates import from_line, from_room, script
from lazy_quarry.app.draft.title import DraftTitle
from lazy_quarry.app.draft.trial_report import Trial
from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.figure_catalogue import Offer, draft_figures
from lazy_quarry.app.shared.messages import CursorMoved
from lazy_quarry.app.shared.place import Hint, Place
from lazy_quarry.app.shared.table_catalogue import Table, draft_table
from lazy_quarry.app.textual_fixes.delayed_call import soon
from lazy_quarry.errors import BadValue
from lazy_quarry.views.board import Board
from lazy_quarry.views.draft_view import DraftReport
from lazy_quarry.views.outcomes import RoomView
from lazy_quarry.wording.book_words import cost_words

PAUSE_S = 0.03
"""After the last key, before the draft is checked."""


class DraftPlace(Place):
    """The script on the left; its request as dials on the right, and what the site says of it."""

    DEFAULT_CSS = """
    DraftPlace { padding-top: 1; }  DraftPlace #left { width: 1fr; height: 1fr; }
    DraftPlace #right { width: 78; height: 1fr; border-left: solid $faint; }
    DraftPlace #path { display: none; border: none; height: 1; background: $raised; padding: 0 1; }
    DraftPlace #page { height: 1fr; }
    DraftPlace.-narrow { padding-top: 0; }  DraftPlace.-narrow #sides { layout: vertical; }
    DraftPlace.-narrow #right { width: 1fr; height: 9; layout: horizontal; border-left: none; border-top: solid $faint; }
    DraftPlace.-narrow #right:focus-within { height: 14; }
    DraftPlace.-narrow DialRows { max-height: 15; }  DraftPlace.-narrow ReportRows { padding-top: 0; }
    """
    WHY_NOT = draft_sentences.WHY_NOT
    BINDINGS = [
        bound("open", "choose", "take what the cursor is on: a beginning, another start, a check's line"),
        bound("open_file", "ask_path('open')", "open a script by its path", priority=True),
        bound(
            "shell", "shell", "a shell on cores of this machine; what works there can become a script", priority=True
        ),
        bound("pane", "side", "from the script to the dials, to what the site says of it, and back", priority=True),
        bound("this_time", "overrides", "settings for this submission alone, beside the file", priority=True),
        bound("undo", "undo", "take the last change back"),
        bound("redo", "redo", "make it again"),
        bound(
            "back",
            "back",
            "from the script to what the site says of it, where numbers go to places; else back to the script",
        ),
        *DraftBeginning.BOUND,
        *DraftSending.BOUND,
        *DraftSaving.BOUND,
        *DraftChecks.BOUND,
        *DraftTasks.BOUND,
    ]
    document: DraftDocument
    checks: DraftChecks
    sending: DraftSending
    saving: DraftSaving

    keeps_focus = False

    def compose(self):  # type: ignore[no-untyped-def]
        """Title, editor with its margin, overrides; dials and report."""
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
        editor = self.query_one(Editor)
        self.document = DraftDocument(self.quarry, editor, self.query_one(DraftTitle), self.query_one(Overrides))
        self.checks = self.has(DraftChecks(self, self.document, self._show_report))
        self.opening = self.has(DraftOpening(self, self.document, self.put_text))
        self.line = DraftLine(self.query_one("#path", Input), self.quarry.folder)
        ask_task = partial(self.action_ask_path, "task")
        self.sending = self.has(DraftSending(self, self.document, self.checks, ask_task, self.document.once_is_over))
        self.saving = self.has(DraftSaving(self, self.document, self.line, self.leave_begin))
        self.has(DraftTasks(self, self.document))
        self.beginning = self.has(DraftBeginning(self))
        self.watch(editor, "scroll_y", self._scrolled, init=False)
        draft = self.quarry.shelf.take()
        if draft is not None and draft.text.strip():
            self.put_text(draft.text, draft.path, draft.edited, tuple(draft.overrides.splitlines()))
        else:
            self.beginning.show()

    @property
    def editor(self) -> Editor:
        """Where the script is written."""
        return self.document.editor

    @property
    def trial(self) -> Trial | None:
        """The last trial of the draft."""
        return self.sending.trial

    @property
    def report(self) -> DraftReport | None:
        """The site's last report on the draft."""
        return self.checks.report

    def figures(self) -> list[Offer]:
        """Placement and start of the draft as it is now."""
        return draft_figures(self.report, self.board, self.quarry.zone)

    def leave(self) -> None:
        """Keep what was typed since the last pause."""
        if not self.document.empty:
            self.document.keep()

    def _scrolled(self) -> None:
        self.query_one(Margin).scroll_with(int(self.editor.scroll_offset.y))

    def arrive(self) -> None:
        """Keys go to the script."""
        (self.beginning.rows if self.beginning.shown else self.editor).focus()

    def show(self, board: Board) -> None:
        """The site has changed, and perhaps the forecast with it."""
        first = self.board is None
        super().show(board)
        self.sending.tell_trial()
        if first and self.beginning.shown:
            self.beginning.show()  # now it is known what the site has
        if self.display:
            self._show_dials()
            self.checks.follow(board.version)

    # -- the script --------------------------------------------------------------------------------

    def put_text(self, text: str, path: str, edited: bool, overrides: tuple[str, ...] = (), origin: str = "") -> None:
        """Edit this script."""
        self.document.put(text, path, edited, overrides, origin)
        self.editor.move_cursor((0, 0))
        self.query_one(DialRows).move(1)
        self.query_one(ReportRows).begin()
        self.leave_begin()
        self.call_after_refresh(self.checks.check)

    def put_room(self, room: RoomView) -> None:
        """Begin a draft that asks for just what there is room for now."""
        self.opening.take_new(from_room(room, self.board))

    def add_module(self, module: str) -> None:
        """Have the draft load a module; an empty one is begun for it."""
        if self.document.empty or self.beginning.shown:
            self.opening.take_new(script(self.board, "new", (f'modules  = ["{module}"]',), "true"))
            return
        loaded = self.document.modules()
        if module not in loaded:
            self._edit_header((("modules", [*loaded, module]),))
        self.leave_begin()

    @on(TextArea.Changed)
    def _changed(self) -> None:
        self.checks.revision += 1
        self.document.changed()
        self.query_one(ReportRows).grow_stale()
        self.query_one(DialRows).grow_stale()
        self._show_dials()
        soon(self, PAUSE_S, partial(self._settle, self.checks.revision))

    def _settle(self, revision: int) -> None:
        """Check and keep the draft, unless another key has come meanwhile."""
        if self.checks.revision == revision:
            self.checks.check()
            if problem := self.document.keep():
                self._say(problem, bad=True)

    @on(TextArea.SelectionChanged)
    def _moved(self) -> None:
        self.post_message(CursorMoved())

    def action_undo(self) -> None:
        """Take the last change back, from a dial or the keyboard."""
        before = self.editor.text
        self.editor.undo()
        if self.editor.text == before:
            self._say("There is nothing to take back.")

    def action_redo(self) -> None:
        """Make it again."""
        before = self.editor.text
        self.editor.redo()
        if self.editor.text == before:
            self._say("There is nothing to make again.")

    # -- beginning, opening, saving ----------------------------------------------------------------

    def leave_begin(self) -> None:
        """Back to the script."""
        self.beginning.leave()
        self.line.hide()
        if self.display:
            self.editor.focus()

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Show what would be taken."""
        if self.beginning.shown:
            self.beginning.show_preview()

    def on_begin(self, message: Begin) -> None:
        """Begin, after a question when something not saved would be lost."""
        if message.ask:
            self.action_ask_path(message.ask)
        else:
            self.opening.begin(message)

    def action_ask_path(self, what: str) -> None:
        """Ask for a path, a command or a task in a line above the script."""
        self.line.ask(what, self.document.path)

    @on(Input.Submitted, "#path")
    def _line_given(self, event: Input.Submitted) -> None:
        text, path = event.value.strip(), self.line.path()
        match self.line.asked:
            case "open":
                self.on_begin(Begin(path=path))
            case "line" if text:
                self.opening.take_new(from_line(text, self.board))
            case "commands":
                self.opening.take_commands(path)
            case "task":
                self.line.hide()
                self.editor.focus()
                self.sending.try_task(text)
            case "save":
                self.saving.save_to(path, str(path) == self.document.path)

    # -- dials and checks --------------------------------------------------------------------------

    def _show_dials(self) -> None:
        """The dials as the header stands, at once; what follows from them comes with the report."""
        if self.board is not None:
            overrides = self.document.overrides.values
            self.query_one(DialRows).show_script(self.document.text, self.board, overrides)

    def on_dial_turned(self, message: DialTurned) -> None:
        """Write it into the header."""
        self._edit_header(message.change)

    def on_rung_chosen(self, message: RungChosen) -> None:
        """Ask for what the ladder shows."""
        self._edit_header(message.change)

    def _edit_header(self, edit: HeaderEdit) -> None:
        try:
            self.document.edit_header(edit)
        except BadValue as fault:
            self._say(f"The header cannot be changed: {fault}", bad=True)

    def _show_report(self, report: DraftReport) -> None:
        self.query_one(ReportRows).show(report)
        self.query_one(DialRows).show_report(report)
        self.query_one(Margin).show(report.diagnostics)
        self.post_message(CursorMoved())

    def on_check_chosen(self, message: CheckChosen) -> None:
        """Go to the line of a check."""
        self.checks.go_to(message.diagnostic)

    # -- panes -------------------------------------------------------------------------------------

    def action_back(self) -> None:
        """Back to the script; from the script to the report, where a number goes to a place and isn't typed."""
        if self.goes_to(self.editor):
            self.query_one(ReportRows).rest()
        elif self.goes_to(self.query_one(OverridesEdit)) and not self.document.overrides.values:
            self.action_overrides()
        else:
            self.leave_begin()
        self.post_message(CursorMoved())

    def action_choose(self) -> None:
        """Do what the line under the cursor stands for."""
        rows, report = self.beginning.rows, self.query_one(ReportRows)
        if self.goes_to(rows) or self.goes_to(report):
            (rows if self.goes_to(rows) else report).choose()
        else:
            self._say("There is nothing to take here.")

    def action_side(self) -> None:
        """Keys to the dials, to the report, to the script."""
        dials, report = self.query_one(DialRows), self.query_one(ReportRows)
        order = (dials, report, self.editor)
        present = next((place for place, widget in enumerate(order) if self.goes_to(widget)), 2)
        order[(present + 1) % 3].focus()

    def action_overrides(self) -> None:
        """Show or put away what is said at submission beside the file."""
        pane = self.document.overrides
        if self.document.empty or self.beginning.shown:
            self._say(f"There is no script yet; {key_of('begin')} shows what one can begin from.")
        elif pane.display:
            self.document.once_is_over()
        else:
            pane.display = True
            pane.show(self.document.text)
            self.query_one(OverridesEdit).focus()

    def action_shell(self) -> None:
        """A shell on cores of this machine; what works in it can become a script."""
        self.quarry.open_shell(self.report)

    # -- words -------------------------------------------------------------------------------------

    def note(self) -> str:
        """Explain the key in the cursor's line, or what is wrong there."""
        if self.beginning.shown:
            return draft_sentences.BEGIN
        dials, report, line = self.query_one(DialRows), self.query_one(ReportRows), self.document.cursor_line
        told = draft_sentences.dial_words(dials.under_cursor()) if self.goes_to(dials) else ""
        told = told or (draft_sentences.line_words(report.under_cursor()) if self.goes_to(report) else "")
        told = told or draft_sentences.check_words(self.checks.at(line))
        key_line = self.editor.line_of_header(line - 1)
        return told or draft_sentences.key_words(key_line) or draft_sentences.script_words(self.report)

    def acts(self) -> list[Hint]:
        """The acts that can be done here."""
        return draft_sentences.BEGIN_ACTS if self.beginning.shown else draft_sentences.script_acts(self.report)

    def why_not(self, act: str) -> str:
        """When an act works that doesn't now; what begins a script needs none."""
        return "" if act in ("submit", "save", "try_one", "this_time", "tasks") else super().why_not(act)

    def costs(self, act: str) -> str:
        """Say what submitting the script comes to, as the site said last."""
        report = self.report
        if act != "submit" or self.document.empty or report is None or report.refused:
            return ""
        return f"Submit {report.name}? {cost_words(report)}"

    def tables(self) -> list[Table]:
        """When it would start otherwise."""
        return [draft_table(self.report)] if self.report is not None and self.report.starts.ladder else []
