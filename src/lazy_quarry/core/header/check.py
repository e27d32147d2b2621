"""A script with its header, checked against a site: the request it amounts to, and every problem on the way."""

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from lazy_quarry.core.header.block import Block, find_block
from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, Severity, error, warning
from lazy_quarry.core.header.reader import HeaderReader, Known
from lazy_quarry.core.header.script_body import read_body
from lazy_quarry.core.header.script_checks import Script, check_body
from lazy_quarry.core.header.surroundings import Surroundings
from lazy_quarry.core.job.request import Need, Request
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import exact_duration, exact_size
from lazy_quarry.errors import BadValue

_BROKEN = ("header-unclosed", "toml")
"""Without a header that can be read, nothing is known of the request."""


@dataclass(frozen=True, slots=True)
class Outside:
    """What a check needs to know from outside the script, as values.

    ``filename`` is where the script lies, or empty. ``overrides`` are ``KEY=VALUE`` texts. ``findings``
    come from other checkers. ``left_core_ms`` is what accounts have left; None is without a limit.
    """

    user: str
    filename: str = ""
    directory: str = ""
    overrides: tuple[str, ...] = ()
    arguments: tuple[str, ...] = ()
    findings: tuple[Diagnostic, ...] = ()
    left_core_ms: Mapping[str, int | None] = field(default_factory=dict)
    surroundings: Surroundings = Surroundings()


@dataclass(frozen=True, slots=True)
class Checked:
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


def decode_script(raw: bytes) -> str:
    """The text of a script. Raises :class:`BadValue` for what is no script: empty, binary, not UTF-8."""
    if not raw.strip():
        raise BadValue("the file is empty; a script has an interpreter line, a header and commands")
    if b"\0" in raw:
        raise BadValue("the file is binary, not a script; write a script that runs it")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as fault:
        line = raw[: fault.start].count(b"\n") + 1
        raise BadValue(f"line {line} is not UTF-8; save the file as UTF-8") from None


def check_script(text: str, site: Site, outside: Outside) -> Checked:
    """Check a script as it would be submitted by ``outside.user``. Never raises for what the script holds."""
    found: list[Diagnostic] = list(outside.findings)
    found += _form(text)
    block, problems = find_block(text)
    found += problems
    values = dict(block.values) if block else {}
    for override in outside.overrides:
        found += override_values(values, override)
    reader = HeaderReader(text, values, block, site, _known(outside), found)
    if block is None and not any(problem.code.startswith("header") for problem in problems):
        found.append(_no_header(text, site))
    request = None if any(one.code in _BROKEN for one in problems) else reader.request()
    fitting: tuple[Need, ...] = ()
    body = read_body(text)
    if request:
        fitting = reader.limits(request)
        names = request.array.names if request.array else reader.parameter_names()
        script = Script(
            text,
            block,
            body,
            request,
            fitting[0] if fitting else None,
            site,
            outside.surroundings,
            names,
        )
        found += check_body(script)
    where: dict[str, int] = {}
    if block:
        where = {path[0]: place.line for path, place in reversed(block.places.items())}
    return Checked(tuple(sorted(found, key=lambda one: one.rank)), request, block, fitting, where)


def _known(outside: Outside) -> Known:
    overridden = {override.partition("=")[0].strip().split(".")[0] for override in outside.overrides}
    return Known(
        outside.user,
        outside.filename,
        frozenset(overridden),
        outside.arguments,
        outside.left_core_ms,
        outside.surroundings,
    )


def _no_header(text: str, site: Site) -> Diagnostic:
    queue = site.queue[site.default_queue]
    walltime, memory = exact_duration(queue.walltime_default_s), exact_size(queue.memory_default_mib)
    header = ("# /// job", f'# walltime = "{walltime}"', f'# memory   = "{memory}/core"', "# ///")
    first = text.split("\n")[0]
    lines = (first, *header) if first.startswith("#!") else (*header, first)
    fix = Fix("add a header with the defaults", 1, 1, lines)
    return warning("header-missing", "there is no job header, so every request is a default", 1, fix=fix)


def _form(text: str) -> list[Diagnostic]:
    found = []
    lines = text.split("\n")
    windows = next((number for number, line in enumerate(lines, 1) if line.endswith("\r")), None)
    if windows:
        fix = Fix("use Unix line ends", 1, len(lines), tuple(line.rstrip("\r") for line in lines))
        found.append(error("line-ends", "Windows line ends; the interpreter would not be found", windows, fix=fix))
    if not lines[0].startswith("#!"):
        fix = Fix("add #!/usr/bin/env bash", 1, 1, ("#!/usr/bin/env bash", lines[0]))
        message = "there is no interpreter line; the first line says what runs the script"
        found.append(error("interpreter-missing", message, 1, fix=fix))
    elif not lines[0][2:].strip():
        found.append(error("interpreter-missing", "the interpreter line names no interpreter", 1))
    if not any(line.strip() and not line.lstrip().startswith("#") for line in lines):
        found.append(warning("no-command", "there is no command in this script, so it does nothing", len(lines)))
    return found


def override_values(values: dict[str, Any], override: str) -> list[Diagnostic]:
    """Put one ``KEY=VALUE`` into a header's values; what is wrong with it, if anything."""
    key, equals, text = override.partition("=")
    key = key.strip()
    if not equals or not key:
        return [error("override", f'--set "{override}" is not KEY=VALUE', 0)]
    try:
        value = tomllib.loads(f"x = {text}")["x"]
    except tomllib.TOMLDecodeError:
        value = text.strip()
    *tables, last = key.split(".")
    holder: dict[str, Any] = values
    for table in tables:
        inner = holder.get(table, {})
        if not isinstance(inner, dict):
            return [error("override", f"--set {key}: {table} is not a table", 0)]
        holder[table] = dict(inner)
        holder = holder[table]
    holder[last] = value
    return []
