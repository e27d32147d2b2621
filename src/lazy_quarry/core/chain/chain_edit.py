"""Changing one thing of a chain file, and nothing else in it: jobs added and taken out, linked and unlinked, rewritten."""

from collections.abc import Mapping
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError

from lazy_quarry.core.chain.chain_file import SAFE_LINE, WITHOUT_FILE
from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.keys import CONDITIONS
from lazy_quarry.core.header.values import job_name
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.errors import BadValue


def with_job(text: str, name: str, runs: Mapping[str, object], after: Mapping[str, str]) -> str:
    """With one more job at the end. ``runs`` is ``script`` or ``commands`` with its value.

    Raises :class:`BadValue` for a name that is taken or none, and for a file that is no TOML; as all here do.
    """
    document, jobs = _parsed(text)
    job_name(name)
    if name in jobs:
        raise BadValue(f'there is a job "{name}" already')
    table = tomlkit.table()
    for key, value in runs.items():
        table[key] = value
    if after:
        table["after"] = _inline(after)
    if jobs and not tomlkit.dumps(document).endswith("\n\n"):
        _last(jobs).add(tomlkit.nl())
    jobs[name] = table
    return _dumped(document)


def without_job(text: str, name: str) -> str:
    """Without a job, and without what others waited of it."""
    document, jobs = _parsed(text)
    _job(jobs, name)
    del jobs[name]
    for other in jobs:
        _cut(jobs[other], name)
    return _dumped(document)


def linked(text: str, name: str, other: str, condition: str) -> str:
    """With ``name`` waiting for ``other``, as ``condition`` says; one that it had is replaced."""
    document, jobs = _parsed(text)
    job = _job(jobs, name)
    if not other.isdecimal():
        _job(jobs, other)
    if condition not in CONDITIONS:
        raise BadValue(f"{shortened(condition)} is not a condition; there are {', '.join(CONDITIONS)}")
    after = job.get("after")
    if isinstance(after, dict):
        after[other] = condition
    else:
        job["after"] = _inline({other: condition})
    return _dumped(document)


def unlinked(text: str, name: str, other: str) -> str:
    """With ``name`` no longer waiting for ``other``."""
    document, jobs = _parsed(text)
    if not _cut(_job(jobs, name), other):
        raise BadValue(f"{name} doesn't wait for {other}")
    return _dumped(document)


def as_script(text: str, name: str) -> str:
    """A job that is told by commands, as a script: its own keys as the header, its commands below."""
    _, jobs = _parsed(text)
    job = _job(jobs, name)
    header = tomlkit.document()
    for key, value in job.items():
        if key not in ("commands", "after", "script"):
            header[key] = value
    lines = [f"# {line}".rstrip() for line in tomlkit.dumps(header).strip("\n").split("\n") if header]
    commands = [str(line) for line in job.get("commands", [])]
    return "\n".join([WITHOUT_FILE[0], WITHOUT_FILE[1], *lines, WITHOUT_FILE[2], SAFE_LINE, *commands, ""])


def with_script(text: str, name: str, script: str) -> str:
    """With a job's keys and commands taken from such a script."""
    document, jobs = _parsed(text)
    job = _job(jobs, name)
    block, problems = find_block(script)
    if problems:
        raise BadValue(f"line {problems[0].line}: {problems[0].message}")
    values: dict[str, Any] = dict(tomlkit.parse(block.toml)) if block else {}
    if "after" in values:
        raise BadValue("what it waits for is told by the chain, not by the header: take after out")
    lines = script.split("\n")
    body = lines[block.last_line :] if block else lines[1 if lines[0].startswith("#!") else 0 :]
    while body and not body[0].strip():
        body.pop(0)
    if body and body[0].strip() == SAFE_LINE:
        body.pop(0)
    while body and not body[-1].strip():
        body.pop()
    for key in [one for one in job if one not in ("commands", "after", *values)]:
        del job[key]
    commands = tomlkit.array()
    commands.extend(body)
    job["commands"] = commands.multiline(len(body) > 1)
    for key, value in values.items():
        if key != "name" and (key not in job or job[key] != value):
            job[key] = value
    return _dumped(document)


def _parsed(text: str) -> tuple[tomlkit.TOMLDocument, Any]:
    try:
        document = tomlkit.parse(text)
    except (TOMLKitError, ValueError) as fault:
        raise BadValue(f"the chain file is not TOML: {fault}") from None
    jobs = document.setdefault("jobs", tomlkit.table(is_super_table=True))
    if not isinstance(jobs, dict):
        raise BadValue("jobs of the chain file is not a table")
    return document, jobs


def _dumped(document: tomlkit.TOMLDocument) -> str:
    text = tomlkit.dumps(document)
    return text if text.endswith("\n") else text + "\n"


def _job(jobs: Any, name: str) -> Any:
    job = jobs.get(name)
    if not isinstance(job, dict):
        raise BadValue(f'there is no job "{shortened(name)}" in the chain file')
    return job


def _last(jobs: Any) -> Any:
    return jobs[list(jobs)[-1]]


def _cut(job: Any, other: str) -> bool:
    after = job.get("after") if isinstance(job, dict) else None
    if not isinstance(after, dict) or other not in after:
        return False
    del after[other]
    if not after:
        del job["after"]
    return True


def _inline(values: Mapping[str, str]) -> Any:
    table = tomlkit.inline_table()
    table.update(values)
    return table
