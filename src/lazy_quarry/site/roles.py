"""Who may do what: one table of every call that a site answers, by the role of whoever makes it.

An *operator* runs the site; the site file names them, and where it names none, everyone who can reach the site is one. A
*lead* answers for an account and all accounts under it. Everyone else is a *user*. A lead may do what a user may, too.
"""

from collections.abc import Iterator
from typing import Literal, NamedTuple

from lazy_quarry.core.site import Site

Right = Literal["yes", "own", "no"]
"""``own``: of a user their own jobs, files and mail; of a lead the accounts that they answer for."""


class Rights(NamedTuple):
    """What each role may do with a call."""

    user: Right
    lead: Right
    operator: Right


_ALL = Rights("yes", "yes", "yes")
_OWN_JOBS = Rights("own", "own", "own")
_OPERATORS = Rights("no", "no", "yes")
_LEADS = Rights("no", "own", "yes")

ROLES: dict[str, Rights] = {
    "submit": _ALL,
    "try_one": _ALL,
    "again": _OWN_JOBS,
    "hold": _OWN_JOBS,
    "release": _OWN_JOBS,
    "cancel": _OWN_JOBS,
    "change": _OWN_JOBS,
    "order": _OWN_JOBS,
    "remove_made": _OWN_JOBS,
    "nodes": _OPERATORS,
    "reserve": _OPERATORS,
    "unreserve": _OPERATORS,
    "grant": _OPERATORS,
    "move": _LEADS,
    "members": _LEADS,
    "jobs": _ALL,
    "search": _ALL,
    "job": _ALL,
    "detail": _ALL,
    "output": _ALL,
    "made": _ALL,
    "samples": _ALL,
    "turns": _ALL,
    "ladder": _ALL,
    "compare": _ALL,
    "look": _ALL,
    "board": _ALL,
    "notices": _ALL,
    "names": _ALL,
    "room": _ALL,
    "expand_job": _ALL,
    "would_run_again": _OWN_JOBS,
    "would_change": _OWN_JOBS,
    "would_try": _ALL,
    "would_continue": _OWN_JOBS,
    "check": _ALL,
    "expand": _ALL,
    "report_chain": _ALL,
    "chain_tasks": _ALL,
    "submit_chain": _ALL,
    "chain": _ALL,
    "chains": _ALL,
    "chain_source": _ALL,
    "hold_chain": _OWN_JOBS,
    "release_chain": _OWN_JOBS,
    "cancel_chain": _OWN_JOBS,
    "continue_chain": _OWN_JOBS,
    "advise": _ALL,
    "like": _ALL,
    "letters": _OWN_JOBS,
    "report": _ALL,
    "over_time": _ALL,
    "budget_ends": _ALL,
    "waits": _ALL,
    "rhythm": _ALL,
    "shares": _ALL,
    "waste": _ALL,
    "records": _ALL,
    "post": _ALL,
    "begin_study": _ALL,
    "studied": _ALL,
    "stop_study": _ALL,
}


def role_lines() -> Iterator[str]:
    """The table as text: a line for each call."""
    width = max(map(len, ROLES))
    yield f"{'':<{width}}  {'user':<5} {'lead':<5} operator"
    for call, rights in ROLES.items():
        yield f"{call.replace('_', '-'):<{width}}  {rights.user:<5} {rights.lead:<5} {rights.operator}"


def leads(site: Site, user: str, account: str) -> bool:
    """Whether a user answers for an account."""
    return any(user in site.account[name].leads for name in site.lineage(account) if name in site.account)


def is_operator(site: Site, user: str) -> bool:
    """Whether a user runs the site."""
    return not site.operators or user in site.operators


def refusal(site: Site, user: str, call: str, account: str = "") -> str:
    """Why a user may not make a call, about an account where it is about one; empty when they may.

    What is somebody's own of jobs is decided where the job is known.
    """
    rights = ROLES[call]
    if rights.user != "no" or (rights.operator == "yes" and is_operator(site, user)):
        return ""
    if rights.lead == "own" and account and leads(site, user, account):
        return ""
    operators = ", ".join(site.operators)
    if rights.lead == "own" and account in site.account:
        answering = [lead for name in site.lineage(account) for lead in site.account[name].leads]
        if answering:
            names = ", ".join(dict.fromkeys(answering))
            return f"only who answers for {account} may do this ({names}), or an operator ({operators})"
    return f"only an operator may do this; here that is {operators}"
