"""Mail about jobs and chains: what is due is found in the events, written durably, and sent by a thread of its own.

Nothing of it delays the engine. A message is in the outbox before the event counts as mailed, and leaves it when a relay has taken
or refused it for good; so a relay that is down delays mail and loses none.
"""

from __future__ import annotations

import re
import threading
import time
from base64 import b64decode
from collections import deque
from collections.abc import Callable, Iterable
from contextlib import suppress
from typing import TYPE_CHECKING

from msgspec import Struct

from lazy_quarry.core.chain.chain_file import chain_notice
from lazy_quarry.core.engine.events import BudgetReached, ChainLinked, Ended, Event, NodeQuiet, Started
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.job.notice import Notify
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.units import format_bytes, format_duration
from lazy_quarry.core.values import replace
from lazy_quarry.errors import NoSuchJob, QuarryError, StateFolderError
from lazy_quarry.run.relay import Later, Never, NotNow, Relay, send
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.mail.letters import budget_lines, chain_lines, job_lines, message, subject_of
from lazy_quarry.site.mail.mail_folder import Letter, MailFolder
from lazy_quarry.site.session import Session
from lazy_quarry.site.site_file.roles import caller_of
from lazy_quarry.views.chain_views import ChainView
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.views.outcomes import Outcome

if TYPE_CHECKING:
    from email.message import EmailMessage

FIRST_PAUSE_S, LONGEST_PAUSE_S = 5.0, 1800.0
"""Between two attempts to send, each pause twice the one before."""
TICK_S = 1.0
MOST_BYTES = 8 * 2**20
"""Bytes of a document that is mailed, at most."""
ADDRESS = re.compile(r"[^@\s\x00-\x1f]{1,64}@[^@\s\x00-\x1f]{1,255}")
MARK_EVERY = 500
"""Events after which it is noted that all mail about them is written."""
MOST_TRIED_S = 5 * 86_400
"""Mail that no relay has taken for so long is given up, as RFC 5321 has it."""


class Due(Struct, frozen=True):
    """Mail that is to be written: of which event, about which job, chain or budget, for which word, to whom."""

    event: int
    at_ms: int
    job: int
    chain: int
    word: str
    to: str
    told: str = ""
    budget: BudgetReached | None = None

    @property
    def name(self) -> str:
        """Tells this letter from every other of the journal, the same when it is written once more."""
        about = f"chain{self.chain}" if self.chain else str(self.job)
        return f"{self.event:09d}-{about}-{''.join(sign for sign in self.word if sign.isalnum())}"


def _longer(pause_s: float) -> float:
    return min(LONGEST_PAUSE_S, max(FIRST_PAUSE_S, 2 * pause_s))


