"""Asking the site what it says of the draft, at every pause."""

import time
from collections.abc import Callable
from functools import partial

from lazy_quarry.app.draft.document import DraftDocument
from lazy_quarry.app.draft.report import ReportRows
from lazy_quarry.app.shared.acts import bound_of, key_of
from lazy_quarry.app.shared.feature import Feature
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.header.diagnostic import Diagnostic, Fix
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.values import replace
from lazy_quarry.errors import QuarryError
from lazy_quarry.probe.language import findings
from lazy_quarry.probe.script import with_surroundings
from lazy_quarry.views.draft_view import DraftReport

AGAIN_S = 10.0
"""Seconds that an answer stays when neither draft nor site has changed: room may follow from the clock alone."""


class DraftChecks(Feature):
    """Keeps the last report, and goes from check to check; ``show`` is called with each new report."""

    NAME = "checks"
    BOUND = (
        bound_of(NAME, "next_check", "go_on", "to the next line that has something to check", priority=True),
        bound_of(NAME, "fix", "fix", "make the fix of the check under the cursor", priority=True),
    )

    def __init__(self, place: Place, document: DraftDocument, show: Callable[[DraftReport], None]) -> None:
        super().__init__(place)
        self.document, self._show = document, show
        self.report: DraftReport | None = None
        self.revision = 0
        """Grows with every change of the text; an answer to an earlier one is dropped."""
        self._findings: tuple[Diagnostic, ...] = ()
        """Findings of other programs about the script, the last."""
        self._version = 0
        """The version of the site that was last seen."""
        self._asked: tuple[int, int, float] | None = None
        """The revision, the version of the site and the instant at which it was asked last; None: that had no answer."""

    def check(self) -> None:
        """Ask about the draft as it stands."""
        if self.quarry.client is not None and not self.document.empty:
            self._asked = self.revision, self._version, time.monotonic()
            ask = partial(self._ask, self.document.submission(), self.revision, self._findings)
            self.place.run_worker(ask, thread=True, exclusive=True, group="check")

    def follow(self, version: int) -> None:
        """Ask again if draft or site has changed since the last answer, or that is old."""
        self._version, asked = version, self._asked
        if asked is None or asked[:2] != (self.revision, version) or time.monotonic() >= asked[2] + AGAIN_S:
            self.check()

    def _ask(self, submission: Submission, revision: int, known: tuple[Diagnostic, ...]) -> None:
        """First the site's own findings, with what was known about the script; then also those of other programs."""
        client = self.quarry.client
        if client is None:
            return
        quick = replace(with_surroundings(submission), findings=known)
        try:
            report = client.check(quick)
            if revision == self.revision:
                self.quarry.hand_over(self._take, report, known, revision)
            found = findings(submission.script)
            if found != known and revision == self.revision:
                report = client.check(replace(quick, findings=found))
                self.quarry.hand_over(self._take, report, found, revision)
        except QuarryError as fault:
            self._asked = None
            self.say(str(fault), bad=True)

    def _take(self, report: DraftReport, found: tuple[Diagnostic, ...], revision: int) -> None:
        if revision == self.revision:
            self.report, self._findings = report, found
            self._show(report)

    def next_after(self, line: int) -> Diagnostic | None:
        """The first finding below a line, else the first one."""
        if not self.report or not self.report.diagnostics:
            return None
        by_line = sorted(self.report.diagnostics, key=lambda one: one.line)
        return next((one for one in by_line if one.line > line), by_line[0])

    def at(self, line: int) -> Diagnostic | None:
        """The worst finding in a line."""
        return next((one for one in self.report.diagnostics if one.line == line), None) if self.report else None

    def fix_for(self, line: int, chosen: Diagnostic | None) -> Fix | None:
        """The fix of the chosen finding, else of one in this line, else of the first that has one."""
        found = [one for one in self.report.diagnostics if one.fix] if self.report else []
        here = [one for one in found if one.line == line]
        return next((one.fix for one in ([chosen] if chosen else []) + here + found if one.fix), None)

    def go_to(self, one: Diagnostic) -> None:
        """Put the cursor of the script on a check."""
        self.document.editor.move_cursor((max(0, one.line - 1), max(0, one.column - 1)), center=True)
        self.document.editor.focus()

    def go_on(self) -> None:
        """To the next line that has a check."""
        if one := self.next_after(self.document.cursor_line):
            self.go_to(one)
        else:
            self.say("There is nothing to check: the site has no objection.")

    def fix(self) -> None:
        """Make the fix of the check under the cursor, else of the first that has one."""
        rows = self.one(ReportRows)
        fix = self.fix_for(self.document.cursor_line, rows.check_under_cursor() if self.goes_to(rows) else None)
        if fix is None:
            self.say("No check has a fix that is certain; change it by hand.")
        else:
            self.document.editor.put(fix.apply(self.document.text))
            self.say(f"Done: {fix.label}. {key_of('undo')} takes it back.")
