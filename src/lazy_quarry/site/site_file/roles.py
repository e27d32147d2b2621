"""Who may do what, by the role of whoever makes a call; which roles may make which call stands with the call itself.

An *operator* runs the site; the site file names them, and where it names none, everyone who can reach the site is one. A
*lead* answers for an account and all accounts under it. Everyone else is a *user*. A lead may do what a user may, too.
"""

from typing import Literal

from lazy_quarry.core.site import Site
from lazy_quarry.site.caller import Caller
from lazy_quarry.views.rights import Rights


def leads(site: Site, user: str, account: str) -> bool:
    """True when a user answers for an account."""
    return any(user in site.account[name].leads for name in site.lineage(account) if name in site.account)


def is_operator(site: Site, user: str) -> bool:
    """True when a user runs the site."""
    return not site.operators or user in site.operators


def caller_of(
    site: Site, user: str, groups: tuple[str, ...] = (), where: Literal["process", "socket"] = "process"
) -> Caller:
    """A person as a caller, with the roles that the site file gives them."""
    led = tuple(one.name for one in site.accounts if leads(site, user, one.name))
    return Caller(user, groups, is_operator(site, user), led, where)


def refusal(site: Site, caller: Caller, rights: Rights, account: str = "") -> str:
    """Why a person may not make a call with these rights, about an account where it is about one; empty when they may.

    What is somebody's own of jobs is decided where the job is known.
    """
    if rights.user != "no" or (rights.operator == "yes" and caller.operator):
        return ""
    if rights.lead == "own" and account in caller.leads:
        return ""
    operators = ", ".join(site.operators)
    if rights.lead == "own" and account in site.account:
        answering = [lead for name in site.lineage(account) for lead in site.account[name].leads]
        if answering:
            names = ", ".join(dict.fromkeys(answering))
            return f"only who answers for {account} may do this ({names}), or an operator ({operators})"
    return f"only an operator may do this; here that is {operators}"
