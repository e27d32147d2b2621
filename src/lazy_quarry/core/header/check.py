"""A script with its header, checked against a site: the request it amounts to, and every problem on the way."""

import difflib
import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from lazy_quarry.core.header.block import Block, find_block
from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, Severity, error, warning
from lazy_quarry.core.header.keys import KEYS, nearest
from lazy_quarry.core.ledger import greatest_charge
from lazy_quarry.core.request import Memory, Need, Rehearsal, Request, needs
from lazy_quarry.core.site import Queue, Site
from lazy_quarry.core.units import format_core_hours, format_duration, format_size, plural
from lazy_quarry.errors import BadValue, Refused

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


@dataclass(frozen=True, slots=True)
class Checked:
    """The outcome: diagnostics worst first, and the request where it could be made out at all."""

    diagnostics: tuple[Diagnostic, ...]
    request: Request | None
    block: Block | None = None
    needs: tuple[Need, ...] = ()

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
        found += _override(values, override)
    reader = _Reader(text, values, block, site, outside, found)
    if block is None and not any(problem.code.startswith("header") for problem in problems):
        found.append(warning("header-missing", "there is no job header, so every request is a default", 1))
    request = None if any(one.code in _BROKEN for one in problems) else reader.request()
    fitting: tuple[Need, ...] = ()
    if request:
        fitting = reader.limits(request)
    return Checked(tuple(sorted(found, key=lambda one: one.rank)), request, block, fitting)


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


def _override(values: dict[str, Any], override: str) -> list[Diagnostic]:
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


