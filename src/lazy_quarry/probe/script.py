"""Looking up what the checks of one script need to know of files and programs here."""

import glob
import grp
import os
import shutil
import time
from dataclasses import replace
from pathlib import Path

from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.check import override_values
from lazy_quarry.core.header.interpreter import interpreter
from lazy_quarry.core.header.script_body import named_files, read_body
from lazy_quarry.core.header.script_checks import BUILTINS
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.header.surroundings import Surroundings
from lazy_quarry.core.job.sweep import files_of
from lazy_quarry.core.paths import start_folder
from lazy_quarry.probe.language import findings

MOST_TEXT = 16 * 2**20
MOST_MATCHES = 100_000


def looked_up(submission: Submission) -> Submission:
    """The submission with what its own language says of it, and with what was found of what it names."""
    return replace(submission, findings=findings(submission.script), surroundings=surroundings_of(submission))


def with_surroundings(submission: Submission) -> Submission:
    """As :func:`looked_up`, without asking other programs: quick enough for every key."""
    return replace(submission, surroundings=surroundings_of(submission))


def surroundings_of(submission: Submission) -> Surroundings:
    """What is here of the files and programs that a script names; nothing where its folder isn't here."""
    block, _ = find_block(submission.script)
    values = dict(block.values) if block else {}
    for override in submission.overrides:
        override_values(values, override)
    directory = values.get("directory")
    folder = Path(start_folder(submission.directory or os.getcwd(), directory if isinstance(directory, str) else ""))
    variables = dict(submission.environment)
    names = frozenset(variables)
    now_ms = round(time.time() * 1000)
    if not os.path.isdir(folder):
        return Surroundings(folder=str(folder), variables=names, now_ms=now_ms)
    texts, matches = _sweep(values, folder)
    return Surroundings(
        True,
        str(folder),
        _files(submission.script, values, folder),
        _programs(submission.script, variables.get("PATH", os.environ.get("PATH", os.defpath))),
        texts,
        matches,
        names,
        _groups(),
        now_ms,
    )


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
    stage = values.get("stage") if isinstance(values.get("stage"), dict) else {}
    named = [values.get("input"), *(values.get("expect") or [])]
    for key in ("in", "out"):
        named += stage.get(key) or [] if stage else []
    for path in named:
        if isinstance(path, str) and path and not glob.has_magic(path):
            found[path] = _kind(folder / path)
        elif isinstance(path, str) and path:
            found[path] = "file" if glob.glob(str(folder / path)) else "absent"
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
    array = values.get("array")
    sweep = array.get("sweep") if isinstance(array, dict) else None
    for kind, name in files_of(sweep) if isinstance(sweep, dict) else ():
        if kind == "pattern":
            found = sorted(glob.glob(name, root_dir=folder, recursive=True))
            matches[name] = tuple(found[:MOST_MATCHES])
            continue
        try:
            with open(folder / name, "rb") as file:
                texts[name] = file.read(MOST_TEXT).decode(errors="replace")
        except OSError:
            continue
    return texts, matches


def _groups() -> tuple[str, ...]:
    found = []
    for number in sorted({os.getgid(), *os.getgroups()}):
        try:
            found.append(grp.getgrgid(number).gr_name)
        except KeyError:
            continue
    return tuple(found)
