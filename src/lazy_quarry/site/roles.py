"""Who may do what, by the role of whoever makes a call; which roles may make which call stands with the call itself.

An *operator* runs the site; the site file names them, and where it names none, everyone who can reach the site is one. A
*lead* answers for an account and all accounts under it. Everyone else is a *user*. A lead may do what a user may, too.
"""

from lazy_quarry.core.site import Site
from lazy_quarry.site.rights import Rights


def leads(site: Site, user: str, account: str) -> bool:
    """Whether a user answers for an account."""
    return any(user in site.account[name].leads for name in site.lineage(account) if name in site.account)


def is_operator(site: Site, user: str) -> bool:
    """Whether a user runs the site."""
    return not site.operators or user in site.operators


def refusal(site: Site, user: str, rights: Rights, account: str = "") -> str:
    """Why a user may not make a call with these rights, about an account where it is about one; empty when they may.

    What is somebody's own of jobs is decided where the job is known.
    """
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
