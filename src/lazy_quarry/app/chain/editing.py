"""Chain as a drawing board: jobs added, taken out, tied and untied, by keys and mouse; undone and redone."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from lazy_quarry.app.chain.graph import EdgeChosen, SlabChosen, SlabsTied
from lazy_quarry.app.chain.on_desk import ChainOnDesk
from lazy_quarry.app.chain.rows import ChainList, PartRows
from lazy_quarry.app.chain.sentences import drawing_words
from lazy_quarry.app.shared.acts import bound_of, key_of
from lazy_quarry.app.shared.feature import Feature
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.chain import chain_edit
from lazy_quarry.core.header.keys import CONDITIONS
from lazy_quarry.core.paths import within
from lazy_quarry.errors import BadValue


class Editing(Feature):
    """Changes the chain file that is open. ``open_part`` opens the job under the cursor."""

    NAME = "editing"
    BOUND = (
        bound_of(NAME, "left", "along(-1)", "to a job that this one waits for; from the first back to the chains"),
        bound_of(NAME, "right", "along(1)", "to a job that waits for this one"),
        bound_of(
            NAME,
            "change",
            "next_condition",
            "the next condition: succeeds, fails, finishes, begins, each-succeeds",
        ),
        bound_of(NAME, "add", "add", "add a job after the one under the cursor"),
        bound_of(NAME, "link", "link", "tie: here, then at the job that waits for this one"),
        bound_of(NAME, "unlink", "unlink", "untie: here, then at the other job"),
        bound_of(NAME, "remove", "take_out", "take the job out of the file"),
        bound_of(NAME, "undo", "undo", "take the last change of the file back"),
        bound_of(NAME, "redo", "redo", "make it again"),
    )

    def __init__(self, place: Place, chain: ChainOnDesk, open_part: Callable[[], None]) -> None:
        super().__init__(place)
        self.chain, self._open = chain, open_part

    def _change(self, edit: Callable[[str], str], said: str, goes_to: str = "") -> None:
        """Change the file, and put the cursor on a job; what can't be is said and changes nothing."""
        self.chain.begun = ("", "")
        if not self.chain.drafting:
            self.say(f"Only a chain that is open as a file can be changed: {key_of('open_file')} opens one.", bad=True)
            return

        def change() -> None:
            try:
                self.chain.desk.change(edit)
            except BadValue as fault:
                raise BadValue(f"Not changed: {fault}.") from None

        self.quarry.aside(change, lambda _: self._changed(said, goes_to))

    def _changed(self, said: str, goes_to: str) -> None:
        self.say(f"{said} {key_of('undo')} takes it back, {key_of('save')} saves.")
        if goes_to:
            self.one(PartRows).wanted = goes_to
        self.chain.stop_playing()
        self.chain.read()

    def add(self) -> None:
        """Ask for a name and what the new job runs; it comes after the one under the cursor."""
        if not self.chain.drafting:
            self.say(
                f"The cursor is on a chain that was submitted: {key_of('open_file')} opens a file, or begins one.",
                bad=True,
            )
            return
        part = self.chain.part()
        after = f", after {part.name}" if part else ""
        self.chain.ask(f"a new job{after}: its name, then the path of its script or a command", "", self._add)

    def _add(self, words: str) -> None:
        name, _, runs = words.partition(" ")
        runs = runs.strip()
        folder = str(Path(self.chain.desk.path).parent) if self.chain.desk.path else str(self.chain.desk.folder)
        script = runs or f"{name}.sh"
        self.quarry.aside(
            lambda: Path(within(folder, script)).is_file(), partial(self._add_found, name, runs, folder, script)
        )

    def _add_found(self, name: str, runs: str, folder: str, script: str, found: bool) -> None:
        if not found and not runs:
            # asked again with what was typed, so that the rest can be added to it
            self.chain.ask(
                f"{name} and what it runs: the path of a script, or a command", f"{name} ", self._add, add=True
            )
            self.say(f"{script} is not in {folder}: say what {name} runs, the path of a script or a command.", bad=True)
            return
        value: dict[str, object] = {"script": script} if found else {"commands": [runs]}
        part = self.chain.part()
        after = {part.name: self.chain.condition} if part is not None else {}
        said = f"{name} was added{f' after {part.name}; the cursor stays, so that others can hang on it too' if part else ''}."
        edit = partial(chain_edit.with_job, name=name, runs=value, after=after)
        self._change(edit, said, "" if part is not None else name)

    def take_out(self) -> None:
        """Take the job under the cursor out of the file."""
        part = self.chain.part()
        if part is None:
            self.say("There is no job under the cursor to take out.")
            return
        waiting = [name for name, other in self._ties(part.name) if other == part.name]
        lost = f", for which {' and '.join(waiting)} waited, and now no longer" if waiting else ""
        self._change(partial(chain_edit.without_job, name=part.name), f"{part.name} was taken out{lost}.")

    def link(self) -> None:
        """Begin a line at the job under the cursor, or end it there."""
        self.tie("link")

    def unlink(self) -> None:
        """Begin at the job under the cursor what is to be cut, or cut it."""
        part = self.chain.part()
        ties = self._ties(part.name) if part is not None and not self.chain.begun[0] else []
        if part is not None and len(ties) == 1:  # there is only one that could be meant
            self._cut(*ties[0])
        else:
            self.tie("unlink")

    def _ties(self, name: str) -> list[tuple[str, str]]:
        """The ties of a job, each as (what waits, what it waits for)."""
        view = self.one(PartRows).view
        ties = [(one.name, other) for one in (view.parts if view else ()) for other, _ in one.after]
        return [tie for tie in ties if name in tie]

    def tie(self, what: str) -> None:
        """Begin to ``link`` or ``unlink`` at the job under the cursor, or do it where it was begun at another."""
        part = self.chain.part()
        if part is None or not self.chain.drafting:
            self.say(f"Lines are drawn in a chain that is open as a file: {key_of('open_file')} opens one.", bad=True)
            return
        self.focus(self.one(PartRows))
        kind, first = self.chain.begun
        if kind != what:
            self.chain.begun = (what, part.name)
            self.say(drawing_words(*self.chain.begun, self.chain.condition))
            self.chain.follow()
        elif first == part.name:
            self.say(f"Go to another job first; {key_of(what)} there ends the line.")
        elif what == "link":
            self._link(part.name, first, self.chain.condition)
        else:
            self._cut(part.name, first)

    def _link(self, name: str, other: str, condition: str) -> None:
        edit = partial(chain_edit.linked, name=name, other=other, condition=condition)
        self._change(edit, f"{name} now waits for {other}: {condition}.")

    def _cut(self, name: str, other: str) -> None:
        if (name, other) not in self._ties(name):
            name, other = other, name
        edit = partial(chain_edit.unlinked, name=name, other=other)
        self._change(edit, f"{name} no longer waits for {other}.")

    def next_condition(self) -> None:
        """The next of the five conditions: for the line that is drawn, else for what the job waits for."""
        if self.chain.begun[0] == "link":
            self.chain.condition = _next(self.chain.condition)
            self.say(drawing_words(*self.chain.begun, self.chain.condition))
            return
        part = self.chain.part()
        if part is None or not part.after:
            self.say("The job under the cursor waits for none whose condition could change.")
        elif len(part.after) > 1:
            self.say(f"It waits for several: click the end of a line, or draw it again with {key_of('link')}.")
        else:
            other, condition = part.after[0]
            self._link(part.name, other, _next(condition))

    def undo(self) -> None:
        """Take the last change back."""
        self._turned(self.chain.desk.undo(), "There is nothing to take back.")

    def redo(self) -> None:
        """Make it again."""
        self._turned(self.chain.desk.redo(), "There is nothing to make again.")

    def _turned(self, done: bool, otherwise: str) -> None:
        if done:
            self.chain.stop_playing()
            self.chain.read()
        else:
            self.say(otherwise)

    # -- by mouse ----------------------------------------------------------------------------------

    def choose_slab(self, message: SlabChosen) -> None:
        """Go there; a second click opens it, as enter does."""
        rows = self.one(PartRows)
        rows.choose(message.name)
        rows.focus()
        if self.chain.begun[0]:
            self.tie(self.chain.begun[0])
        elif message.again:
            self._open()

    def tie_slabs(self, message: SlabsTied) -> None:
        """A line was drawn from one slab to another; drawn where there is one already, it is cut."""
        pair = message.after, message.before
        if pair in self._ties(message.after):
            self._cut(*pair)
        else:
            self._link(*pair, self.chain.condition)

    def change_edge(self, message: EdgeChosen) -> None:
        """The next condition for this line."""
        view = self.one(PartRows).view
        part = next((one for one in view.parts if one.name == message.name), None) if view else None
        if part is not None:
            self._link(message.name, message.other, _next(dict(part.after)[message.other]))

    # -- going along -------------------------------------------------------------------------------

    def along(self, by: int) -> None:
        """To a job that this one waits for, or that waits for it; from the first back to the chains."""
        rows, chains, part = self.one(PartRows), self.one(ChainList), self.chain.part()
        if self.goes_to(chains) or part is None:
            (rows if by > 0 else chains).focus()
            return
        if by < 0:
            found = [other for name, other in self._ties(part.name) if name == part.name]
        else:
            found = [name for name, other in self._ties(part.name) if other == part.name]
        inside = [name for name in found if rows.view is not None and any(one.name == name for one in rows.view.parts)]
        if inside:
            rows.choose(inside[0])
        elif by < 0:
            chains.focus()
        else:
            self.say(f"No job waits for {part.name}.")


def _next(condition: str) -> str:
    return CONDITIONS[(CONDITIONS.index(condition) + 1) % len(CONDITIONS)]
