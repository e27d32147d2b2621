"""The values of one header, read into a request; each problem is noted with its line."""

import difflib
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from lazy_quarry.core.header.block import Block
from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, error, warning
from lazy_quarry.core.header.keys import KEYS, PLACEHOLDERS, nearest
from lazy_quarry.core.header.surroundings import Surroundings
from lazy_quarry.core.job.request import Memory, Need, Rehearsal, Request, Stage, needs
from lazy_quarry.core.job.sweep import Array, make_array
from lazy_quarry.core.ledger.charges import greatest_charge
from lazy_quarry.core.site import Queue, Site
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import exact_size, fold_names, format_core_hours, format_duration, format_size, plural
from lazy_quarry.errors import BadValue, Refused


@dataclass(frozen=True, slots=True)
class Known:
    """What the reader needs to know beside the script and the site."""

    user: str
    filename: str
    overridden: frozenset[str]
    arguments: tuple[str, ...]
    left_core_ms: Mapping[str, int | None]
    surroundings: Surroundings


_BESIDE = ("key-unknown", "module", "not-yet", "array")
"""Errors beside which the request can still be made out."""


class HeaderReader:
    """Reads the values of one header into a request, noting each problem with its line."""

    def __init__(
        self,
        text: str,
        values: dict[str, Any],
        block: Block | None,
        site: Site,
        outside: Known,
        found: list[Diagnostic],
    ) -> None:
        self.lines = text.split("\n")
        self.block, self.site, self.outside, self.found = block, site, outside, found
        self.overridden = outside.overridden
        self.usable = True
        self.read: dict[str, Any] = {}
        self.meant: set[str] = set()
        """Keys that stand there misspelt; it is not said besides that they are missing."""
        for key, value in values.items():
            self._read(key, value)

    def _read(self, key: str, value: Any) -> None:
        known = KEYS.get(key)
        if known is None:
            said = f'there is no key "{key}"{nearest(key, KEYS)}'
            self._note("key-unknown", key, said, at_value=False, fix=self._renamed(key))
            self.meant |= set(difflib.get_close_matches(key, list(KEYS), 1, 0.6))
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
        self.usable = self.usable and (severity is not error or code in _BESIDE)
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
            fix = self._added("walltime", format_duration(walltime))
            if self.block is not None and "walltime" not in self.meant:
                self._note("walltime-absent", "walltime", said, severity=warning, fix=fix)
        memory = read.get("memory")
        if memory is None:
            memory = Memory(queue.memory_default_mib, "core")
            said = f"no memory; each core would get {format_size(memory.mib)}, the default of queue {queue.name}"
            fix = self._added("memory", f"{exact_size(memory.mib)}/core")
            if self.block is not None and "memory" not in self.meant:
                self._note("memory-absent", "memory", said, severity=warning, fix=fix)
        if read.get("warn", 0) >= walltime and "warn" in read:
            said = f"warn: {format_duration(read['warn'])} before the end is before the start of {format_duration(walltime)}"
            self._note("value", "warn", said)
            return None
        variables = dict(read.get("environment", {}))
        inherit = bool(variables.pop("inherit", False))
        retries = read.get("retries")
        nodes, most_nodes, anywhere, ranks, ranks_per_node = shape
        array = self._array(queues)
        self._placeholders(array)
        if not self.usable:
            return None
        stage = read.get("stage", {})
        return Request(
            name=self._name(),
            account=account,
            queues=tuple(one.name for one in queues),
            tier=tier,
            walltime_s=walltime,
            memory=memory,
            nodes=nodes,
            most_nodes=most_nodes,
            anywhere=anywhere,
            ranks=ranks,
            ranks_per_node=ranks_per_node,
            threads=read.get("threads", 1),
            whole_nodes=read.get("whole-nodes", False),
            gpus=read.get("gpus", 0),
            gpu_memory_mib=read.get("gpu-memory", 0),
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
            output=read.get("output", "{name}-{job}-{task}.out" if "array" in read else "{name}-{job}.out"),
            errors=read.get("errors", "joined"),
            input=read.get("input", ""),
            environment=tuple((name, str(value)) for name, value in variables.items()),
            inherit=inherit,
            modules=read.get("modules", ()),
            expect=read.get("expect", ()),
            summary=read.get("summary", False),
            stage=Stage(stage.get("in", ()), stage.get("out", ()), stage.get("keep", False)),
            readable_by=read.get("readable-by", ""),
            again_at_overtime=read.get("at-overtime") == "again",
            after=tuple((str(job), str(condition)) for job, condition in read.get("after", {}).items()),
            array=array,
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
                said = f'there is no queue "{name}"{nearest(name, self.site.queue)}'
                self._note("queue", "queue", said, fix=self._corrected("queue", name, self.site.queue))
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
            said = f'there is no account "{account}"{nearest(account, own)}'
            self._note("account", "account", said, fix=self._corrected("account", account, own))
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
            said = f'there is no tier "{tier}"{nearest(tier, self.site.tier)}'
            self._note("tier", "tier", said, fix=self._corrected("tier", tier, self.site.tier))
        elif known.users and self.outside.user not in known.users:
            self._note("tier", "tier", f"tier {tier} is only for {', '.join(known.users)}")
        elif only and tier != only:
            self._note("tier", "tier", f"queue {queues[0].name} serves only tier {only}")
        else:
            return str(tier)
        return None

    def _shape(self) -> tuple[int | None, int | None, bool, int, int | None] | None:
        """Nodes (None: as few as fit), the most of a range, whether anywhere, ranks, and ranks on each node."""
        nodes, ranks, each = (self.read.get(key) for key in ("nodes", "ranks", "ranks-per-node"))
        if nodes == "any":
            if each is not None:
                said = f'nodes = "any" puts ranks wherever there is room, and ranks-per-node{self._at("ranks-per-node")} fixes them'
                self._note("shape", "nodes", said)
                return None
            return None, None, True, ranks or 1, None
        most = None
        if isinstance(nodes, str):
            nodes, most = (int(end) for end in nodes.split(".."))
        if each is not None:
            if nodes is None:
                nodes = -(-ranks // each) if ranks else 1
            if (
                ranks is not None
                and most is not None
                and any(ranks == each * count for count in range(nodes, most + 1))
            ):
                return ranks // each, None, False, ranks, None
            if ranks is not None and (most is not None or ranks != nodes * each):
                others = [key for key in ("nodes", "ranks-per-node") if key in self.read]
                lines = " and ".join(f"{key}{self._at(key)}" for key in others)
                product = f"{nodes} × {each} = {nodes * each}" if most is None else f"{nodes}..{most} × {each}"
                self._note(
                    "shape", "ranks", f"ranks = {ranks} is not nodes × ranks-per-node, {product}; {lines} say so"
                )
                return None
            return nodes, most, False, nodes * each, each if most else None
        if ranks is None:
            return nodes, most, False, nodes or 1, 1 if most else None
        if nodes is not None and ranks < nodes:
            said = f"nodes = {nodes} is more than ranks = {ranks}{self._at('ranks')}; some nodes would get none"
            self._note("shape", "nodes", said)
            return None
        return nodes, most, False, ranks, None

    def _at(self, key: str) -> str:
        """`` (line 7)`` where the key stands in the header."""
        place = self.block.places.get((key,)) if self.block else None
        return f" (line {place.line})" if place and key not in self.overridden else ""

    def parameter_names(self) -> tuple[str, ...]:
        """Names of the sweep's parameters, also while their values cannot be read."""
        return tuple(name for name in self.read.get("array", {}).get("sweep", {}) if name != "together")

    def _array(self, queues: list[Queue]) -> Array | None:
        table = self.read.get("array")
        if table is None:
            return None
        surroundings = self.outside.surroundings
        meeting: list[str] = []
        if "each-node" in table:
            wanted = parse_traits(table["each-node"])
            names = {name for queue in queues for name in queue.nodes}
            nodes = [node for node in self.site.nodes if node.runs_jobs and node.name in names]
            meeting = [node.name for node in nodes if wanted.met_by(set(node.traits))]
        try:
            return make_array(table, surroundings.texts, surroundings.matches, meeting)
        except BadValue as fault:
            if surroundings.looked or not any(isinstance(value, dict) for value in table.get("sweep", {}).values()):
                self._note("array", "array", f"array: {fault}")
        return None

    def _placeholders(self, array: Array | None) -> None:
        known = {*PLACEHOLDERS, *self.parameter_names()}
        for key in ("output", "errors"):
            for placeholder in re.findall(r"\{([^}]*)\}", self.read.get(key, "")):
                if placeholder not in known:
                    names = " ".join(f"{{{one}}}" for one in (*PLACEHOLDERS, *self.parameter_names()))
                    self._note("value", key, f"{key}: {{{placeholder}}} is unknown; there are {names}")

    def _added(self, key: str, value: str) -> Fix | None:
        """A line for a key that is not there."""
        if self.block is None:
            return None
        at = self.block.first_line
        return Fix(f'write {key} = "{value}"', at, at, (self.lines[at - 1], f'# {key:<8} = "{value}"'))

    def _corrected(self, key: str, word: str, known: Any) -> Fix | None:
        """The nearest known word in place of one that is none."""
        near = difflib.get_close_matches(word, list(known), 1, 0.6)
        place = self.block.places.get((key,)) if self.block else None
        if not near or place is None or key in self.overridden:
            return None
        line = self.lines[place.line - 1]
        if f'"{word}"' not in line:
            return None
        return Fix(f'write "{near[0]}"', place.line, place.line, (line.replace(f'"{word}"', f'"{near[0]}"', 1),))

    def _modules(self) -> None:
        for module in self.read.get("modules", ()):
            if not self.site.modules:
                self._note(
                    "module", "modules", f"modules: {self.site.name} offers no modules, so {module} can't be loaded"
                )
                return
            if module not in self.site.modules:
                said = f"modules: {self.site.name} has no {module}{nearest(module, self.site.modules)}"
                self._note("module", "modules", said, fix=self._corrected("modules", module, self.site.modules))

    def limits(self, request: Request) -> tuple[Need, ...]:
        """Note what is over a limit or can never run; returns what the queues that would serve it must give."""
        fitting: list[Need] = []
        refusals = []
        for name in request.queues:
            queue = self.site.queue[name]
            if queue.walltime_limit_s and request.walltime_s > queue.walltime_limit_s:
                limit = format_duration(queue.walltime_limit_s)
                said = f"walltime {format_duration(request.walltime_s)} is over the limit of queue {name}, {limit}"
                refusals.append(("over-limit", "walltime", said, self._shortened(limit)))
                over = True
            else:
                over = False
            try:
                need = needs(request, queue, self.site)
            except Refused as fault:
                refusals.append(("impossible", *self._disagree(str(fault)), None))
                continue
            if queue.max_cores and need.cores > queue.max_cores:
                said = f"{need.cores} cores are over the limit of queue {name}, {plural(queue.max_cores, 'core')} a job"
                refusals.append(("over-limit", self._line("ranks", "nodes", "threads"), said, None))
            elif not over:
                fitting.append(need)
        if not fitting:
            if len(refusals) > 1 and all(key == "traits" for _, key, _, _ in refusals):
                refusals = [("impossible", "traits", self._never_together(request), None)]
            for code, key, said, fix in refusals:
                self._note(code, key, said, fix=fix)
        tier = self.site.tier[request.tier]
        over = any(code == "over-limit" and key == "walltime" for code, key, _, _ in refusals) and not fitting
        if tier.walltime_limit_s and request.walltime_s > tier.walltime_limit_s and not over:
            limit = format_duration(tier.walltime_limit_s)
            said = f"walltime {format_duration(request.walltime_s)} is over the limit of tier {tier.name}, {limit}"
            self._note("over-limit", "walltime", said, fix=self._shortened(limit))
        if fitting:
            self._budget(request, fitting[0])
        return tuple(fitting)

    def _never_together(self, request: Request) -> str:
        """Where each of the traits is to be had, when no node of the queues has what is asked for."""
        told = []
        for trait in sorted(parse_traits(request.traits).names):
            names = [node.name for node in self.site.nodes if trait in node.traits and node.runs_jobs]
            told.append(f"{trait} {'is on ' + fold_names(names) if names else 'is on no node'}")
        queues = ", ".join(request.queues)
        return f'no node of {queues} meets traits "{request.traits}": {"; ".join(told)}'

    def _shortened(self, limit: str) -> Fix | None:
        place = self.block.places.get(("walltime",)) if self.block else None
        if place is None or "walltime" in self.overridden:
            return None
        line = self.lines[place.line - 1]
        value = re.search(r'"[^"]*"', line[place.column - 1 :])
        if value is None:
            return None
        changed = line[: place.column - 1] + line[place.column - 1 :].replace(value[0], f'"{limit}"', 1)
        return Fix(f"ask for {limit}", place.line, place.line, (changed,))

    def _disagree(self, refusal: str) -> tuple[str, str]:
        """The key in whose line an impossible request is shown, and the refusal with the line it disagrees with."""
        key = self._about(refusal)
        others = {
            "traits": ("queue", "on-nodes"),
            "on-nodes": ("queue", "traits"),
            "gpus": ("queue",),
            "gpu-memory": ("queue",),
            "scratch": ("queue",),
            "memory": ("ranks-per-node", "ranks", "nodes", "threads", "queue"),
            "nodes": ("queue", "traits"),
            "ranks": ("nodes", "threads", "queue"),
            "ranks-per-node": ("threads", "nodes", "queue"),
            "threads": ("queue",),
        }
        other = next((one for one in others.get(key, ()) if one in self.read and self._at(one)), None)
        if other is None or not self._at(key):
            return key, refusal
        return key, f"{refusal} ({key} here and {other} in line {self._at(other)[7:-1]} disagree)"

    def _about(self, refusal: str) -> str:
        """The key whose line an impossible request is shown in, by how the refusal begins."""
        beginnings = {"none of the nodes": "on-nodes", "no node of": "traits"}
        beginnings |= {key: key for key in ("memory", "gpus", "gpu-memory", "scratch", "threads", "nodes")}
        key = next((key for words, key in beginnings.items() if refusal.startswith(words)), "ranks")
        return self._line(key, "ranks", "nodes", "ranks-per-node", "threads", "queue")

    def _budget(self, request: Request, need: Need) -> None:
        left = self.outside.left_core_ms.get(request.account)
        if left is None:
            return
        tasks = request.array.count if request.array else 1
        most = greatest_charge(self.site, request.tier, need.cores, request.walltime_s) * tasks
        if left <= 0:
            self._note("budget", "account", f"the budget of {request.account} is spent; charge another account")
        elif most > left:
            said = (
                f"it may charge {format_core_hours(most)} core-hours, and {request.account} "
                f"has {format_core_hours(left)} left"
            )
            self._note("budget", self._line("account", "walltime"), said, severity=warning)
