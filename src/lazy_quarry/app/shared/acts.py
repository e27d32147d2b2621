"""The language of keys: what each key means, once, in every place that has the act.

A key is never written anywhere else. A place binds an act with :func:`bound`, and says in a sentence what it does there; hints, the
list of keys, ctrl+p and the table in docs/places.md are made from that.
"""

from dataclasses import dataclass

from msgspec import Struct
from textual.binding import Binding


class Act(Struct, frozen=True):
    """An act and its key."""

    key: str
    """As Textual writes it; several with commas."""
    words: str
    """On the line of keys, in a word or two."""
    also: str = ""
    """Other words by which people look for it."""
    changes: bool = False
    """True when it changes something that lasts: jobs, accounts, files."""


ACTS: dict[str, Act] = {
    # -- going, and looking closer
    "open": Act("enter", "open", "inspect show take choose"),
    "side": Act("tab", "other side", "pane switch focus"),
    "back": Act("escape", "back", "close leave unmark clear cancel typing"),
    "out": Act("backspace", "its array", "up parent back"),
    "tasks": Act("f3", "its tasks", "array sweep elements commands expand"),
    "find": Act("slash", "find", "search filter look for grep"),
    "next": Act("n", "next found", "again match"),
    "sort": Act("s", "sort", "order arrange"),
    "turn": Act("S", "other way round", "reverse sort descending"),
    "group": Act("g", "group", "by account queue user"),
    "columns": Act("c", "columns", "fields headings width show memory account"),
    "mark": Act("t", "mark", "select tag choose several"),
    "mark_all": Act("T", "mark all", "select everything"),
    "whose": Act("m", "whose", "mine everyone others users scope"),
    "view": Act("b", "other view", "by node budget wide list toggle room"),
    "by_what": Act("v", "by what", "measure split colour memory time cores user queue tier"),
    "fold": Act("z", "fold", "unfold open array tree wrap long lines collapse expand"),
    "failure": Act("f", "next failure", "error failed broken lost first problem"),
    # -- reading
    "why": Act("w", "why", "reason pending waiting blocked start sooner"),
    "output": Act("o", "output", "log print stdout stderr errors follow tail"),
    "script": Act("D", "its script", "draft source code job file"),
    "files": Act("i", "files", "made written results outputs products"),
    "results": Act("R", "results", "values numbers pattern compare plot"),
    "differs": Act("d", "what differs", "compare diff waste unused idle efficiency"),
    "mail": Act("M", "mail", "letters notices messages"),
    "other_run": Act("A", "other run of it", "again retry replaced"),
    "pager": Act("P", "in the pager", "read less page"),
    "editor": Act("E", "in the editor", "edit open vi"),
    "copy": Act("y", "copy the path", "clipboard yank"),
    "fetch": Act("F", "fetch it", "copy download transfer bring files here results", True),
    "pack": Act("Z", "pack it", "zip bundle help support send attach"),
    "figure": Act("ctrl+e", "figure", "svg pdf export chart plot picture image graph"),
    "table": Act("ctrl+r", "table", "csv json export spreadsheet save rows download"),
    # -- time
    "shorter": Act("left_square_bracket", "shorter", "zoom in closer"),
    "longer": Act("right_square_bracket", "longer", "zoom out wider month year"),
    "left": Act("left", "left", "earlier before previous past"),
    "right": Act("right", "right", "later after next future"),
    "now": Act("0", "now", "today present last 30 days"),
    "rehearse": Act("p", "rehearse", "play simulate policies what if study"),
    "play_faster": Act("greater_than_sign", "play faster", "speed"),
    "play_slower": Act("less_than_sign", "play slower", "speed"),
    "suppose_fails": Act("X", "if it fails", "suppose what if failure"),
    "suppose_slower": Act("W", "if twice as long", "suppose what if slower late"),
    # -- what is done to jobs, chains, accounts
    "hold": Act("h", "hold", "stop waiting keep back freeze suspend", True),
    "release": Act("r", "release", "unhold let go resume continue", True),
    "cancel": Act("x", "cancel", "stop kill delete end abort remove terminate", True),
    "again": Act("u", "run again", "rerun resubmit repeat restart requeue", True),
    "again_failed": Act("U", "what failed, again", "rerun resubmit failed continue retry", True),
    "next_time": Act("N", "next time", "advice advised draft smaller memory walltime", True),
    "change": Act("e", "change", "modify edit alter walltime memory queue account grant move members condition", True),
    "before": Act("shift+up", "before", "priority sooner up order mine", True),
    "behind": Act("shift+down", "behind", "priority later down order mine", True),
    "ring": Act("B", "tell me when it ends", "notify bell alert notice", True),
    # -- what is made
    "add": Act("a", "add a job", "new insert append after", True),
    "link": Act("l", "link", "tie depend after wait dependency", True),
    "unlink": Act("L", "unlink", "untie cut dependency", True),
    "remove": Act("delete", "remove", "delete erase take out free space quota", True),
    "submit": Act("ctrl+g", "submit", "send go run start launch queue mail report", True),
    "save": Act("ctrl+s", "save", "write keep store file pdf report search", True),
    "open_file": Act("ctrl+o", "open", "load file saved search"),
    "undo": Act("ctrl+z", "undo", "take back revert", True),
    "redo": Act("ctrl+y", "redo", "make again", True),
    "begin": Act("f2", "begin from", "new template shape start example"),
    "shell": Act("f4", "shell", "interactive terminal session", True),
    "try_one": Act("f5", "try one", "test trial check run", True),
    "pane": Act("f6", "next pane", "dials report checks request focus"),
    "this_time": Act("f7", "this time only", "override option once", True),
    "next_check": Act("f8", "next check", "error warning problem line"),
    "fix": Act("f9", "fix", "repair correct mend", True),
    # -- the whole
    "places": Act("1", "places", ""),
    "keys": Act("question_mark,f1", "all keys", "help shortcuts bindings what can I do"),
    "find_act": Act("ctrl+p", "find an act", "command palette search"),
    "ground": Act("ctrl+t", "dark or light", "theme colours dusk chalk background"),
    "draw_again": Act("ctrl+l", "draw all again", "refresh redraw garbled repaint"),
    "leave": Act("ctrl+q", "leave", "quit exit close bye"),
    "pause": Act("space", "pause", "stop clock freeze go on play"),
    "step": Act("full_stop", "step", "next event clock"),
    "faster": Act("plus,equals_sign", "faster", "clock speed"),
    "slower": Act("minus", "slower", "clock speed"),
}
"""By name. One key has one meaning, and one act one key."""

