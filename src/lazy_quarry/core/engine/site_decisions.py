"""The events of the commands about nodes and reservations."""

from lazy_quarry.core.engine.commands import (
    ChangeMember,
    CloseNode,
    GrantHours,
    HearNode,
    LoseJob,
    LoseNode,
    OpenNode,
    ReadMeters,
    Reserve,
    Unreserve,
)
from lazy_quarry.core.engine.events import (
    Event,
    Granted,
    MembersChanged,
    MetersRead,
    NodeAnswers,
    NodeClosed,
    NodeOpened,
    NodeQuiet,
    Reserved,
    Stopping,
    Unreserved,
)
from lazy_quarry.core.engine.situation import Situation
from lazy_quarry.core.instants import LATEST_MS
from lazy_quarry.core.job.by import MOST_REASON
from lazy_quarry.core.ledger.budgets import members, needed
from lazy_quarry.core.units import format_core_hours
from lazy_quarry.errors import Refused

MOST_NAME = 100
"""Characters of a name."""
MOST_GRANTED_MS = 10**9 * 3_600_000
"""A billion core-hours: more is a slip, and sums of such stay whole numbers everywhere."""


def close_node(now: Situation, command: CloseNode) -> list[Event]:
    """A node gets no more jobs; the jobs on it go on."""
    return [NodeClosed(now.at_ms, now.known_node(command.node), command.by)]


def open_node(now: Situation, command: OpenNode) -> list[Event]:
    """A closed node takes jobs again."""
    if now.known_node(command.node) not in now.state.closures:
        raise Refused(f"node {command.node} is open already")
    return [NodeOpened(now.at_ms, command.node, command.by)]


def lose_node(now: Situation, command: LoseNode) -> list[Event]:
    """A node has gone: it takes no more jobs, and those on it are lost."""
    events: list[Event] = [NodeClosed(now.at_ms, now.known_node(command.node), command.by)]
    for job in now.state.running():
        if job.stopping is None and any(one.node == command.node for one in job.allocations):
            events.append(Stopping(now.at_ms, job.number, "lost", command.by, command.node))
    return events


def lose_job(now: Situation, command: LoseJob) -> list[Event]:
    """A running job is given up as lost on a node, unless it is being stopped already for that."""
    job = now.state.jobs.running.get(command.job)
    if job is None or job.stopping == "lost":
        return []
    return [Stopping(now.at_ms, job.number, "lost", due_to=command.node)]


def hear_node(now: Situation, command: HearNode) -> list[Event]:
    """A node doesn't answer any more, or answers again; what is known already is no event."""
    node, since = now.known_node(command.node), command.quiet_since_ms
    if (node in now.state.quiet) == (since is not None):
        return []
    return [NodeAnswers(now.at_ms, node) if since is None else NodeQuiet(now.at_ms, node, min(since, now.at_ms))]


def reserve(now: Situation, command: Reserve) -> list[Event]:
    """Nodes are kept free of jobs for a time, or for some people's jobs alone."""
    window = command.window
    if not window.name or not window.name.strip():
        raise Refused("a reservation needs a name")
    if len(window.name) > MOST_NAME or len(window.reason) > MOST_REASON:
        raise Refused(f"a reservation's name has at most {MOST_NAME} characters, its reason {MOST_REASON:,}")
    if any(window.name == one.name for one in now.site.windows):
        raise Refused(f'"{window.name}" is in the site file; change it there')
    for name in window.nodes:
        now.known_node(name)
    if not window.nodes:
        raise Refused("a reservation needs nodes")
    if window.ends_ms <= window.begins_ms:
        raise Refused("a reservation must end after it begins")
    if not 0 <= window.begins_ms < LATEST_MS or not 0 <= window.ends_ms < LATEST_MS:
        raise Refused("a reservation lies between the years 1970 and 3000")
    if window.ends_ms <= now.at_ms:
        raise Refused("this time has passed already")
    for account in window.accounts:
        now.known_account(account)
    return [Reserved(now.at_ms, window, command.by)]


def unreserve(now: Situation, command: Unreserve) -> list[Event]:
    """Remove a reservation that was made here."""
    if command.name not in now.state.reserved:
        raise Refused(f'there is no reservation "{command.name}" that was made here')
    return [Unreserved(now.at_ms, command.name, command.by)]


def grant_hours(now: Situation, command: GrantHours) -> list[Event]:
    """An account gets core-hours, or some that it hasn't used are taken back; they may come from another account."""
    hours = command.core_ms
    if not command.by.why.strip():
        raise Refused("say why")
    if hours == 0 or abs(hours) > MOST_GRANTED_MS:
        raise Refused("grant core-hours, at most a billion")
    if command.source and hours < 0:
        raise Refused("core-hours that move are more than none")
    if command.source == command.account:
        raise Refused("core-hours move from one account to another")
    for account, more in ((command.account, hours), (command.source, -hours)):
        if account:
            _check_grant(now, account, more)
    events: list[Event] = [Granted(now.at_ms, command.account, hours, command.by)]
    if command.source:
        events.insert(0, Granted(now.at_ms, command.source, -hours, command.by))
    return events


def read_meters(now: Situation, command: ReadMeters) -> list[Event]:
    """A reading that was worked out from the books: of a term that began before anybody said that there was one."""
    return [MetersRead(now.at_ms, command.begin_ms, command.charged, needed(now.site, now.at_ms))]


def change_member(now: Situation, command: ChangeMember) -> list[Event]:
    """Somebody may charge an account from now on, or may no longer; what waits or runs already is not touched."""
    name, user = command.account, command.user
    account = now.known_account(name)
    if not user.strip() or not user.isprintable() or len(user) > MOST_NAME:
        raise Refused(f"a user's name is one line of at most {MOST_NAME} characters")
    present = members(account, now.state.member_changes.get(name, ()))
    if not account.users:
        raise Refused(f"everyone may charge {name}; where only some may, the site file names them")
    if command.added == (user in present):
        raise Refused(f"{user} may charge {name} already" if command.added else f"{user} is no member of {name}")
    if not command.added and len(present) == 1:
        raise Refused(f"{user} is the only member of {name}; add somebody else first")
    return [MembersChanged(now.at_ms, name, user, command.added, command.by)]


def _check_grant(now: Situation, account: str, core_ms: int) -> None:
    if now.known_account(account).budget_core_hours is None:
        raise Refused(f"{account} has no budget, so nothing can be granted to it or taken from it")
    # What jobs that run may yet use of it is spoken for.
    left = now.plans.limit_rows(now.at_ms).left[account]
    if core_ms < 0 and left + core_ms < 0:
        told = f"{account} has {format_core_hours(max(0, left))} core-hours left, all that runs being counted in full"
        raise Refused(f"{told}; no more can be taken from it")
