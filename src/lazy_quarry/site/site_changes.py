"""Changes of a site beside its jobs: nodes, reservations, budgets, members. Who may make them is asked where calls come in."""

from typing import Literal

from lazy_quarry.core.engine.commands import (
    ChangeMember,
    CloseNode,
    Command,
    GrantHours,
    LoseNode,
    OpenNode,
    Reserve,
    Unreserve,
)
from lazy_quarry.core.site import Window
from lazy_quarry.core.units import format_core_hours, plural
from lazy_quarry.errors import Refused
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.dispatcher import Dispatcher
from lazy_quarry.site.session import Session
from lazy_quarry.views.outcomes import Outcome

_NODE_DONE = {
    "close": "takes no more jobs; what runs there goes on",
    "open": "takes jobs again",
    "lost": "is recorded as lost; its jobs run again as their headers say",
}


class SiteChanges:
    """Acts of people on nodes, reservations and accounts."""

    def __init__(self, session: Session, dispatcher: Dispatcher) -> None:
        self.session, self.dispatcher = session, dispatcher

    def nodes(
        self, caller: Caller, names: list[str], what: Literal["close", "open", "lost"], reason: str = ""
    ) -> list[Outcome]:
        """Close nodes, open them again, or report that they are gone with all that ran on them."""
        with self.session.lock:
            return [
                self._of_site(self._of_node(caller, name, what, reason), f"node {name} {_NODE_DONE[what]}")
                for name in names
            ]

    def _of_node(self, caller: Caller, name: str, what: Literal["close", "open", "lost"], reason: str) -> Command:
        now = self.session.now()
        if what == "open":
            return OpenNode(now, name, caller.by(reason))
        if what == "close":
            return CloseNode(now, name, caller.by(reason or "closed by hand"))
        return LoseNode(now, name, caller.by(reason or "it has gone"))

    def reserve(self, caller: Caller, window: Window) -> Outcome:
        """Keep nodes free of jobs for a time, or for some people's alone; one of the same name is replaced."""
        words = f"{window.name}: {plural(len(window.nodes), 'node')} reserved"
        return self._of_site(Reserve(self.session.now(), window, caller.by()), words)

    def grant(self, caller: Caller, account: str, core_ms: int, why: str) -> Outcome:
        """Give an account core-ms beside its budget, or take some back."""
        words = f"{format_core_hours(abs(core_ms))} core-hours {'given to' if core_ms > 0 else 'taken from'} {account}"
        return self._of_site(GrantHours(self.session.now(), account, core_ms, caller.by(why)), words)

    def move(self, caller: Caller, source: str, account: str, core_ms: int, why: str) -> Outcome:
        """Move core-ms of one account's budget to another's."""
        words = f"{format_core_hours(core_ms)} core-hours given to {account}, from {source}"
        command = GrantHours(self.session.now(), account, core_ms, caller.by(why), source)
        return self._of_site(command, words)

    def members(self, caller: Caller, account: str, add: list[str], remove: list[str]) -> list[Outcome]:
        """Let people charge an account, or no longer."""
        session = self.session
        return [
            self._of_site(
                ChangeMember(session.now(), account, user, added, caller.by()),
                f"{user} {'may' if added else 'may no longer'} charge {account}",
            )
            for added, users in ((True, add), (False, remove))
            for user in dict.fromkeys(users)
        ]

    def unreserve(self, caller: Caller, name: str) -> Outcome:
        """Remove a reservation."""
        command = Unreserve(self.session.now(), name, caller.by())
        return self._of_site(command, f"{name} was removed")

    def _of_site(self, command: Command, done: str) -> Outcome:
        """Carry out a command that is about no job."""
        with self.session.lock:
            try:
                events = self.session.engine.decide(command)
            except Refused as fault:
                return Outcome(0, False, str(fault))
            self.session.commit(events)
            self.dispatcher.pass_on(events)
            self.dispatcher.step()
            return Outcome(0, True, done)
