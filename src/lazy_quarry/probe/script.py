"""Looking up what the checks of one script need to know of files and programs here."""

import glob
import grp
import os
import shutil
import stat
import time
from collections.abc import Iterable, Iterator
from contextlib import suppress
from itertools import islice
from pathlib import Path
from typing import Any

from lazy_quarry.core.header.block import UNFIT, find_block
from lazy_quarry.core.header.check import override_values
from lazy_quarry.core.header.interpreter import interpreter
from lazy_quarry.core.header.keys import KEYS
from lazy_quarry.core.header.script_body import folder_of, named_files, read_body
from lazy_quarry.core.header.script_checks import BUILTINS
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.header.surroundings import Staged, Surroundings
from lazy_quarry.core.job.sweep import files_of
from lazy_quarry.core.paths import JOINED, start_folder, within
from lazy_quarry.core.values import replace
from lazy_quarry.errors import BadValue
from lazy_quarry.files import given
from lazy_quarry.probe.language import findings
from lazy_quarry.run.node.usable import unusable

MOST_TEXT = 16 * 2**20
MOST_MATCHES = 100_000
UNKNOWN = "unknown-until-it-is-submitted"
MOST_INPUTS = 40
COUNTING_S = 0.1
"""Seconds in which what a job takes in is counted: it is done for every key."""
MOST_PARTS, MOST_DEEP = 100, 3
"""Slashes, and places where any number of folders may stand, in a pattern."""


def looked_up(submission: Submission) -> Submission:
    """The submission with what its own language says of it, and with what was found of what it names."""
    return replace(submission, findings=findings(submission.script), surroundings=surroundings_of(submission))


def with_surroundings(submission: Submission) -> Submission:
    """As :func:`looked_up`, without asking other programs: quick enough for every key."""
    return replace(submission, surroundings=surroundings_of(submission))


def surroundings_of(submission: Submission) -> Surroundings:
    """Look for the files and programs that a script names; nothing where its folder isn't here."""
    block, problems = find_block(submission.script)
    if any(one.code in UNFIT for one in problems):
        return Surroundings()
    written = dict(block.values) if block else {}
    for override in submission.overrides:
        override_values(written, override)
    values = dict[str, Any]()
    for key in ("directory", "output", "errors", "input", "expect", "stage", "array"):
        with suppress(BadValue, KeyError):
            values[key] = KEYS[key].read(written[key])
    folder = Path(start_folder(submission.directory or os.getcwd(), values.get("directory", "")))
    variables = dict(submission.environment)
    names = frozenset(variables)
    now_ms = round(time.time() * 1000)
    written = {
        key: _reached(values[key], str(folder)) for key in ("output", "errors") if values.get(key, JOINED) != JOINED
    }
    unfit_paths = unusable(str(folder), written, within(str(folder), values["input"]) if "input" in values else "")
    if "directory" in unfit_paths:
        return Surroundings(folder=str(folder), variables=names, now_ms=now_ms, unusable=unfit_paths)
    texts, matches = _sweep(values, folder)
    files = _files(submission.script, values, folder)
    return Surroundings(
        True,
        str(folder),
        files,
        _programs(submission.script, variables.get("PATH", os.environ.get("PATH", os.defpath))),
        texts,
        matches,
        names,
        _groups(),
        now_ms,
        unfit_paths,
        _inputs(files, {*values.get("expect", ()), *values.get("stage", {}).get("out", ())}, folder),
        staged=_staged(values.get("stage", {}).get("in", ()), values.get("input", ""), folder),
    )


def folders_of(submission: Submission) -> dict[str, str]:
    """The folder that its job would work in, and those outside of it that it reads and writes, by header key, as far as its header
    can be read.
    """
    block, _ = find_block(submission.script)
    written = dict(block.values) if block else {}
    values = dict[str, Any]()
    for override in submission.overrides:
        with suppress(BadValue, KeyError):
            override_values(written, override)
    for key in ("directory", "input", "output", "errors"):
        with suppress(BadValue, KeyError):
            values[key] = KEYS[key].read(written[key])
    folder = str(start_folder(submission.directory or os.getcwd(), values.pop("directory", "")))
    found = {"directory": folder}
    for key, path in values.items():
        place = os.path.dirname(_reached(path, folder)) if path and path != JOINED else folder
        if not f"{place}/".startswith(f"{folder.rstrip('/')}/") and not place.startswith("/dev"):
            found[key] = place
    return found


