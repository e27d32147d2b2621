"""Events as journals before version 8 have them, which are read as those of today.

They stay on disk as they were written: their checksums are a chain, and what was recorded is not written anew.
"""

from typing import Any

_OF_SITE = ("gave-way", "lost")
"""Causes of a stop before which a job or a node stood where the person stands today."""


def renewed(kind: str, found: dict[str, Any]) -> dict[str, Any]:
    """The body of an event with who caused it as one value: the person, or what made the site do so."""
    if kind in ("submitted", "chained"):
        return {**found, "by": {"user": found["user"]}}
    if kind == "node-closed":
        return {**found, "by": {"why": found["reason"]}}
    by = found["by"]
    if kind == "stopping" and found["cause"] in _OF_SITE:
        return {**found, "by": {}, "due_to": by}
    # A user's name has no spaces; sentences about why a job is on hold have.
    told = {"why" if " " in by else "user": by}
    return {**found, "by": {**told, "why": found["why"]} if kind == "granted" else told}
