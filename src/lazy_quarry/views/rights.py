"""The rights of each role in a call, as a value."""

from typing import Literal, NamedTuple

Right = Literal["yes", "own", "no"]
"""``own``: of a user their own jobs, files and mail; of a lead the accounts that they answer for."""


class Rights(NamedTuple):
    """The rights of each role in a call."""

    user: Right
    lead: Right
    operator: Right


ALL = Rights("yes", "yes", "yes")
OWN_JOBS = Rights("own", "own", "own")
OPERATORS = Rights("no", "no", "yes")
LEADS = Rights("no", "own", "yes")
