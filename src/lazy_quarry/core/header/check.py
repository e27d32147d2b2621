"""A script with its header, checked against a site: the request it amounts to, and every problem on the way."""

import re
import tomllib
from collections.abc import Iterable, Mapping
from itertools import islice
from typing import Any

from msgspec import Struct, field

from lazy_quarry.core.header.block import MOST_HEADER, UNFIT, Block, find_block, unfit
from lazy_quarry.core.header.checked_script import CheckedScript
from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, Severity, error, warning
from lazy_quarry.core.header.interpreter import likely_interpreter
from lazy_quarry.core.header.notes import HeaderNotes
from lazy_quarry.core.header.reader import HeaderReader
from lazy_quarry.core.header.request_checks import check_request
from lazy_quarry.core.header.script_body import read_body
from lazy_quarry.core.header.script_checks import check_body
from lazy_quarry.core.header.site_fit import SiteFit
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.header.toml_places import MOST_LEVELS, scan
from lazy_quarry.core.job.needs import Need
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import exact_duration, exact_size
from lazy_quarry.core.values import replace

_NO_REQUEST = ("header-unclosed", "header-nearly", "header-too-long")
"""Without a header that can be read, nothing is known of the request."""
_TRIED = (
    "toml",
    "key-unknown",
    "queue",
    "account",
    "tier",
    "module",
    "over-limit",
    "output-repeats",
    "output-clash",
    "value",
)
"""Findings whose fix is tried before it is offered: what it makes of the header can be wrong in another way."""
MOST_TRIED = 10
MOST_FINDINGS = 200
"""Number of findings about a script's commands that are told."""


class CheckContext(Struct, frozen=True):
    """The facts that a check needs beside the script and the site.

    ``submission`` says where the script comes from and what was found out about it; its text is not looked at.
    ``left_core_ms`` is what accounts have left; None is without a limit.
    """

    user: str
    submission: Submission = Submission("")
    left_core_ms: Mapping[str, int | None] = field(default_factory=dict)


class Checked(Struct, frozen=True):
    """The outcome: diagnostics worst first, and the request where it could be made out at all."""

    diagnostics: tuple[Diagnostic, ...]
    request: Request | None
    block: Block | None = None
    needs: tuple[Need, ...] = ()
    lines: Mapping[str, int] = field(default_factory=dict)
    """The lines of the header's keys."""

    @property
    def refused(self) -> bool:
        """True when something must change."""
        return any(one.severity is Severity.ERROR for one in self.diagnostics)


def check_script(text: str, site: Site, context: CheckContext) -> Checked:
    """Check a script as it would be submitted by ``context.user``. Never raises for what the script holds.

    A fix that is offered was tried: with it the finding is gone, and no error has come instead.
    """
    checked = _check(text, site, context)
    before, tries, told = _told(checked), 0, list[Diagnostic]()
    for one in checked.diagnostics:
        if one.fix is not None and one.code in _TRIED and tries < MOST_TRIED:
            tries += 1
            after = _told(_check(one.fix.apply(text), site, context, body=False))
            if (one.code, _unnumbered(one.message)) in after or any(
                after[key] is Severity.ERROR for key in after.keys() - before.keys()
            ):
                one = replace(one, fix=None)
        told.append(one)
    return replace(checked, diagnostics=tuple(told))


def _told(checked: Checked) -> dict[tuple[str, str], Severity]:
    """Findings, wherever in the file."""
    return {(one.code, _unnumbered(one.message)): one.severity for one in checked.diagnostics}


def _unnumbered(message: str) -> str:
    return re.sub(r"line \d+", "line", message)


