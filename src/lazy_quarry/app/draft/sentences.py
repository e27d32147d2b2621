"""Sentences of Draft: about the check, the dial or the header key under the cursor; and which keys work."""

from lazy_quarry.app.draft.header_dials import Dial, HeaderEdit
from lazy_quarry.app.draft.report import ReportLine
from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.place import Hint
from lazy_quarry.core.header.diagnostic import Diagnostic
from lazy_quarry.core.header.keys import note_of
from lazy_quarry.views.draft_view import DraftReport

BEGIN = "A script says at its top what it requests, in comments. Begin from a shape, or from something you have."
BEGIN_ACTS: list[Hint] = [
    ("↑↓", "choose", ""),
    ("open", "take it"),
    ("open_file", "open by path"),
    "shell",
    ("back", "back to the script"),
]

WHY_NOT = {
    **dict.fromkeys(("next_check", "fix"), "where the check has something to say"),
    **dict.fromkeys(("submit", "save", "try_one", "this_time"), "with a script in the editor"),
    "tasks": "with a script that has an [array]",
}


def check_words(one: Diagnostic | None) -> str:
    """A finding, with its fix if it has one."""
    if one is None:
        return ""
    fix = f" {key_of('fix')}: {one.fix.label}." if one.fix else ""
    return f"Line {one.line}, {one.severity.words}: {one.message}.{fix}"


def dial_words(dial: Dial | None) -> str:
    """Say what a dial sets."""
    if dial is None:
        return ""
    if dial.trait:
        return f"{dial.name}: → requires it, → again excludes its nodes. The figures beside it count the nodes that would match."
    return f"{dial.name}: {note_of(dial.key)}"


def edit_words(edit: HeaderEdit) -> str:
    """Say what enter would ask for."""
    told = ", ".join(f"{key} = {value}" if value is not None else f"no {key}" for key, value in edit)
    return f"enter asks for this instead: {told}."


def line_words(line: ReportLine | None) -> str:
    """Word a line of the report, or its offer; empty for nothing."""
    if line is not None and line.check:
        return check_words(line.check)
    return edit_words(line.change) if line is not None and line.change else ""


def key_words(line: str) -> str:
    """Explain the header key in a line; empty for none."""
    key = line.removeprefix("#").partition("=")[0].strip()
    return f"{key}: {note}" if (note := note_of(key)) else ""


def script_words(report: DraftReport | None) -> str:
    """The words where there is nothing special to say."""
    if report and report.refused:
        return "Something must change before it can be submitted; the checks on the right say what."
    return f"The header between the two # /// lines says what the job requests. {key_of('submit')} submits it as it stands."


def script_acts(report: DraftReport | None) -> list[Hint]:
    """The acts on a script that is being written."""
    found: list[Hint] = ["submit"]
    if report and report.diagnostics:
        found.append("next_check")
        if any(one.fix for one in report.diagnostics):
            found.append("fix")
    if report and report.shape.tasks:
        found.append("tasks")
    found += ["pane", "try_one", "this_time", "begin", "shell", "save", ("open_file", "open"), "undo"]
    places = ("esc 1…6", "places; alt with the number too, where the terminal sends it", "")
    return [*found, places, "figure", "table", ("ctrl+q", "leave", "app.quit")]
