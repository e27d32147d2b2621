"""Chain as a drawing board: jobs added, taken out, tied and untied, opened as drafts; undone, redone, saved."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

import tomlkit

from lazy_quarry.app.chain.graph import EdgeChosen, SlabChosen, SlabsTied
from lazy_quarry.app.chain.rows import ChainList, PartRows
from lazy_quarry.app.chain.seeing import ChainSeeing
from lazy_quarry.app.chain.sentences import drawing_words
from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.draft_shelf import THERE
from lazy_quarry.app.shared.messages import OpenJob
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.chain import chain_edit
from lazy_quarry.core.chain.chain_file import read_chain
from lazy_quarry.core.header.keys import CONDITIONS
from lazy_quarry.core.paths import within
from lazy_quarry.errors import BadValue
from lazy_quarry.views.chain_views import ChainSource


class ChainEditing(ChainSeeing):
    """A place with a chain file that can be changed by keys and mouse."""

    BINDINGS = [
        bound("left", "along(-1)", "to a job that this one waits for; from the first back to the chains"),
        bound("right", "along(1)", "to a job that waits for this one"),
        bound("script", "script", "the script of the job under the cursor, in Draft"),
        bound("change", "condition", "the next condition: succeeds, fails, finishes, begins, each-succeeds"),
        bound("add", "add", "add a job after the one under the cursor"),
        bound("link", "link", "tie: here, then at the job that waits for this one"),
        bound("unlink", "unlink", "untie: here, then at the other job"),
        bound("remove", "take_out", "take the job out of the file"),
        bound("undo", "undo", "take the last change of the file back"),
        bound("redo", "redo", "make it again"),
        bound("save", "save", "save the file", priority=True),
        bound("back", "leave_off", "leave a line undrawn, what is typed untyped, a rehearsal unplayed"),
    ]
    begun = ("", "")
    """A line that is being drawn or cut: ``link`` or ``unlink``, and the job where it begins."""
    condition = CONDITIONS[0]
    _typed: Callable[[str], None] | None = None

    def _read(self) -> object:
        """Read the chains again; the place does it."""
        raise NotImplementedError

    @property
    def drafting(self) -> bool:
        """True when the chain under the cursor is the one that is open as a file."""
        view = self.query_one(ChainList).current()
        return self.desk.open and (view is None or not view.number)

    # -- a line to type in -------------------------------------------------------------------------

    def _ask(self, placeholder: str, value: str, then: Callable[[str], None], *, add: bool = False) -> None:
        """Ask for a line; ``value`` stands there, to be replaced by what is typed, or with ``add`` to be gone on with."""
        line = self.query_one("#chain-path", Typed)
        line.display, line.placeholder, line.value, self._typed = True, placeholder, value, then
        line.cursor_position, line.select_on_focus = len(value), not add
        self.screen.set_focus(line)  # at once: what is typed ahead gets there

    def _answered(self, text: str) -> None:
        self.query_one("#chain-path", Typed).display = False
        self.screen.set_focus(self.query_one(PartRows) if self.desk.open else self.query_one(ChainList))
        then, self._typed = self._typed, None
        if then is not None and text.strip():
            then(text.strip())

    # -- changing it -------------------------------------------------------------------------------

    def _change(self, edit: Callable[[str], str], said: str, goes_to: str = "") -> None:
        """Change the file, and put the cursor on a job; what can't be is said and changes nothing."""
        self.begun = ("", "")
        if not self.drafting:
            self._say(f"Only a chain that is open as a file can be changed: {key_of('open_file')} opens one.", bad=True)
            return

        def change() -> None:
            try:
                self.desk.change(edit)
            except BadValue as fault:
                raise BadValue(f"Not changed: {fault}.") from None

        self.quarry.aside(change, lambda _: self._changed(said, goes_to))

    def _changed(self, said: str, goes_to: str) -> None:
        self._say(f"{said} {key_of('undo')} takes it back, {key_of('save')} saves.")
        if goes_to:
            self.query_one(PartRows).wanted = goes_to
        self._stop()
        self._read()

    def action_add(self) -> None:
        """Ask for a name and what the new job runs; it comes after the one under the cursor."""
        if not self.drafting:
            self._say(
                f"The cursor is on a chain that was submitted: {key_of('open_file')} opens a file, or begins one.",
                bad=True,
            )
            return
        part = self._part()
        after = f", after {part.name}" if part else ""
        self._ask(f"a new job{after}: its name, then the path of its script or a command", "", self._add)

    def _add(self, words: str) -> None:
        name, _, runs = words.partition(" ")
        runs = runs.strip()
        folder = str(Path(self.desk.path).parent) if self.desk.path else str(self.desk.folder)
        script = runs or f"{name}.sh"
        self.quarry.aside(
            lambda: Path(within(folder, script)).is_file(), partial(self._add_found, name, runs, folder, script)
        )

    def _add_found(self, name: str, runs: str, folder: str, script: str, found: bool) -> None:
        if not found and not runs:
            # asked again with what was typed, so that the rest can be added to it
            self._ask(f"{name} and what it runs: the path of a script, or a command", f"{name} ", self._add, add=True)
            self._say(
                f"{script} is not in {folder}: say what {name} runs, the path of a script or a command.", bad=True
            )
            return
        value: dict[str, object] = {"script": script} if found else {"commands": [runs]}
        part = self._part()
        after = {part.name: self.condition} if part is not None else {}
        said = f"{name} was added{f' after {part.name}; the cursor stays, so that others can hang on it too' if part else ''}."
        edit = partial(chain_edit.with_job, name=name, runs=value, after=after)
        self._change(edit, said, "" if part is not None else name)

    def action_take_out(self) -> None:
        """Take the job under the cursor out of the file."""
        part = self._part()
        if part is None:
            self._say("There is no job under the cursor to take out.")
            return
        waiting = [name for name, other in self._ties(part.name) if other == part.name]
        lost = f", for which {' and '.join(waiting)} waited, and now no longer" if waiting else ""
        self._change(partial(chain_edit.without_job, name=part.name), f"{part.name} was taken out{lost}.")

    def action_link(self) -> None:
        """Begin a line at the job under the cursor, or end it there."""
        self._tie("link")

    def action_unlink(self) -> None:
        """Begin at the job under the cursor what is to be cut, or cut it."""
        part = self._part()
        ties = self._ties(part.name) if part is not None and not self.begun[0] else []
        if part is not None and len(ties) == 1:  # there is only one that could be meant
            self._cut(*ties[0])
        else:
            self._tie("unlink")

    def _ties(self, name: str) -> list[tuple[str, str]]:
        """The ties of a job, each as (what waits, what it waits for)."""
        view = self.query_one(PartRows).view
        ties = [(one.name, other) for one in (view.parts if view else ()) for other, _ in one.after]
        return [tie for tie in ties if name in tie]

    def _tie(self, what: str) -> None:
        part = self._part()
        if part is None or not self.drafting:
            self._say(f"Lines are drawn in a chain that is open as a file: {key_of('open_file')} opens one.", bad=True)
            return
        self.screen.set_focus(self.query_one(PartRows))
        kind, first = self.begun
        if kind != what:
            self.begun = (what, part.name)
            self._say(drawing_words(*self.begun, self.condition))
            self._follow()
        elif first == part.name:
            self._say(f"Go to another job first; {key_of(what)} there ends the line.")
        elif what == "link":
            self._link(part.name, first, self.condition)
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

    def action_condition(self) -> None:
        """The next of the five conditions: for the line that is drawn, else for what the job waits for."""
        if self.begun[0] == "link":
            self.condition = _next(self.condition)
            self._say(drawing_words(*self.begun, self.condition))
            return
        part = self._part()
        if part is None or not part.after:
            self._say("The job under the cursor waits for none whose condition could change.")
        elif len(part.after) > 1:
            self._say(f"It waits for several: click the end of a line, or draw it again with {key_of('link')}.")
        else:
            other, condition = part.after[0]
            self._link(part.name, other, _next(condition))

    def action_leave_off(self) -> None:
        """Leave a line undrawn, what is typed untyped, a rehearsal unplayed; else go back to the chains."""
        line = self.query_one("#chain-path", Typed)
        if line.display:
            self._answered("")
        elif self.begun[0]:
            self.begun = ("", "")
            self._follow()
        elif self.played_ms is not None:
            self._stop()
            self._follow()
        elif self.goes_to(self.query_one(ChainList)):
            self._say("There is nothing to leave off here.")
        else:
            self.query_one(ChainList).focus()

    def action_undo(self) -> None:
        """Take the last change back."""
        self._turned(self.desk.undo(), "There is nothing to take back.")

    def action_redo(self) -> None:
        """Make it again."""
        self._turned(self.desk.redo(), "There is nothing to make again.")

    def _turned(self, done: bool, otherwise: str) -> None:
        if done:
            self._stop()
            self._read()
        else:
            self._say(otherwise)

    # -- by mouse ----------------------------------------------------------------------------------

    def on_slab_chosen(self, message: SlabChosen) -> None:
        """Go there; a second click opens it, as enter does."""
        rows = self.query_one(PartRows)
        rows.choose(message.name)
        rows.focus()
        if self.begun[0]:
            self._tie(self.begun[0])
        elif message.again:
            self.action_open()

    def on_slabs_tied(self, message: SlabsTied) -> None:
        """A line was drawn from one slab to another; drawn where there is one already, it is cut."""
        pair = message.after, message.before
        if pair in self._ties(message.after):
            self._cut(*pair)
        else:
            self._link(*pair, self.condition)

    def on_edge_chosen(self, message: EdgeChosen) -> None:
        """The next condition for this line."""
        view = self.query_one(PartRows).view
        part = next((one for one in view.parts if one.name == message.name), None) if view else None
        if part is not None:
            self._link(message.name, message.other, _next(dict(part.after)[message.other]))

    # -- going along -------------------------------------------------------------------------------

    def action_along(self, by: int) -> None:
        """To a job that this one waits for, or that waits for it; from the first back to the chains."""
        rows, chains, part = self.query_one(PartRows), self.query_one(ChainList), self._part()
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
            self._say(f"No job waits for {part.name}.")

    # -- as a draft --------------------------------------------------------------------------------

    def action_script(self) -> None:
        """The script of the job under the cursor, in Draft."""
        part = self._part()
        if part is None:
            self._say("There is no job under the cursor whose script could be shown.")
        elif self.drafting:
            self._draft(part.name)
        else:
            self.quarry.draft_job(part.job)

    def action_open(self) -> None:
        """From the chains to the jobs; from there a job of the file to Draft, one that was submitted to Review."""
        rows = self.query_one(PartRows)
        part = rows.current()
        if not self.goes_to(rows):
            rows.focus()
        elif part is not None and part.job:
            self.post_message(OpenJob(part.job))
        elif part is not None and self.drafting:
            self._draft(part.name)

    def _draft(self, name: str) -> None:
        self.quarry.aside(self.desk.source, partial(self._draft_of, name))

    def _draft_of(self, name: str, source: ChainSource) -> None:
        chain = read_chain(source.text, source.scripts, (), source.name).chain
        job = next((one for one in chain.jobs if one.name == name), None) if chain else None
        where = f"{name} of {Path(self.desk.path).name if self.desk.path else 'this chain'}"
        if job is not None and job.path:
            arguments = (f"arguments={tomlkit.item(list(job.arguments)).as_string()}",) if job.arguments else ()
            more = (*job.overrides, *arguments)
            self.quarry.draft_script(job.script, where, within(source.folder, job.path), more)
            return
        try:
            text = chain_edit.as_script(source.text, name)
        except BadValue as fault:
            self._say(f"Not opened: {fault}.", bad=True)
            return
        around = (*job.shared, *job.told) if job is not None else ()
        self.quarry.draft_script(text, where, "", around, partial(self._take_back, name))

    def _take_back(self, name: str, script: str) -> str:
        """Put a job's script back into the chain; what went wrong, or nothing. For a thread."""
        try:
            self.desk.change(partial(chain_edit.with_script, name=name, script=script))
        except BadValue as fault:
            return f"Not put back into the chain: {fault}"
        self.quarry.hand_over(self._read)
        return "" if self._fixed() or not self.desk.path else self.desk.save_to(Path(self.desk.path))

    # -- saving ------------------------------------------------------------------------------------

    def _fixed(self) -> bool:
        """True for one of the site's examples, which stay as they are."""
        examples = self.board.site.examples if self.board else ""
        return bool(examples) and Path(self.desk.path).is_relative_to(examples)

    def action_save(self) -> None:
        """Write the chain to its file, or ask for one."""
        if not self.desk.open:
            self._say(f"There is no chain to save: {key_of('open_file')} opens a file.")
        elif self.desk.path and not self._fixed():
            self._save(Path(self.desk.path))
        else:
            name = Path(self.desk.path).name if self.desk.path else "chain.toml"
            self._ask("save it as", str(self.quarry.folder / name), self._save_as)

    def _save_as(self, words: str) -> None:
        path = Path(words).expanduser()
        path = path if path.is_absolute() else self.quarry.folder / path
        self._save(path, str(path) == self.desk.path)

    def _save(self, path: Path, replace: bool = True) -> None:
        self.quarry.aside(lambda: self.desk.save_to(path, replace), partial(self._was_saved, path))

    def _was_saved(self, path: Path, problem: str) -> None:
        if problem == THERE:
            question = f"{path} is there already. Replace it?"
            self.quarry.ask(question, lambda: self._save(path), yes="Replace", no="Keep it")
            return
        self._say(problem or f"Saved to {path}.", bad=bool(problem))
        self._read()

    def unless_lost(self, then: Callable[[], object]) -> None:
        """Do something that puts another chain on the desk, after a question when changes would be lost."""
        if self.desk.open and self.desk.worth_keeping:
            what = self.desk.path or "this chain"
            self.quarry.ask(f"Discard unsaved changes to {what}?", then, yes="Discard", no="Keep editing")
        else:
            then()


def _next(condition: str) -> str:
    return CONDITIONS[(CONDITIONS.index(condition) + 1) % len(CONDITIONS)]
