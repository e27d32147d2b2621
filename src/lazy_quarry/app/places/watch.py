"""Watch: what runs, what waits and why, when it will start."""

from collections.abc import Iterable

from textual import work
from textual.binding import Binding

from lazy_quarry.app.messages import CursorMoved, OpenJob, Say
from lazy_quarry.app.places.place import Key, Place
from lazy_quarry.app.widgets.ground import Ground
from lazy_quarry.app.widgets.lanes import AxisLine, JobRows, panned, zoomed
from lazy_quarry.core.job import Phase
from lazy_quarry.core.units import HOUR_MS, clock_time, fold_names, format_core_hours, format_duration, plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.views import Board, JobView
from lazy_quarry.words import counts_words, verdict

SCOPES = (("mine", "mine"), ("accounts", "my accounts"), ("everyone", "everyone"))
_ORDER = {Phase.RUNNING: 0, Phase.WAITING: 1, Phase.BLOCKED: 1, Phase.HELD: 2}


class WatchPlace(Place):
    """Jobs as lanes above, the ground of the one under the cursor below."""

    DEFAULT_CSS = "WatchPlace { padding-top: 1; }"
    BINDINGS = [
        Binding("enter", "open", "inspect"),
        Binding("o", "open", "output"),
        Binding("h", "hold", "hold"),
        Binding("r", "release", "release"),
        Binding("x", "cancel", "cancel"),
        Binding("m", "scope", "scope"),
        Binding("left_square_bracket", "zoom(-1)", "shorter time"),
        Binding("right_square_bracket", "zoom(1)", "longer time"),
        Binding("left", "pan(-1)", "earlier"),
        Binding("right", "pan(1)", "later"),
        Binding("n", "now", "now"),
        Binding("a", "unfold", "tasks"),
    ]
    scope = "mine"
    opened: frozenset[int] | set[int] = frozenset()
    """Arrays whose tasks are shown."""
    explained = ""
    explained_job = 0

    def compose(self):  # type: ignore[no-untyped-def]
        """Axis, jobs, ground."""
        yield AxisLine()
        yield JobRows()
        yield Ground()

    def show(self, board: Board) -> None:
        """New rows; nothing jumps under the cursor."""
        if self.board is None and board.clock.kind == "wall":
            self.query_one(JobRows).axis.span_ms = HOUR_MS  # what runs on one machine is mostly short
        super().show(board)
        own = set(board.my_accounts)
        by_scope: dict[str, list[JobView]] = {
            "mine": [job for job in self._jobs(board) if job.user == board.user],
            "accounts": [job for job in self._jobs(board) if job.user == board.user or job.account in own],
            "everyone": self._jobs(board),
        }
        axis, rows, ground = self.query_one(AxisLine), self.query_one(JobRows), self.query_one(Ground)
        axis.scopes = [(name, words, len(by_scope[name])) for name, words in SCOPES]
        axis.scope = self.scope
        rows.axis.now_ms = board.now_ms
        rows.user = board.user
        axis.axis = ground.axis = rows.axis
        rows.show(list(self._folded(sorted(by_scope[self.scope], key=_rank))))
        self._seek()
        ground.board, ground.view = board, rows.current()
        axis.refresh()
        ground.refresh()

    @staticmethod
    def _jobs(board: Board) -> list[JobView]:
        """All but the tasks of arrays."""
        return [job for job in board.jobs if job.parent is None]

    def _folded(self, jobs: list[JobView]) -> Iterable[JobView]:
        """The rows: below an array that is open, those of its tasks that run or have ended lately."""
        tasks: dict[int, list[JobView]] = {}
        for job in self.board.jobs if self.board else ():
            if job.parent is not None and job.parent in self.opened:
                tasks.setdefault(job.parent, []).append(job)
        for job in jobs:
            yield job
            yield from sorted(tasks.get(job.job, ()), key=lambda one: (one.phase.final, one.job))

    def action_unfold(self) -> None:
        """Show the tasks of the array under the cursor, or put them away."""
        view = self.query_one(JobRows).current()
        if view is None or (not view.rows and view.parent is None):
            self.post_message(Say("This is no array, so it has no tasks to show."))
            return
        self.opened ^= {view.parent or view.job}
        if self.board is not None:
            self.show(self.board)

    def arrive(self) -> None:
        """Keys go to the jobs, the cursor to the one that was just submitted."""
        rows = self.query_one(JobRows)
        rows.focus()
        self._seek()
        self._explain()

    def _seek(self) -> None:
        rows = self.query_one(JobRows)
        wanted = self.quarry.looked_at
        place = next((number for number, job in enumerate(rows.jobs) if job.job == wanted), None)
        if place is not None:
            self.quarry.looked_at = None
            rows.move(place)

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Another job is looked at."""
        ground = self.query_one(Ground)
        ground.view = self.query_one(JobRows).current()
        ground.refresh()
        self._explain()

    def _explain(self) -> None:
        view = self.query_one(JobRows).current()
        if view is not None and view.phase is Phase.WAITING and view.job != self.explained_job:
            self._ask_instead(view.job)

    @work(thread=True, exclusive=True, group="explain")
    def _ask_instead(self, job: int) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            instead = client.detail(job).instead
        except QuarryError:
            return
        self.quarry.hand_over(self._explained, job, instead)

    def _explained(self, job: int, instead: str) -> None:
        self.explained_job, self.explained = job, instead
        self.post_message(CursorMoved())

    def note(self) -> str:
        """What the job under the cursor does or waits for, and what would start sooner."""
        view = self.query_one(JobRows).current()
        board = self.board
        if board is None:
            return ""
        if view is None:
            return "No jobs here. 2 goes to Draft, where one is written and submitted; m shows other people's."
        zone = self.quarry.zone
        name = f"{view.label} {view.name}"
        if view.rows and not view.phase.final and view.phase is Phase.RUNNING:
            nodes = f" on {fold_names(view.nodes)}" if view.nodes else ""
            charged = f"{format_core_hours(view.charge_core_ms)} core-hours charged so far."
            return f"{name}: {counts_words(view)}{nodes}. {charged} a shows its tasks."
        if view.phase is Phase.RUNNING:
            limit = (view.started_ms or 0) + view.walltime_s * 1000
            left = format_duration(max(0, limit - board.now_ms) / 1000)
            words = f"{name} runs on {', '.join(view.nodes)} and has {left} left, until {clock_time(limit, board.now_ms, zone)}."
            if view.stopping:
                words = f"{name} was told to stop and has {format_duration(view.grace_s)} to end by itself."
            return f"{words} {format_core_hours(view.charge_core_ms)} core-hours charged so far."
        if view.phase.final:
            return f"{name}: {verdict(view)}"
        words = f"{name} {view.why}" if view.why.startswith("waits") else f"{name}: {view.why}"
        instead = self.explained if self.explained_job == view.job else ""
        return f"{words.rstrip('.')}. {instead}"

    def keys(self) -> list[Key]:
        """What can be done to the job under the cursor."""
        view = self.query_one(JobRows).current()
        keys: list[Key] = []
        if view is not None:
            keys.append(("enter", "inspect", "app.place_action('open')"))
            if view.rows or view.parent is not None:
                keys.append(("a", "tasks", "app.place_action('unfold')"))
            own = self.board is not None and view.user == self.board.user
            if own and view.phase is Phase.WAITING:
                keys.append(("h", "hold", "app.place_action('hold')"))
            if own and view.phase is Phase.HELD:
                keys.append(("r", "release", "app.place_action('release')"))
            if own and not view.phase.final:
                keys.append(("x", "cancel", "app.place_action('cancel')"))
        return [
            *keys,
            ("m", "mine, accounts, everyone", "app.place_action('scope')"),
            ("[ ]", "zoom", "app.place_action('zoom(1)')"),
            ("← →", "time", "app.place_action('pan(1)')"),
            ("n", "now", "app.place_action('now')"),
        ]

    def action_open(self) -> None:
        """Go to Review with this job."""
        if view := self.query_one(JobRows).current():
            self.post_message(OpenJob(view.job))

    def action_scope(self) -> None:
        """The next scope."""
        names = [name for name, _ in SCOPES]
        self.set_scope(names[(names.index(self.scope) + 1) % len(names)])

    def set_scope(self, scope: str) -> None:
        """Show mine, my accounts' or everyone's jobs."""
        self.scope = scope
        if self.board:
            self.show(self.board)
        self.post_message(CursorMoved())

    def action_zoom(self, steps: int) -> None:
        """More or less time in sight."""
        zoomed(self.query_one(JobRows).axis, steps)
        self._redraw()

    def action_pan(self, steps: int) -> None:
        """Earlier or later."""
        panned(self.query_one(JobRows).axis, steps)
        self._redraw()

    def action_now(self) -> None:
        """Back to now."""
        self.query_one(JobRows).axis.shift_ms = 0
        self._redraw()

    def _redraw(self) -> None:
        for kind in (AxisLine, JobRows, Ground):
            self.query_one(kind).refresh()

    def action_hold(self) -> None:
        """Hold the job under the cursor."""
        self._command("hold")

    def action_release(self) -> None:
        """Release it."""
        self._command("release")

    def action_cancel(self) -> None:
        """Cancel it, after a question when work would be lost."""
        view = self.query_one(JobRows).current()
        if view is None or view.phase.final:
            return
        if view.phase is Phase.RUNNING:
            lost = format_core_hours(view.charge_core_ms)
            question = (
                f"Cancel {view.job} {view.name}, which runs on {plural(len(view.nodes), 'node')}? "
                f"{lost} core-hours of work so far would be lost."
            )
            self.quarry.ask(question, lambda: self._command("cancel"))
        else:
            self._command("cancel")

    def _command(self, verb: str) -> None:
        if view := self.query_one(JobRows).current():
            self._send(verb, view.job)

    @work(thread=True, group="command")
    def _send(self, verb: str, job: int) -> None:
        client = self.quarry.client
        if client is None:
            return
        call = {"hold": client.hold, "release": client.release, "cancel": client.cancel}[verb]
        try:
            told = call([job])[0]
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        self.post_message(Say(f"{told.message[:1].upper()}{told.message[1:]}.", bad=not told.done))
        self.quarry.hand_over(self.quarry.read_board)


def _rank(view: JobView) -> tuple[int, int]:
    """Running, waiting, held, then what has ended, newest first; within these by time."""
    order = _ORDER.get(view.phase, 3)
    if order == 3:
        return order, -(view.ended_ms or 0)
    if order == 1:
        return order, view.forecast_ms if view.forecast_ms is not None else 2**62
    return order, view.started_ms or view.submitted_ms
