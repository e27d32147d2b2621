"""Bounds of what a program can be given at its start by execve(2)."""

from collections.abc import Iterable

from lazy_quarry.core.job.request import Request

MOST_WORD = 128 * 1024 - 1
"""Bytes of one argument, or of a variable with its name: 32 pages."""
MOST_WORDS = 2**20
"""Bytes of all arguments and variables: half of what a usual limit on stacks leaves for them."""


def bytes_of(word: str) -> int:
    """Length of a word in bytes, as the system takes it."""
    return len(word.encode(errors="surrogateescape"))


def too_long(request: Request, environment: Iterable[tuple[str, str]]) -> str:
    """Why a job could never be started with its arguments and variables; empty when it can."""
    words = [("an argument", word) for word in request.arguments]
    words += [(f"the variable {name}", f"{name}={value}") for name, value in (*environment, *request.environment)]
    for what, word in words:
        if (size := bytes_of(word)) > MOST_WORD:
            return f"{what} has {size:,} bytes, and a program can be given {MOST_WORD:,} in one; write it into a file"
    of_tasks = [parameter for group in (request.array.groups if request.array else ()) for parameter in group]
    total = sum(bytes_of(word) for _, word in words) + sum(
        max(map(bytes_of, parameter.values), default=0) for parameter in of_tasks
    )
    if total > MOST_WORDS:
        return f"its arguments and variables have {total:,} bytes, and a program can be given {MOST_WORDS:,} at most"
    return ""