class Mailer:
    """Writes and sends the mail of one site. ``detail`` and ``chain`` read what a message says."""

    def __init__(
        self,
        session: Session,
        relay: Relay | None,
        sender: str,
        detail: Callable[[Caller, int], JobDetail],
        chain: Callable[[Caller, int], ChainView],
    ) -> None:
        self.session, self.relay, self.sender = session, relay, sender
        self._detail, self._chain = detail, chain
        self.folder = MailFolder(session.journal.folder)
        self._folder_lock = threading.Lock()
        self._due: deque[Due] = deque()
        self._timed: dict[int, list[tuple[int, str, Notify]]] = {}
        """Instants at which mail is due, by running job."""
        self._chain_of: dict[int, int] = {}
        self._begun: set[int] = set()
        """Arrays of which the first start is noted."""
        self._wake, self._left = threading.Event(), threading.Event()
        self.pauses: dict[str, tuple[float, float]] = {}
        """Letters that the relay did not take: the last pause, and when they are tried again."""
        self._pause_s, self.next_try = FIRST_PAUSE_S, 0.0
        """The same of a relay that takes nothing."""
        self.problem = ""
        """Why mail waits, or was refused; empty when all is well."""
        self._begin()
        session.heard.append(self._hear)

    def _begin(self) -> None:
        """Take in what happened since mail was written last, and what runs."""
        session, journal = self.session, self.session.journal
        with session.lock:
            for number, record in session.engine.state.chains.items():
                self._chain_of |= {part.job: number for part in record.parts if part.job}
            if self.folder.mark is None:
                with suppress(StateFolderError):
                    self.folder.begin(journal.number)
            elif self.folder.mark < journal.number:
                for number, event in journal.events_after(self.folder.mark):
                    with suppress(QuarryError):
                        self._of_event(
                            number, event, session.find(event.job) if isinstance(event, Started | Ended) else None
                        )
            for job in session.engine.state.running():
                self._await(job)

    # -- what is due -------------------------------------------------------------------------------

    def _hear(self, first: int, events: Iterable[Event], ended: Iterable[Job]) -> None:
        """Events are in the journal, the first under this number; called while the site stands still, so it only takes notes."""
        over = {job.number: job for job in ended}
        for number, event in enumerate(events, first):
            job = None
            if isinstance(event, Started | Ended):
                job = over.get(event.job) or self.session.engine.state.jobs.get(event.job)
            self._of_event(number, event, job)
        if self._due:
            self._wake.set()

    def _of_event(self, number: int, event: Event, job: Job | None) -> None:
        if isinstance(event, ChainLinked):
            self._chain_of[event.number] = event.chain
        if isinstance(event, BudgetReached):
            known = self.session.site.account.get(event.account)
            if known is not None and known.mail:
                word = f"budget{event.percent}"
                self._due.append(Due(number, event.at_ms, 0, 0, word, known.mail, budget=event))
            return
        if isinstance(event, NodeQuiet):
            self._of_quiet(number, event)
        if job is None or not isinstance(event, Started | Ended):
            return
        if isinstance(event, Ended):
            self._timed.pop(job.number, None)
            if not event.again and job.number in self._chain_of:
                self._of_chain(number, event.at_ms, self._chain_of[job.number])
        notify = job.request.notify
        if notify is None or (job.parent is not None and isinstance(event, Ended)):
            return  # of an array one hears as a whole
        if isinstance(event, Started):
            if job.parent is not None:
                self._array_began(number, event.at_ms, job.parent, notify)
                return
            self._await(job)
            word = "started" if "started" in notify.on else ""
        else:
            word = notify.at_end(event.phase, event.again, dict(job.counts) if job.request.array else None)
        if word:
            self._due.append(Due(number, event.at_ms, job.number, 0, word, notify.to))

    def _of_quiet(self, number: int, event: NodeQuiet) -> None:
        for job in self.session.engine.state.running():
            notify, here = job.request.notify, any(one.node == event.node for one in job.allocations)
            if notify is not None and "quiet" in notify.on and here and job.parent is None:
                self._due.append(Due(number, event.at_ms, job.number, 0, "quiet", notify.to))

    def _array_began(self, number: int, at_ms: int, array: int, notify: Notify) -> None:
        told = f"{array}-began"
        if "started" in notify.on and told not in self.folder.told and array not in self._begun:
            self._begun.add(array)
            self._due.append(Due(number, at_ms, array, 0, "started", notify.to, told))

    def _of_chain(self, number: int, at_ms: int, chain: int) -> None:
        record = self.session.engine.state.chains.get(chain)
        notify = chain_notice(record.source) if record is not None else None
        if record is None or notify is None:
            return
        live = self.session.engine.state.jobs
        if any(not part.job or part.job in live for part in record.parts):
            return
        phases = set[Phase]()
        for part in record.parts:
            with suppress(NoSuchJob):
                job = self.session.find(part.job)
                if not job.planned:  # a clean-up that had nothing to do is no less than done
                    phases.add(job.phase)
        counts = {phase.value: 1 for phase in phases}
        word = notify.at_end(Phase.DONE if phases == {Phase.DONE} else Phase.SKIPPED, False, counts)
        if word:
            self._due.append(Due(number, at_ms, 0, chain, word, notify.to))

    def _await(self, job: Job) -> None:
        """Note when mail about a running job is due, if it is not written yet."""
        notify = job.request.notify
        if notify is None or job.started_ms is None or job.request.array is not None or job.parent is not None:
            return
        due = [(at, word, notify) for at, word in notify.timed(job.started_ms, job.request.walltime_s)]
        due = [one for one in due if f"{job.number}-{job.attempt}-{one[1]}" not in self.folder.told]
        if due:
            self._timed[job.number] = sorted(due, key=lambda one: one[0])

    def _look_at_clock(self) -> None:
        with self.session.lock:
            now, journal = self.session.now(), self.session.journal
            for number, due in list(self._timed.items()):
                job = self.session.engine.state.jobs.get(number)
                while due and due[0][0] <= now and job is not None:
                    at, word, notify = due.pop(0)
                    told = f"{number}-{job.attempt}-{word}"
                    self._due.append(Due(journal.number, at, number, 0, word, notify.to, told))
                if not due or job is None:
                    self._timed.pop(number, None)

    # -- writing and sending -----------------------------------------------------------------------

    def start(self) -> None:
        """Begin to write and send, in a thread of its own."""
        threading.Thread(target=self._run, daemon=True, name="mail").start()

    def close(self) -> None:
        """Write what is due, and stop."""
        self._left.set()
        self._wake.set()

    def _run(self) -> None:
        while not self._left.is_set():
            self._wake.wait(TICK_S)
            self._wake.clear()
            self.step()

    def step(self) -> None:
        """Write what is due, and try to send what waits; what goes wrong is told, and tried again."""
        self._look_at_clock()
        wrote = bool(self._due)
        try:
            while self._due:
                self.write(self._due[0])
                self._due.popleft()
            self._move_mark(1 if wrote else MARK_EVERY)
        except StateFolderError as fault:
            self._tell(str(fault))
            return
        if self.relay is not None and time.monotonic() >= self.next_try:
            self._send_all(self.relay)

    def _move_mark(self, least: int) -> None:
        """Nothing is due: an engine that starts need not look at events up to here. Several letters may be of one event."""
        with self.session.lock, self._folder_lock:
            number = self.session.journal.number
            if not self._due and number - (self.folder.mark or 0) >= least:
                self.folder.begin(number)

    def write(self, due: Due) -> None:
        """Write a letter that is due into the folder, unless it is there."""
        if self.folder.knows(due.name):
            return  # it was written, and then the engine was killed
        try:
            user, subject, found = self._composed(due, due.name)
        except NoSuchJob:
            return
        state = "kept" if self.relay is None else "waits"
        letter = Letter(due.name, due.at_ms, due.to, subject, due.job, state, user=user)  # type: ignore[arg-type]
        with self._folder_lock:
            self.folder.write(letter, found, due.told)

    def _composed(self, due: Due, name: str) -> tuple[str, str, EmailMessage]:
        """The person whose letter it is, its subject, and the message."""
        session, identity = self.session, self.session.journal.identity
        site, now, zone, user = session.site.name, max(session.now(), due.at_ms), session.zone, ""
        if due.budget is not None:
            account = due.budget.account
            line = next(one for one in session.account_lines() if one.account == account)
            subject = f"[{site}] {account} has used {due.budget.percent} % of its budget"
            lines = budget_lines(due.budget, line)
        elif due.chain:
            record = session.engine.state.chains.get(due.chain)
            user = record.user if record is not None else ""
            view = self._chain(caller_of(session.site, user), due.chain)
            subject, lines = f"[{site}] chain {view.number} {view.name}: {view.state}", chain_lines(view, now, zone)
        else:
            user = session.find(due.job).user
            detail = self._detail(caller_of(session.site, user), due.job)
            subject, lines = subject_of(detail, due.word, site), job_lines(detail, due.word, now, zone)
        found = message(self.sender, due.to, subject, lines, name=name, identity=identity, at_ms=due.at_ms)
        return user, subject, found

    def _send_all(self, relay: Relay) -> None:
        """Try every letter whose time has come; one that is not taken holds up no other, a relay that is away all of them."""
        told, now, waiting = "", time.monotonic(), list(self.folder.waiting())
        for name, raw, since in waiting:
            if self._left.is_set():
                return
            pause, at = self.pauses.get(name, (0.0, 0.0))
            if at > now:
                continue
            try:
                send(relay, raw)
                self._settle(name, "sent")
                self._pause_s = FIRST_PAUSE_S
            except Never as refusal:
                self._settle(name, "refused", str(refusal))
                told = f"mail was refused, lq mail has it: {refusal}"
            except Later as delay:
                self.pauses[name] = _longer(pause), now + _longer(pause)
                told = self._given_up([(name, since)], str(delay)) or f"mail waits, and nothing of it is lost: {delay}"
            except NotNow as delay:
                every = [(one, at) for one, _, at in waiting]
                told = self._given_up(every, str(delay)) or f"mail waits, and nothing of it is lost: {delay}"
                self.next_try, self._pause_s = now + self._pause_s, _longer(self._pause_s)
                break
        self.pauses = {name: one for name, one in self.pauses.items() if self.folder.waits(name)}
        if told or not (self.pauses or any(letter.state == "refused" for letter in self.folder.letters(20))):
            self._tell(told)

    def _given_up(self, waiting: list[tuple[str, float]], why: str) -> str:
        """Give up what was not taken for days, as RFC 5321 (4.5.4.1) has it; returns what is told of that, or nothing."""
        told = ""
        for name, since in waiting:
            if self.folder.waits(name) and time.time() - since > MOST_TRIED_S:
                self._settle(name, "given up", f"not taken for {format_duration(MOST_TRIED_S)}; the last time: {why}")
                told = f"mail was given up, lq mail has it: {why}"
        return told

    def _settle(self, name: str, state: str, why: str = "") -> None:
        with suppress(StateFolderError), self._folder_lock:
            self.folder.settle(name, state, why)  # type: ignore[arg-type]

    def _tell(self, words: str) -> None:
        if words != self.problem:
            self.problem = words
            self.session.say_of_mail(words)

    def post(self, caller: Caller, to: str, subject: str, text: str, name: str, document: str) -> Outcome:
        """Mail a document (PDF, in base64) to somebody; see :meth:`SiteClient.post`."""
        session = self.session
        if not ADDRESS.fullmatch(to):
            return Outcome(0, False, f"{shortened(to)} is not a mail address")
        try:
            raw = b64decode(document, validate=True)
        except ValueError:
            return Outcome(0, False, "the document is not in base64")
        if len(raw) > MOST_BYTES:
            return Outcome(
                0, False, f"the document has {format_bytes(len(raw))}, and mail at most {format_bytes(MOST_BYTES)}"
            )
        at, site = session.now(), session.site.name
        short = "".join(sign if sign.isalnum() or sign in "-_" else "-" for sign in name)[:80]
        key = f"{session.journal.number:09d}-report-{at}-{short}"
        found = message(
            self.sender,
            to,
            f"[{site}] {subject}",
            text.splitlines(),
            name=key,
            identity=session.journal.identity,
            at_ms=at,
        )
        found.add_attachment(raw, maintype="application", subtype="pdf", filename=f"{short}.pdf")
        state = "kept" if self.relay is None else "waits"
        letter = Letter(key, at, to, str(found["Subject"]), 0, state, user=caller.user)  # type: ignore[arg-type]
        try:
            with self._folder_lock:
                self.folder.write(letter, found)
        except StateFolderError as fault:
            return Outcome(0, False, str(fault))
        self._wake.set()
        told = (
            f"is on its way to {to}"
            if self.relay is not None
            else f"to {to} is kept here: this site has no relay for mail"
        )
        return Outcome(0, True, f"{subject} {told}; lq mail has it")

    def letters(self, caller: Caller, most: int) -> tuple[Letter, ...]:
        """A person's newest letters, with what became of them; operators have those that are nobody's, too."""

        def seen(letter: Letter) -> bool:
            return letter.user == caller.user or (caller.operator and not letter.user)

        found = self.folder.letters(most, seen)
        return tuple(
            replace(letter, why=letter.why or self.problem) if letter.state == "waits" else letter for letter in found
        )