class _Reader:
    """Reads the values of one header into a request, noting each problem with its line."""

    def __init__(
        self,
        text: str,
        values: dict[str, Any],
        block: Block | None,
        site: Site,
        outside: Outside,
        found: list[Diagnostic],
    ) -> None:
        self.lines = text.split("\n")
        self.block, self.site, self.outside, self.found = block, site, outside, found
        self.overridden = {override.partition("=")[0].strip().split(".")[0] for override in outside.overrides}
        self.usable = True
        self.read: dict[str, Any] = {}
        for key, value in values.items():
            self._read(key, value)

    def _read(self, key: str, value: Any) -> None:
        known = KEYS.get(key)
        if known is None:
            self._note(
                "key-unknown",
                key,
                f'there is no key "{key}"{nearest(key, KEYS)}',
                at_value=False,
                fix=self._renamed(key),
            )
            return
        try:
            self.read[key] = known.read(value)
        except BadValue as fault:
            self._note("value", key, f"{key}: {fault}")
            return
        if known.later(self.read[key]):
            self._note("not-yet", key, f"{key}: this isn't there yet, and the job would not be what it asks for")
        elif key == "notify":
            self._note("not-yet", key, "notify: no mail is sent yet; the job runs all the same", severity=warning)

    def _renamed(self, key: str) -> Fix | None:
        """The line with the nearest known key in place of this one, where there is one that isn't there yet."""
        near = difflib.get_close_matches(key, list(KEYS), 1, 0.6)
        if not near or not self.block or near[0] in self.block.values or (key,) not in self.block.places:
            return None
        number = self.block.places[(key,)].line
        line = self.lines[number - 1]
        return Fix(f'write "{near[0]}"', number, number, (line.replace(key, near[0], 1),))

    def _note(
        self,
        code: str,
        key: str,
        message: str,
        at_value: bool = True,
        severity: Any = error,
        fix: Fix | None = None,
    ) -> None:
        self.usable = self.usable and (severity is not error or code in ("key-unknown", "module"))
        if key in self.overridden:
            self.found.append(severity(code, f"--set {message}", 0))
            return
        place = self.block.place(key) if self.block else None
        line, column = (place.line, place.column if at_value else 3) if place else (1, 1)
        self.found.append(severity(code, message, line, column, fix))

    def _line(self, *keys: str) -> str:
        """The key in whose line a problem is shown: the first one that is there."""
        return next((key for key in keys if key in self.read), keys[0])

    def request(self) -> Request | None:
        """The request with defaults filled in, or None when a value in it cannot be read."""
        read, site = self.read, self.site
        queues = self._queues()
        account = self._account()
        tier = self._tier(queues)
        shape = self._shape()
        self._modules()
        if not self.usable or not queues or account is None or tier is None or shape is None:
            return None
        queue = queues[0]
        walltime = read.get("walltime")
        if walltime is None:
            walltime = queue.walltime_default_s
            limits = [one for one in (queue.walltime_limit_s, site.tier[tier].walltime_limit_s) if one]
            walltime = min([walltime, *limits])
            said = f"no walltime; the job would be stopped after {format_duration(walltime)}, the default of queue {queue.name}"
            self._note("walltime-absent", "walltime", said, severity=warning)
        memory = read.get("memory")
        if memory is None:
            memory = Memory(queue.memory_default_mib, "core")
            said = f"no memory; each core would get {format_size(memory.mib)}, the default of queue {queue.name}"
            self._note("memory-absent", "memory", said, severity=warning)
        if read.get("warn", 0) >= walltime and "warn" in read:
            said = f"warn: {format_duration(read['warn'])} before the end is before the start of {format_duration(walltime)}"
            self._note("value", "warn", said)
            return None
        variables = dict(read.get("environment", {}))
        inherit = bool(variables.pop("inherit", False))
        retries = read.get("retries")
        nodes, ranks = shape
        return Request(
            name=self._name(),
            account=account,
            queues=tuple(one.name for one in queues),
            tier=tier,
            walltime_s=walltime,
            memory=memory,
            nodes=nodes,
            ranks=ranks,
            threads=read.get("threads", 1),
            whole_nodes=read.get("whole-nodes", False),
            gpus=read.get("gpus", 0),
            scratch_mib=read.get("scratch", 0),
            traits=read.get("traits", ""),
            on_nodes=read.get("on-nodes", ()),
            warn_s=read.get("warn"),
            grace_s=read.get("grace", 30),
            not_before_ms=read.get("not-before"),
            failure_retries=retries or 0,
            lost_retries=1 if retries is None else retries,
            arguments=self.outside.arguments or read.get("arguments", ()),
            prepare=read.get("prepare", ()),
            directory=read.get("directory", ""),
            output=read.get("output", "{name}-{job}.out"),
            errors=read.get("errors", "joined"),
            input=read.get("input", ""),
            environment=tuple((name, str(value)) for name, value in variables.items()),
            inherit=inherit,
            modules=read.get("modules", ()),
            expect=read.get("expect", ()),
            summary=read.get("summary", False),
            rehearsal=read.get("rehearsal", Rehearsal()),
        )

    def _name(self) -> str:
        if "name" in self.read:
            return str(self.read["name"])
        stem = re.sub(r"\.[A-Za-z0-9]+$", "", self.outside.filename.rsplit("/", 1)[-1])
        return re.sub(r"[^A-Za-z0-9._-]+", "-", stem).strip("-")[:64] or "script"

    def _queues(self) -> list[Queue]:
        queues = []
        for name in self.read.get("queue", (self.site.default_queue,)):
            queue = self.site.queue.get(name)
            if queue is None:
                self._note("queue", "queue", f'there is no queue "{name}"{nearest(name, self.site.queue)}')
            elif queue.users and self.outside.user not in queue.users:
                self._note("queue", "queue", f"queue {name} is only for {', '.join(queue.users)}")
            elif not queue.open:
                self._note("queue", "queue", f"queue {name} is closed: {queue.note}")
            else:
                queues.append(queue)
        return queues

    def _account(self) -> str | None:
        own = self.site.accounts_of(self.outside.user)
        account = self.read.get("account", self.site.default_account(self.outside.user))
        if account is None:
            self._note("account", "account", f"{self.outside.user} may charge no account of {self.site.name}")
        elif account not in self.site.account:
            self._note("account", "account", f'there is no account "{account}"{nearest(account, own)}')
        elif account not in own:
            self._note("account", "account", f"you may not charge {account}; you may charge {', '.join(own)}")
        else:
            return str(account)
        return None

    def _tier(self, queues: list[Queue]) -> str | None:
        only = next((queue.tier for queue in queues if queue.tier), None)
        tier = self.read.get("tier", only or self.site.default_tier)
        known = self.site.tier.get(tier)
        if known is None:
            self._note("tier", "tier", f'there is no tier "{tier}"{nearest(tier, self.site.tier)}')
        elif known.users and self.outside.user not in known.users:
            self._note("tier", "tier", f"tier {tier} is only for {', '.join(known.users)}")
        elif only and tier != only:
            self._note("tier", "tier", f"queue {queues[0].name} serves only tier {only}")
        else:
            return str(tier)
        return None

    def _shape(self) -> tuple[int | None, int] | None:
        """Nodes (None: as few as fit) and ranks."""
        nodes, ranks, each = (self.read.get(key) for key in ("nodes", "ranks", "ranks-per-node"))
        if isinstance(nodes, str):
            return None
        if each is not None:
            if nodes is None:
                nodes = -(-ranks // each) if ranks else 1
            if ranks is not None and ranks != nodes * each:
                said = f"ranks = {ranks} is not nodes × ranks-per-node, {nodes} × {each} = {nodes * each}"
                self._note("shape", "ranks", said)
                return None
            return nodes, nodes * each
        if ranks is None:
            return nodes, nodes or 1
        if nodes is not None and ranks < nodes:
            self._note("shape", "nodes", f"nodes = {nodes} is more than ranks = {ranks}; some nodes would get none")
            return None
        return nodes, ranks

    def _modules(self) -> None:
        for module in self.read.get("modules", ()):
            if not self.site.modules:
                self._note(
                    "module", "modules", f"modules: {self.site.name} offers no modules, so {module} can't be loaded"
                )
                return
            if module not in self.site.modules:
                said = f"modules: {self.site.name} has no {module}{nearest(module, self.site.modules)}"
                self._note("module", "modules", said)

    def limits(self, request: Request) -> tuple[Need, ...]:
        """Note what is over a limit or can never run; returns what the queues that would serve it must give."""
        fitting: list[Need] = []
        refusals = []
        for name in request.queues:
            queue = self.site.queue[name]
            if queue.walltime_limit_s and request.walltime_s > queue.walltime_limit_s:
                limit = format_duration(queue.walltime_limit_s)
                said = f"walltime {format_duration(request.walltime_s)} is over the limit of queue {name}, {limit}"
                refusals.append(("over-limit", "walltime", said))
                over = True
            else:
                over = False
            try:
                need = needs(request, queue, self.site)
            except Refused as fault:
                refusals.append(("impossible", self._about(str(fault)), str(fault)))
                continue
            if queue.max_cores and need.cores > queue.max_cores:
                said = f"{need.cores} cores are over the limit of queue {name}, {plural(queue.max_cores, 'core')} a job"
                refusals.append(("over-limit", self._line("ranks", "nodes", "threads"), said))
            elif not over:
                fitting.append(need)
        if not fitting:
            for code, key, said in refusals:
                self._note(code, key, said)
        tier = self.site.tier[request.tier]
        if tier.walltime_limit_s and request.walltime_s > tier.walltime_limit_s:
            limit = format_duration(tier.walltime_limit_s)
            said = f"walltime {format_duration(request.walltime_s)} is over the limit of tier {tier.name}, {limit}"
            self._note("over-limit", "walltime", said)
        if fitting:
            self._budget(request, fitting[0])
        return tuple(fitting)

    def _about(self, refusal: str) -> str:
        """The key whose line an impossible request is shown in, by how the refusal begins."""
        beginnings = {"none of the nodes": "on-nodes", "no node of": "traits"}
        beginnings |= {key: key for key in ("memory", "gpus", "scratch", "threads", "nodes")}
        key = next((key for words, key in beginnings.items() if refusal.startswith(words)), "ranks")
        return self._line(key, "ranks", "nodes", "ranks-per-node", "threads", "queue")

    def _budget(self, request: Request, need: Need) -> None:
        left = self.outside.left_core_ms.get(request.account)
        if left is None:
            return
        most = greatest_charge(self.site, request.tier, need.cores, request.walltime_s)
        if left <= 0:
            self._note("budget", "account", f"the budget of {request.account} is spent; charge another account")
        elif most > left:
            said = (
                f"it may charge {format_core_hours(most)} core-hours, and {request.account} "
                f"has {format_core_hours(left)} left"
            )
            self._note("budget", self._line("account", "walltime"), said, severity=warning)
