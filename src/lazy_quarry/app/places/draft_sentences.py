"""Sentences of Draft: about the check, the dial or the header key under the cursor; and which keys work."""

from lazy_quarry.app.header_dials import Dial, HeaderEdit
from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.key_notes import KEY_NOTES
from lazy_quarry.app.widgets.draft_report import Line
from lazy_quarry.core.header.diagnostic import Diagnostic
from lazy_quarry.site.draft_view import DraftReport

BEGIN = "A script says at its top what it requests, in comments. Begin from a shape, or from something you have."
BEGIN_KEYS: list[KeyHint] = [
    ("↑↓", "choose", ""),
    ("enter", "take it", ""),
    ("ctrl+o", "open by path", "app.place_action('ask_path(\"open\")')"),
    ("f4", "a shell", "app.place_action('shell')"),
    ("esc", "back to the script", "app.place_action('back')"),
]

WHY_NOT = {
    **dict.fromkeys(("f8", "f9"), "where the check has something to say"),
    **dict.fromkeys(("ctrl+g", "ctrl+s", "f5", "f7"), "with a script in the editor"),
    "f3": "with a script that has an [array]",
}


def check_words(one: Diagnostic | None) -> str:
    """A finding, with its fix if it has one."""
    if one is None:
        return ""
    fix = f" f9: {one.fix.label}." if one.fix else ""
    return f"Line {one.line}, {one.severity.words}: {one.message}.{fix}"


def dial_words(dial: Dial | None) -> str:
    """What a dial sets."""
    if dial is None:
        return ""
    if dial.trait:
        return f"{dial.name}: → requires it, → again excludes its nodes. The figures beside it count the nodes that would match."
    return f"{dial.name}: {KEY_NOTES.get(dial.key, '')}"


def edit_words(edit: HeaderEdit) -> str:
    """What enter would ask for."""
    told = ", ".join(f"{key} = {value}" if value is not None else f"no {key}" for key, value in edit)
    return f"enter asks for this instead: {told}."


def line_words(line: Line | None) -> str:
    """What a line of the report says or offers; empty for nothing."""
    if line is not None and line.check:
        return check_words(line.check)
    return edit_words(line.change) if line is not None and line.change else ""


def key_words(line: str) -> str:
    """What the header key in a line means; empty for none."""
    key = line.removeprefix("#").partition("=")[0].strip()
    return f"{key}: {KEY_NOTES[key]}" if key in KEY_NOTES else ""


def script_words(report: DraftReport | None) -> str:
    """What is said when there is nothing special."""
    if report and report.refused:
        return "Something must change before it can be submitted; the checks on the right say what."
    return "The header between the two # /// lines says what the job requests. ctrl+g submits it as it stands."


def script_keys(report: DraftReport | None) -> list[KeyHint]:
    """The keys of a script that is being written."""
    keys: list[KeyHint] = [("ctrl+g", "submit", "app.place_action('submit')")]
    if report and report.diagnostics:
        keys.append(("f8", "next check", "app.place_action('next_check')"))
        if any(one.fix for one in report.diagnostics):
            keys.append(("f9", "fix", "app.place_action('fix')"))
    if report and report.shape.tasks:
        keys.append(("f3", "its tasks", "app.place_action('tasks')"))
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
        ("esc 1…6", "places; alt with the number too, where the terminal sends it", ""),
        ("ctrl+q", "leave", "app.quit"),
    ]
