"""Copies a job's inputs into its scratch folder, and its results back."""

from __future__ import annotations

import glob
import os
from collections.abc import Callable, Iterable

from lazy_quarry.files import given

_CHUNK = 2**20
_MOST_UNSIZED = 64 * 2**20


class Stopped(Exception):
    """The job must stop, so nothing more is copied."""


class Missing(Exception):
    """Something that should be copied is not there; the message names it."""


def copy_in(paths: Iterable[str], directory: str, scratch: str, go_on: Callable[[], bool]) -> None:
    """Copy files, folders and what patterns meet from where the job starts into its scratch folder.

    Relative paths keep their place below it; absolute ones come by their last name. Raises
    :class:`Missing` for what is not there, :class:`Stopped` as soon as ``go_on`` says no.
    """
    for path in paths:
        found = _found(path, directory)
        if not found:
            raise Missing(path)
        for each in found:
            copy_tree(os.path.join(directory, each), inside(scratch, _placed(each)), go_on)


def copy_out(
    paths: Iterable[str], scratch: str, directory: str, go_on: Callable[[], bool]
) -> tuple[list[str], list[str]]:
    """Copy results back to where the job started; returns what was copied and what was not there."""
    copied: list[str] = []
    missing: list[str] = []
    for path in paths:
        found = _found(path, scratch)
        if not found:
            missing.append(path)
        for each in found:
            source = each if os.path.isabs(each) else inside(scratch, each)
            target = each if not os.path.isabs(each) else os.path.basename(each)
            copy_tree(source, os.path.join(directory, target), go_on)
            copied.append(os.path.join(directory, target))
    return copied, missing


def _found(path: str, folder: str) -> list[str]:
    if glob.has_magic(path):
        # From the folder on, without what newer versions of Python have for that: hosts may have an older one.
        top = "" if os.path.isabs(path) else f"{folder.rstrip('/')}/"
        return sorted(each[len(top) :] for each in glob.glob(f"{glob.escape(top)}{path}", recursive=True))
    return [path] if os.path.lexists(os.path.join(folder, path)) else []


class Outside(ValueError):
    """A path that a person wrote leads out of the folder where it belongs; the message names it."""


def inside(folder: str, path: str) -> str:
    """A path that a person wrote, below a folder. Raises :class:`Outside` when it would lead out of that."""
    full = os.path.normpath(os.path.join(folder, path))
    if not full.startswith(f"{os.path.normpath(folder)}{os.sep}"):
        raise Outside(f"{path} leads out of {folder}")
    return full


def _placed(path: str) -> str:
    """Where in the scratch folder something goes: relative paths keep their place, others come by their last name."""
    plain = os.path.normpath(path)
    return os.path.basename(plain) if os.path.isabs(plain) or plain.startswith("..") else plain


def copy_tree(source: str, target: str, go_on: Callable[[], bool]) -> None:
    """Copy a file or a folder; each file is there whole or not at all."""
    if not os.path.isdir(source):
        _copy_file(source, target, go_on)
        return
    os.makedirs(target, exist_ok=True)
    for folder, below, names in os.walk(source):
        here = os.path.normpath(os.path.join(target, os.path.relpath(folder, source)))
        for name in below:
            os.makedirs(os.path.join(here, name), exist_ok=True)
        for name in names:
            _copy_file(os.path.join(folder, name), os.path.join(here, name), go_on)


def _copy_file(source: str, target: str, go_on: Callable[[], bool]) -> None:
    if not go_on():
        raise Stopped
    os.makedirs(os.path.dirname(target) or ".", exist_ok=True)
    with open(given.opened(source), "rb", 0) as read, given.replacing(target, 0o600, like=source) as write:
        # A file that grows meanwhile is copied as far as it was; the kernel's own have no size.
        seen = os.fstat(read.fileno())
        left, sparse = seen.st_size or _MOST_UNSIZED, seen.st_blocks * 512 < seen.st_size
        while left > 0 and (chunk := read.read(min(left, _CHUNK))):
            left -= len(chunk)
            if sparse and not chunk.strip(b"\0"):
                write.seek(len(chunk), os.SEEK_CUR)  # a hole stays one
            else:
                write.write(chunk)
            if not go_on():
                raise Stopped
        if sparse:
            write.truncate()
