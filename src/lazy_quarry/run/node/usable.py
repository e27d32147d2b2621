"""Checks of whether a job could use its folder and its files on this node."""

from __future__ import annotations

import os
from collections.abc import Callable

from lazy_quarry.files import given
from lazy_quarry.files.kinds import NotAFile, is_null, kind_of


def unwritable(path: str) -> str:
    """Why a file could not be written, folders above it being made as needed, as far as shows without making anything."""
    if os.path.isdir(path):
        return "is a folder; name a file in it"
    if os.path.exists(path):
        found = os.stat(path)
        if (what := kind_of(found)) and not is_null(found):
            return f"is {what}, not a file; name another place"
        return "" if os.access(path, os.W_OK) else "cannot be written: it is read-only; name another place"
    above = os.path.dirname(path)
    while above and not os.path.lexists(above):
        above = os.path.dirname(above)
    if not os.path.isdir(above or "."):
        return f"cannot be written: {above} is no folder; name another place"
    if not os.access(above or ".", os.W_OK | os.X_OK):
        return f"cannot be written: {above} may not be written to; name another place"
    return ""


def tried(path: str) -> str:
    """Why a file cannot be written, found out by opening it; empty when it could. Folders above it are there then."""
    if problem := unwritable(path):
        return problem
    fresh = not os.path.exists(path)
    try:
        os.makedirs(os.path.dirname(path), exist_ok=True)
        os.close(given.opened(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND))
        if fresh:
            os.unlink(path)
    except OSError as fault:
        return f"cannot be written: {fault.strerror}; name another place"
    return ""


def unusable(
    folder: str, written: dict[str, str], input_path: str, problem_of: Callable[[str], str] = unwritable
) -> dict[str, str]:
    """Why a job could not start in its folder, write its files or read its input: by header key, what is wrong with it."""
    if not os.path.isdir(folder):
        return {"directory": f"{folder or '(none)'} is not there; make it, or name another"}
    found = {key: f"{path} {problem}" for key, path in written.items() if (problem := problem_of(path))}
    if input_path and (problem := _unreadable(input_path)):
        found["input"] = f"{input_path} {problem}"
    return found


def _unreadable(path: str) -> str:
    try:
        os.close(given.opened(path))
    except NotAFile as fault:
        return f"cannot be read: {fault.strerror}"
    except OSError:
        return "is not there or may not be read"
    return ""