def _check(text: str, site: Site, context: CheckContext, body: bool = True) -> Checked:
    """Check a script once; without ``body`` its commands are not looked at."""
    submission = context.submission
    block, problems = find_block(text)
    if any(one.code in UNFIT for one in problems):
        return Checked(tuple(problems), None)
    lines = text.split("\n")
    found: list[Diagnostic] = [*submission.findings, *_form(lines, submission.path), *problems]
    values = dict(block.values) if block else {}
    for override in submission.overrides:
        found += override_values(values, override)
    notes = HeaderNotes(lines, block, overridden_keys(submission.overrides), found)
    reader = HeaderReader(values, site, context.user, submission, notes)
    if block is None and not problems:
        found.append(_no_header(lines, site))
    unreadable = any(one.code in _NO_REQUEST for one in problems)
    request = None if unreadable else reader.request()
    needs: tuple[Need, ...] = ()
    # What is wrong in one part hides nothing that can be known of the others.
    nearly = request or (None if unreadable else reader.fitting())
    if nearly is not None:
        needs = SiteFit(nearly, site, notes, reader.read, context.left_core_ms, context.user).needs()
        needs = needs if request is not None else ()
    names = request.array.names if request is not None and request.array else reader.parameter_names()
    script = CheckedScript(
        lines=lines,
        block=block,
        body=read_body(text) if body else None,
        request=nearly or reader.found,
        need=needs[0] if needs else None,
        site=site,
        surroundings=submission.surroundings,
        parameters=names,
    )
    if request is not None:
        found += check_request(script)
    readable = nearly is not None and (block is not None or not problems)
    found += islice(check_body(script, partly=not readable), MOST_FINDINGS)
    known = {path[0]: place.line for path, place in reversed(block.places.items())} if block else {}
    return Checked(tuple(sorted(found, key=lambda one: one.rank)), request, block, needs, known)


def _no_header(lines: list[str], site: Site) -> Diagnostic:
    queue = site.queue[site.default_queue]
    walltime, memory = exact_duration(queue.walltime_default_s), exact_size(queue.memory_default_mib)
    header = ("# /// job", f'# walltime = "{walltime}"', f'# memory   = "{memory}/core"', "# ///")
    first = lines[0]
    better = (first, *header) if first.startswith("#!") else (*header, first)
    fix = Fix("add a header with the defaults", 1, 1, better)
    return warning("header-missing", "there is no job header, so every request is a default", 1, fix=fix)


def _form(lines: list[str], path: str) -> list[Diagnostic]:
    found = []
    windows = next((number for number, line in enumerate(lines, 1) if line.endswith("\r")), None)
    if windows:
        fix = Fix("use Unix line ends", 1, len(lines), tuple(line.rstrip("\r") for line in lines))
        found.append(error("line-ends", "Windows line ends; the interpreter would not be found", windows, fix=fix))
    if not lines[0].startswith("#!"):
        first = f"#!/usr/bin/env {likely_interpreter(chr(10).join(lines), path)}"
        fix = Fix(f"add {first}", 1, 1, (first, lines[0]))
        message = "there is no interpreter line; the first line says what runs the script"
        found.append(error("interpreter-missing", message, 1, fix=fix))
    elif not lines[0][2:].strip():
        found.append(error("interpreter-missing", "the interpreter line names no interpreter", 1))
    if not any(line.strip() and not line.lstrip().startswith("#") for line in lines):
        found.append(warning("no-command", "this script has no command, so it does nothing", len(lines)))
    return found


def overridden_keys(overrides: Iterable[str]) -> frozenset[str]:
    """The header keys that ``KEY=VALUE`` texts set; of a dotted key its table."""
    return frozenset(override.partition("=")[0].strip().split(".")[0] for override in overrides)


def override_values(values: dict[str, Any], override: str) -> list[Diagnostic]:
    """Put one ``KEY=VALUE`` into a header's values; what is wrong with it, if anything."""
    key, equals, text = override.partition("=")
    key = key.strip()
    if not equals or not key:
        return [error("override", f'in --set: "{shortened(override)}" is not KEY=VALUE', 0)]
    *tables, last = key.split(".")
    if len(override) > MOST_HEADER or len(tables) > MOST_LEVELS or scan(text, 1, 0).deep_line or unfit(override):
        return [error("override", f'in --set: "{shortened(override)}" is more than a key takes', 0)]
    try:
        value = tomllib.loads(f"x = {text}")["x"]
    except ValueError:
        value = text.strip()
    holder: dict[str, Any] = values
    for table in tables:
        inner = holder.get(table, {})
        if not isinstance(inner, dict):
            return [error("override", f"in --set: {shortened(key)}: {shortened(table)} is not a table", 0)]
        holder[table] = dict(inner)
        holder = holder[table]
    holder[last] = value
    return []