_SHOWN = {
    "slash": "/",
    "shift+up": "⇧↑",
    "shift+down": "⇧↓",
    "left_square_bracket": "[",
    "right_square_bracket": "]",
    "greater_than_sign": ">",
    "less_than_sign": "<",
    "left": "←",
    "right": "→",
    "escape": "esc",
    "delete": "del",
    "question_mark": "?",
    "full_stop": ".",
    "plus": "+",
    "minus": "−",
    "equals_sign": "=",
}


def shown(key: str) -> str:
    """A key as it is written on the screen; of several the first."""
    first = key.partition(",")[0]
    return _SHOWN.get(first, first)


def key_of(act: str) -> str:
    """The key of an act, as it is written on the screen."""
    return shown(ACTS[act].key)


@dataclass(frozen=True)
class Bound(Binding):
    """An act bound in a place or a list of it. ``tooltip`` is the sentence that says what it does there."""

    act: str = ""


def bound(act: str, action: str, sentence: str, *, priority: bool = False) -> Bound:
    """The binding of an act: what is run, and in a sentence what that does here."""
    one = ACTS[act]
    return Bound(one.key, action, one.words, tooltip=sentence, priority=priority, act=act)


def bound_of(feature: str, act: str, method: str, sentence: str, *, priority: bool = False) -> Bound:
    """The binding of an act that a feature of the place does: ``method`` with its arguments, as ``zoom(-1)``."""
    name, _, arguments = method.partition("(")
    words = ", ".join(filter(None, (f"'{feature}'", f"'{name}'", arguments.removesuffix(")"))))
    return bound(act, f"have({words})", sentence, priority=priority)


def click(action: str, *given: object) -> str:
    """The action that a click on a drawn text runs, in the place in sight; ``given`` are its arguments."""
    words = f"{action}({', '.join(map(repr, given))})"
    return f"app.place_action({words!r})"


def click_of(feature: str, method: str, *given: object) -> str:
    """The same of something that a feature of the place does."""
    return click("have", feature, method, *given)


def act_of_key(key: str) -> str:
    """The act that a key stands for wherever it exists, or empty."""
    return next((name for name, act in ACTS.items() if key in act.key.split(",")), "")
