"""An expanded sweep as a value: sent once, and read task by task where it is shown."""

from msgspec import Struct

from lazy_quarry.core.header.expanded import commands_of
from lazy_quarry.core.job.request import Request
from lazy_quarry.errors import Refused


class Expanded(Struct, frozen=True):
    """The request of an array, and what its script shows: commands that use what tells tasks apart, files they write."""

    request: Request
    commands: tuple[str, ...]
    written: tuple[str, ...]
    job: int = 0
    """Its number, when it was submitted."""


def expanded(script: str, request: Request | None, why: str = "", job: int = 0) -> Expanded:
    """The expansion of a script's array. Raises :class:`Refused` where there is none; ``why`` says what is wrong with it."""
    if request is None:
        raise Refused(why or "its header cannot be read")
    if request.array is None:
        raise Refused("it is a single job: it has no [array]")
    return Expanded(request, *commands_of(script, request), job)
