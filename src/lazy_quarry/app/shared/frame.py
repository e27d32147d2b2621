"""The frame around every place: the trail, the strata, the note and the keys."""

from lazy_quarry.app.shared.cells import Pen, bar, wrap
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.app.shared.key_hint import KeyHint
from lazy_quarry.core.units import clock_time, plural
from lazy_quarry.views.board import Board

PLACES = ("survey", "draft", "chain", "watch", "review", "ledger")


class Trail(Lines):
    """Where one is among the six places, and whose clock it is."""

    DEFAULT_CSS = "Trail { height: 1; }"

    def __init__(self) -> None:
        super().__init__(id="trail")
        self.board: Board | None = None
        self.place = "survey"

    def show(self, board: Board) -> None:
        """A new board."""
        self.board = board
        self.refresh()

    def show_place(self, place: str) -> None:
        """The place that the person is in."""
        self.place = place
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """The one line of it."""
        width = self.size.width
        narrow = width < 130
        pen.write(" ◢◣ " if width < 110 else " ◢◣ lazy quarry  ", "ochre", bold=True)
        board = self.board
        pen.write(f"{board.site.name if board else ''}  ", "dim")
        for number, place in enumerate(PLACES, 1):
            if number > 1:
                pen.write("╱", "faint")
            word = f" {number} {place.capitalize()} "
            hit = f"app.go('{place}')"
            if place == self.place:
                pen.write(word, "ground", ground="ochre", bold=True, hit=hit)
            else:
                pen.write(word, "ink", hit=hit)
        if board is None:
            return
        who = f"{board.person.user} · {board.person.account}"
        right = [(f"{board.clock.kind} ", "dim")] if board.clock.kind == "rehearsal" else []
        if board.clock.kind == "rehearsal":
            right.append(("paused" if board.clock.paused else f"×{board.clock.speed}", "ochre"))
        right.append((f"  {self.quarry.weekday_time(board.now_ms)} ", "ink"))
        if not narrow:
            right.insert(0, (f"{who}   ", "dim"))
        while len(right) > 1 and pen.at + sum(len(text) for text, _ in right) > width:
            del right[0]  # the clock stays in sight
        size = sum(len(text) for text, _ in right)
        if pen.at + size <= width:
            pen.to(width - size)
            for text, colour in right:
                pen.write(text, colour, hit="app.faster(1)" if "×" in text else "")


class StrataLines(Lines):
    """All cores of the cluster as one coloured line, with its figures."""

    DEFAULT_CSS = "StrataLines { height: 3; }"

    def __init__(self) -> None:
        super().__init__(id="strata")
        self.board: Board | None = None

    def show(self, board: Board) -> None:
        """A new board."""
        self.board = board
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """The coloured line, its figures, a thin rule."""
        width = self.size.width
        board = self.board
        if row == 2:
            pen.write("─" * width, "faint")
            return
        if board is None:
            pen.write("░" * width if row == 0 else " opening the site …", "faint" if row == 0 else "dim")
            return
        strata = board.strata
        layers = (
            (strata.mine, "█", "ochre", "mine", "app.show_jobs('mine')"),
            (strata.accounts, "█", "moss", "my accounts", "app.show_jobs('accounts')"),
            (strata.others, "█", "stone", "others", "app.show_jobs('everyone')"),
            (strata.closed, "▚", "rust", "closed", "app.go('survey')"),
            (strata.free, "░", "faint", "free", "app.go('survey')"),
        )
        if row == 0:
            bar(pen, [(amount, character, colour) for amount, character, colour, _, _ in layers], width, strata.total)
            return
        pen.write(" ")
        for amount, _, colour, name, hit in layers:
            if name == "closed" and not amount:
                continue
            shown = "dim" if colour in ("stone", "faint") else colour
            of = f" of {plural(strata.total, 'core')}" if name == "free" else ""
            pen.write(f"{name} {amount:,}{of}", shown, hit=hit).write("   ")
        for window in board.site.windows[:1]:
            when = clock_time(window.begins_ms, board.now_ms, self.quarry.zone)
            words = f"{window.reason}: {when} "
            if pen.at + len(words) + 2 < width:
                pen.to(width - len(words)).write(words, "dim")


class NoteBar(Lines):
    """One or two sentences about what is under the cursor, and the keys that work here and now."""

    DEFAULT_CSS = "NoteBar { height: 4; }"

    def __init__(self) -> None:
        super().__init__(id="note")
        self.text = ""
        self.bad = False
        self.keys: list[tuple[str, str, str]] = []

    def show_keys(self, keys: list[KeyHint]) -> None:
        """Other keys, if they differ."""
        if keys != self.keys:
            self.keys = keys
            self.refresh()

    def say(self, text: str, bad: bool = False) -> None:
        """Change the sentence."""
        if (text, bad) != (self.text, self.bad):
            self.text, self.bad = text, bad
            self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """A rule, two lines of note, a line of keys."""
        width = self.size.width
        if row == 0:
            pen.write("─" * width, "faint")
        elif row < 3:
            lines = wrap(self.text, width - 2, 2)
            if row <= len(lines):
                pen.write(" " + lines[row - 1], "rust" if self.bad else "ink")
        else:
            pen.write(" ")
            *others, last = self.keys or [("", "", "")]
            room = width - len(last[0]) - len(last[1]) - 2  # the last one lists all others, so it is always there
            for key, words, action in others:
                if pen.at + len(key) + len(words) + 4 > room:
                    break
                pen.write(key, "ochre", hit=action).write(f" {words}   ", "dim", hit=action)
            pen.write(last[0], "ochre", hit=last[2]).write(f" {last[1]}", "dim", hit=last[2])
