"""SiteClient: all that the interface and the command line may call. Every call is written down here, once.

The client in the engine's own process and the one over a socket are kinds of it, and the list of what the server answers
follows from it. Calls block, so the interface makes them from workers, never from its loop.
"""

# The mark over each call makes it; its body only says what it is.
# mypy: disable-error-code=empty-body

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from lazy_quarry.link.book_calls import BookCalls
from lazy_quarry.link.call_marks import Call, call
from lazy_quarry.views.rights import ALL, LEADS, OPERATORS, OWN_JOBS

if TYPE_CHECKING:
    from lazy_quarry.core.explain.answers import Suggestion
    from lazy_quarry.core.header.submission import Submission
    from lazy_quarry.core.site import Window
    from lazy_quarry.run.fetching import Fetchable, FetchPiece
    from lazy_quarry.run.node.made_files import MadeFiles
    from lazy_quarry.run.runner import HostState, KeptThere, OutputChunk
    from lazy_quarry.site.mail.mail_folder import Letter
    from lazy_quarry.views.advice_view import Advised
    from lazy_quarry.views.board import Board, BoardChange, BoardMark, SiteNames
    from lazy_quarry.views.chain_views import ChainReceipt, ChainReport, ChainSource, ChainView
    from lazy_quarry.views.draft_view import DraftReport
    from lazy_quarry.views.expanded import Expanded
    from lazy_quarry.views.foretold import Foretold
    from lazy_quarry.views.job_detail import JobDetail
    from lazy_quarry.views.job_view import JobView
    from lazy_quarry.views.outcomes import Found, Outcome, Receipt, RoomView