def _inputs(files: dict[str, str], made: set[str], folder: Path) -> dict[str, tuple[int, int]]:
    """Sizes and dates of the files that a script names, but for what it makes."""
    found: dict[str, tuple[int, int]] = {}
    for path, kind in files.items():
        if path.startswith(("/usr/", "/bin/")):
            continue  # the system's own, which its host and kernel stand for
        if kind in ("file", "closed") and path not in made and not glob.has_magic(path) and len(found) < MOST_INPUTS:
            with suppress(OSError):
                known = os.stat(folder / path)
                found[path] = known.st_size, known.st_mtime_ns // 1_000_000
    return found


def _staged(paths: Iterable[str], read: str, folder: Path) -> Staged | None:
    """Count the files that a job takes in; those with a task's own parameters in their names are not known yet."""
    until, files, total = time.monotonic() + COUNTING_S, 0, 0
    left = [path for path in (*paths, *([read] if read else [])) if "{" not in path]
    if not left:
        return None
    for pattern in left:
        for each in matching(pattern, folder) if glob.has_magic(pattern) else [pattern]:
            for size in _sizes(str(folder / each)):
                files, total = files + 1, total + size
                if time.monotonic() > until:
                    return Staged(files, total, True)
    return Staged(files, total)


def _sizes(path: str) -> Iterator[int]:
    """The sizes of a file, or of all below a folder; what can't be read has none."""
    with suppress(OSError):
        found = os.lstat(path)
        if not stat.S_ISDIR(found.st_mode):
            yield found.st_size
            return
        for top, _, names in os.walk(path):
            for name in names:
                with suppress(OSError):
                    yield os.lstat(os.path.join(top, name)).st_size


def _reached(template: str, folder: str) -> str:
    """A path as far as it is known before a job has its number: up to the folder of the first placeholder."""
    known, brace, _ = within(folder, template).partition("{")
    return f"{os.path.dirname(known)}/{UNKNOWN}" if brace else known


def _kind(path: Path) -> str:
    try:
        if path.is_dir():
            return "folder"
        if not path.exists():
            return "absent"
    except OSError:
        return "absent"
    return "file"


def _files(script: str, values: dict, folder: Path) -> dict[str, str]:
    found: dict[str, str] = {}
    body = read_body(script)
    for one in named_files(body) if body else ():
        kind = _kind(folder / one.path)
        if one.way == "run" and kind == "file" and not os.access(folder / one.path, os.X_OK):
            kind = "closed"
        found[one.path] = kind
        if one.way in ("written", "appended") and (above := folder_of(one.path)):
            found.setdefault(above, _kind(folder / above))
    stage = values.get("stage", {})
    named = [values.get("input", ""), *values.get("expect", ()), *stage.get("in", ()), *stage.get("out", ())]
    for path in filter(None, named):
        if glob.has_magic(path):
            found[path] = "file" if next(iter(matching(path, folder)), None) else "absent"
        else:
            found[path] = _kind(folder / path)
    first = script.split("\n", 1)[0]
    if first.startswith("#!/") and (words := first[2:].split()):
        found[words[0]] = _kind(Path(words[0]))
    return found


def _programs(script: str, path: str) -> dict[str, str]:
    body = read_body(script)
    names = {interpreter(script)} - {""}
    for command in body.commands if body else ():
        if command.name and "/" not in command.name and command.name not in BUILTINS:
            names.add(command.name)
    found = {}
    for name in names:
        if shutil.which(name, path=path):
            found[name] = "there"
        else:
            closed = any(os.path.isfile(os.path.join(each, name)) for each in path.split(os.pathsep) if each)
            found[name] = "closed" if closed else "absent"
    return found


def _sweep(values: dict, folder: Path) -> tuple[dict[str, str], dict[str, tuple[str, ...]]]:
    texts: dict[str, str] = {}
    matches: dict[str, tuple[str, ...]] = {}
    for kind, name in files_of(values.get("array", {}).get("sweep", {})):
        if kind == "pattern":
            matches[name] = tuple(sorted(islice(matching(name, folder), MOST_MATCHES)))
            continue
        try:
            texts[name] = given.read(folder / name, MOST_TEXT).decode(errors="replace")
        except OSError:
            continue
    return texts, matches


def matching(pattern: str, folder: Path) -> Iterator[str]:
    """The files that a pattern meets, as they are found; none for one of more parts than a path has."""
    if pattern.count("/") <= MOST_PARTS and pattern.count("**") <= MOST_DEEP:
        yield from glob.iglob(pattern, root_dir=folder, recursive=True)


def _groups() -> tuple[str, ...]:
    found = []
    for number in sorted({os.getgid(), *os.getgroups()}):
        try:
            found.append(grp.getgrgid(number).gr_name)
        except KeyError:
            continue
    return tuple(found)