class SiteClient(BookCalls):
    """A site in use, whatever runs it. A client is a kind of this that says how a call is made (:meth:`Asking.ask`)."""

    # -- what changes it

    @call("operations", ALL)
    def submit(self, submission: Submission) -> Receipt:
        """Submit a script, or say what must change first."""
        ...

    @call("operations", ALL)
    def try_one(self, submission: Submission, task: int | None = None, values: dict[str, str] | None = None) -> Receipt:
        """Run one task of a draft in the site's trial tier."""
        ...

    @call("operations", OWN_JOBS)
    def again(self, jobs: list[int], settings: list[str] | None = None, failed: bool = False) -> list[Outcome]:
        """Submit jobs again, each as it was, but for these settings (header keys, as for ``--set``).

        Tasks are submitted together as an array of these alone; with ``failed``, those of an array that failed.
        """
        ...

    @call("operations", OWN_JOBS)
    def hold(self, jobs: list[int], why: str = "") -> list[Outcome]:
        """Put waiting jobs on hold."""
        ...

    @call("operations", OWN_JOBS)
    def release(self, jobs: list[int], why: str = "") -> list[Outcome]:
        """Release jobs that are on hold."""
        ...

    @call("operations", OWN_JOBS)
    def cancel(self, jobs: list[int], only: Literal["", "waiting", "running"] = "", why: str = "") -> list[Outcome]:
        """Cancel jobs: waiting ones end, running ones are stopped. ``only``: what waits of them, or what runs."""
        ...

    @call("operations", OWN_JOBS)
    def change(self, jobs: list[int], settings: list[str], why: str = "") -> list[Outcome]:
        """Change the request of jobs that have not started."""
        ...

    @call("operations", OWN_JOBS)
    def order(self, jobs: list[int]) -> Outcome:
        """Order one's own waiting jobs."""
        ...

    @call("site_changes", OPERATORS)
    def nodes(self, names: list[str], what: Literal["close", "open", "lost"], reason: str = "") -> list[Outcome]:
        """Close nodes, open them, or report that they are gone."""
        ...

    @call("site_changes", OPERATORS)
    def reserve(self, window: Window) -> Outcome:
        """Reserve nodes for a time, for nobody or for some people."""
        ...

    @call("site_changes", OPERATORS)
    def unreserve(self, name: str) -> Outcome:
        """Remove a reservation."""
        ...

    @call("site_changes", OPERATORS, about="account")
    def grant(self, account: str, core_ms: int, why: str) -> Outcome:
        """Give an account core-ms beside its budget, or take some back."""
        ...

    @call("site_changes", LEADS, about="source")
    def move(self, source: str, account: str, core_ms: int, why: str) -> Outcome:
        """Move core-ms of one account's budget to another's."""
        ...

    @call("site_changes", LEADS, about="account")
    def members(self, account: str, add: list[str], remove: list[str]) -> list[Outcome]:
        """Let people charge an account, or no longer."""
        ...

    @call("operations", OWN_JOBS, long="yes")
    def remove_made(self, number: int, paths: list[str]) -> Outcome:
        """Remove files that a job made, by their paths from its folder."""
        ...

    @call("operations", OPERATORS, long="yes")
    def drop_kept(self, node: str, name: str) -> Outcome:
        """Remove something that stays on a host after its jobs, by its name."""
        ...

    # -- what is read of it

    @call("queries", ALL, long="if ended", plan=True)
    def jobs(
        self, ended: bool = False, since_ms: int | None = None, everyone: bool = True, limit: int = 500
    ) -> list[JobView]:
        """Live jobs by number, or the newest ended ones."""
        ...

    @call("queries", ALL, long="yes")
    def search(
        self, where: str, ended: bool = True, everyone: bool = True, sort: str = "", limit: int = 50, offset: int = 0
    ) -> Found:
        """Jobs that meet a search in the words of docs/review.md; ended ones, or those that wait or run.

        ``sort`` is a field, with ``-`` before it for the greatest first. Raises :class:`QuarryError` for words that can't be read.
        """
        ...

    @call("queries", ALL, plan=True)
    def job(self, number: int) -> JobView:
        """One job."""
        ...

    @call("queries", ALL, long="ended", plan=True)
    def detail(self, number: int) -> JobDetail:
        """One job with record, script and verdict."""
        ...

    @call("queries", ALL, long="yes")
    def output(self, number: int, which: Literal["output", "errors"], from_byte: int = 0) -> OutputChunk:
        """A piece of what a job printed; a negative ``from_byte`` counts from the end."""
        ...

    @call("queries", ALL, long="yes")
    def made(self, number: int) -> MadeFiles:
        """The files that were created or changed where a job works since it started, until it ended; newest first."""
        ...

    @call("queries", ALL, long="yes")
    def fetchable(self, number: int, patterns: list[str]) -> Fetchable:
        """List the files of a job that patterns meet, wherever they are."""
        ...

    @call("queries", ALL, long="yes")
    def fetch_piece(self, number: int, path: bytes, begin: int) -> FetchPiece:
        """A piece of one of them."""
        ...

    @call("queries", ALL, long="yes")
    def fetch_digest(self, number: int, path: bytes, begin: int, most: int) -> str:
        """The SHA-256 of so many bytes of one of them, from one on."""
        ...

    @call("queries", ALL)
    def samples(self, number: int) -> list[tuple[int, float, int]]:
        """Read the measurements of a running job: (instant in ms, cores busy, memory in MiB)."""
        ...

    @call("queries", ALL)
    def turns(self) -> list[int]:
        """One's own waiting jobs in the order of their turns."""
        ...

    @call("queries", ALL, plan=True)
    def ladder(self, number: int) -> list[Suggestion]:
        """When a waiting job would start with other walltimes."""
        ...

    @call("queries", ALL)
    def compare(self, first: int, second: int) -> str:
        """Say which of two waiting jobs stands ahead, and why."""
        ...

    @call("queries", ALL)
    def look(self, since: BoardMark | None = None, sight: list[int] | None = None) -> BoardChange:
        """Read the changes of the board since a mark, or all of it: see :class:`BoardChange`."""
        ...

    @call("queries", ALL, plan=True)
    def board(self) -> Board:
        """All that is shown of the present, however long it takes: see :class:`Board`."""
        ...

    @call("queries", ALL)
    def notices(self) -> tuple[str, ...]:
        """Obstacles of the site or of certain jobs now, in sentences."""
        ...

    @call("queries", ALL)
    def hosts(self) -> list[HostState]:
        """The nodes that are hosts of their own, as they are now."""
        ...

    @call("queries", ALL, long="yes")
    def kept(self, node: str) -> list[KeptThere]:
        """List all that stays on a host after its jobs."""
        ...

    @call("queries", ALL)
    def names(self) -> SiteNames:
        """The names that may stand in a request."""
        ...

    @call("queries", ALL, plan=True)
    def room(self, queue: str) -> list[RoomView]:
        """The most that could start now in a queue, by walltime and kind."""
        ...

    @call("queries", ALL, long="yes")
    def expand_job(self, number: int) -> Expanded:
        """The tasks of an array."""
        ...

    # -- what an act would do

    @call("beforehand", OWN_JOBS, plan=True)
    def would_run_again(self, jobs: list[int], settings: list[str], failed: bool = False) -> Foretold:
        """Rehearse running jobs again: jobs, charge and starts; nothing is changed."""
        ...

    @call("beforehand", OWN_JOBS, plan=True)
    def would_change(self, jobs: list[int], settings: list[str]) -> Foretold:
        """Rehearse a change of jobs that have not started; nothing is changed."""
        ...

    @call("beforehand", ALL, plan=True)
    def would_try(
        self, submission: Submission, task: int | None = None, values: dict[str, str] | None = None
    ) -> Foretold:
        """Rehearse a trial of a draft; nothing is changed."""
        ...

    @call("beforehand", OWN_JOBS, long="yes", plan=True)
    def would_continue(self, number: int, source: ChainSource, first: str = "") -> Foretold:
        """Rehearse the continuation of a chain: the jobs that would run again; nothing is changed."""
        ...

    # -- what is said of a draft

    @call("drafts", ALL, plan=True)
    def check(self, submission: Submission) -> DraftReport:
        """The report on a draft."""
        ...

    @call("drafts", ALL, long="yes")
    def expand(self, submission: Submission) -> Expanded:
        """The tasks of a draft's array."""
        ...

    # -- chains

    @call("chains", ALL, long="yes", plan=True)
    def report_chain(self, source: ChainSource, fails: list[str], slower: dict[str, float]) -> ChainReport:
        """Check a chain file and rehearse it."""
        ...

    @call("chains", ALL, long="yes")
    def chain_tasks(self, source: ChainSource, name: str) -> Expanded:
        """The tasks of an array of a chain file."""
        ...

    @call("chain_changes", ALL, long="yes")
    def submit_chain(self, source: ChainSource) -> ChainReceipt:
        """Submit a chain as one thing."""
        ...

    @call("chains", ALL, plan=True)
    def chain(self, number: int) -> ChainView:
        """A chain as it stands."""
        ...

    @call("chains", ALL, plan=True)
    def chains(self) -> list[ChainView]:
        """All chains, the newest first."""
        ...

    @call("chains", ALL)
    def chain_source(self, number: int) -> tuple[str, str, str]:
        """The file of a chain, its path and its folder."""
        ...

    @call("chain_changes", OWN_JOBS)
    def hold_chain(self, number: int, why: str = "") -> list[Outcome]:
        """Hold what waits of a chain."""
        ...

    @call("chain_changes", OWN_JOBS)
    def release_chain(self, number: int, why: str = "") -> list[Outcome]:
        """Release what is held of a chain."""
        ...

    @call("chain_changes", OWN_JOBS)
    def cancel_chain(self, number: int, why: str = "") -> list[Outcome]:
        """Cancel all of a chain that has not ended."""
        ...

    @call("chain_changes", OWN_JOBS, long="yes")
    def continue_chain(self, number: int, source: ChainSource, first: str = "") -> ChainReceipt:
        """Run again what failed of a chain and what follows it, or all from one job on."""
        ...

    # -- advice

    @call("advice", ALL, plan=True)
    def advise(self, name: str) -> Advised:
        """Advise the next request of a name, or of the job of a number."""
        ...

    @call("advice", ALL, long="yes")
    def like(self, number: int) -> list[int]:
        """The ended runs that are alike to a job: of the same commands, or of its name in its folder or chain."""
        ...

    # -- mail

    @call("mailer", OWN_JOBS)
    def letters(self, most: int) -> tuple[Letter, ...]:
        """The newest mail about jobs and chains, with what became of it."""
        ...

    # -- the client itself

    def changes(self, since: int, timeout_s: float) -> int:
        """The site's version as soon as it is past ``since``, or when the time has passed."""
        raise NotImplementedError

    def close(self) -> None:
        """Leave the site; its jobs go on."""
        raise NotImplementedError


_MEMBERS = {name: member for kind in reversed(SiteClient.__mro__) for name, member in vars(kind).items()}
CALLS: dict[str, Call] = {name: member.call for name, member in _MEMBERS.items() if hasattr(member, "call")}
"""Every call that a site answers: who answers it, who may make it, what it needs. Its types are those of the method."""
