"""The values of one header, read into a request; each problem is noted with its line."""

import re
from typing import Any

from lazy_quarry.core.header.diagnostic import warning
from lazy_quarry.core.header.keys import IN_TABLES, KEYS, PLACEHOLDERS
from lazy_quarry.core.header.nearest import closest, nearest
from lazy_quarry.core.header.notes import HeaderNotes
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.instants import instant_of, zone_called
from lazy_quarry.core.job.notice import Notify
from lazy_quarry.core.job.queue_fit import admitted, walltime_limit_s
from lazy_quarry.core.job.request import Memory, Request, Stage
from lazy_quarry.core.job.sweep import Array, make_array
from lazy_quarry.core.paths import name_of_script
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.site import Queue, Site
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import exact_size, format_duration, format_size
from lazy_quarry.errors import BadValue

MOST_UNKNOWN = 50
"""Number of unknown keys that are told one by one: for each the nearest known one is looked for."""


_SIZES = frozenset(key for key, one in KEYS.items() if one.sizes)
"""Keys without which a request can't be compared with limits."""


class HeaderReader:
    """Reads the values of one header into a request, as ``user`` would submit it."""

    def __init__(
        self, values: dict[str, Any], site: Site, user: str, submission: Submission, notes: HeaderNotes
    ) -> None:
        self.site, self.user, self.submission, self.notes = site, user, submission, notes
        self.read: dict[str, Any] = {}
        """The values that could be read, by key."""
        self.misspelt = set(notes.block.broken if notes.block else ())
        """Known keys that stand there misspelt or unreadable; nobody is told besides that they are missing."""
        unknown = [key for key in values if key not in KEYS]
        left_out = set(unknown[MOST_UNKNOWN:])
        for key, value in values.items():
            if key not in left_out:
                self._read(key, value)
        if left_out:
            said = f"{len(left_out):,} more keys are unknown, from this one on"
            notes.note("key-unknown", unknown[MOST_UNKNOWN], said, at_value=False)
        self.sized = False
        """True when queue, account, tier and shape could all be read."""
        self.found = self._request()
        self.usable = self.sized and notes.usable

    def _read(self, key: str, value: Any) -> None:
        known = KEYS.get(key)
        if known is None:
            near = f'; did you mean "{IN_TABLES[key]}"?' if key in IN_TABLES else nearest(key, KEYS)
            if key.isdecimal():
                near = f'; to wait for job {shortened(key)} write after.{shortened(key)} = "succeeds"'
            said = f'there is no key "{shortened(key)}"{near}'
            self.notes.note("key-unknown", key, said, at_value=False, fix=self.notes.renamed(key, KEYS))
            self.misspelt.add(closest(key, KEYS))
            return
        try:
            self.read[key] = known.read(value)
        except BadValue as fault:
            self.notes.note("value", key, f"{key}: {fault}", inside=fault.path)
            self.misspelt.add(key)
            return

    def request(self) -> Request | None:
        """The request with defaults filled in, or None when a value in it cannot be read."""
        return self.found if self.usable else None

    def fitting(self) -> Request | None:
        """The request as far as it could be read, where enough was read to compare it with the site's limits."""
        return None if self.misspelt & _SIZES or not self.sized else self.found

    def _request(self) -> Request:
        """The request, defaults in place of what could not be read. All parts are looked at, whatever is wrong in one."""
        read, site = self.read, self.site
        known_queues = self._queues()
        queues = known_queues or [site.queue[site.default_queue]]
        known_account, known_tier = self._account(), self._tier(known_queues)
        account, tier = known_account or "", known_tier or site.default_tier
        known_shape = self._shape()
        shape = known_shape or (None, None, False, 1, None)
        self._modules()
        self.sized = (
            bool(known_queues) and known_account is not None and known_tier is not None and known_shape is not None
        )
        queue = queues[0]
        walltime = read.get("walltime")
        if walltime is None:
            walltime = queue.walltime_default_s
            limit = walltime_limit_s(site, queue, tier, self.user, account)
            walltime = walltime if limit is None else min(walltime, limit)
            said = f"no walltime; the job would be stopped after {format_duration(walltime)}, the default of queue {queue.name}"
            fix = self.notes.added("walltime", format_duration(walltime))
            if self.notes.block is not None and "walltime" not in self.misspelt:
                self.notes.note("walltime-absent", "walltime", said, severity=warning, fix=fix)
        memory = read.get("memory")
        if memory is None:
            memory = Memory(queue.memory_default_mib, "core")
            said = f"no memory; each core would get {format_size(memory.mib)}, the default of queue {queue.name}"
            fix = self.notes.added("memory", f"{exact_size(memory.mib)}/core")
            if self.notes.block is not None and "memory" not in self.misspelt:
                self.notes.note("memory-absent", "memory", said, severity=warning, fix=fix)
        if read.get("warn", 0) >= walltime and "warn" in read:
            said = f"warn: {format_duration(read['warn'])} before the end is before the start of {format_duration(walltime)}"
            self.notes.note("value", "warn", said)
        variables = dict(read.get("environment", {}))
        inherit = bool(variables.pop("inherit", False))
        nodes, most_nodes, anywhere, ranks, ranks_per_node = shape
        array = self._array(queues)
        not_before_ms = self._not_before_ms()
        self._placeholders(array)
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
            not_before_ms=not_before_ms,
            arguments=self.submission.arguments or read.get("arguments", ()),
            output=read.get("output", "{name}-{job}-{task}.out" if "array" in read else "{name}-{job}.out"),
            environment=tuple((name, str(value)) for name, value in variables.items()),
            inherit=inherit,
            stage=Stage(stage.get("in", ()), stage.get("out", ()), stage.get("keep", False)),
            notify=Notify(read["notify"]["to"], read["notify"]["on"]) if "notify" in read else None,
            again_at_overtime=read.get("at-overtime") == "again",
            after=tuple((str(job), str(condition)) for job, condition in read.get("after", {}).items()),
            array=array,
            **{one.fields[0]: read[key] for key, one in KEYS.items() if one.plain and key in read},
        )

    def _name(self) -> str:
        if "name" in self.read:
            return str(self.read["name"])
        return name_of_script(self.submission.path)

    def _queues(self) -> list[Queue]:
        queues = []
        for name in self.read.get("queue", (self.site.default_queue,)):
            queue = self.site.queue.get(name)
            if queue is None:
                said = f'there is no queue "{shortened(name)}"{nearest(name, self.site.queue)}'
                self.notes.note("queue", "queue", said, fix=self.notes.corrected("queue", name, self.site.queue))
            elif misfit := admitted(queue, self.user):
                self.notes.note(misfit.code, misfit.key, misfit.words)
            else:
                queues.append(queue)
        return queues

    def _account(self) -> str | None:
        own = self.site.accounts_of(self.user)
        account = self.read.get("account", self.site.default_account(self.user))
        if account is None:
            self.notes.note("account", "account", f"{self.user} may charge no account of {self.site.name}")
        elif account not in self.site.account:
            said = f'there is no account "{shortened(account)}"{nearest(account, own)}'
            self.notes.note("account", "account", said, fix=self.notes.corrected("account", account, own))
        elif account not in own:
            self.notes.note("account", "account", f"you may not charge {account}; you may charge {', '.join(own)}")
        else:
            return str(account)
        return None

    def _tier(self, queues: list[Queue]) -> str | None:
        usual = self.site.default_tier
        served = not queues or any(queue.tier in (None, usual) for queue in queues)
        tier = str(self.read.get("tier", usual if served else queues[0].tier))
        known = self.site.tier.get(tier)
        if known is None:
            said = f'there is no tier "{shortened(tier)}"{nearest(tier, self.site.tier)}'
            self.notes.note("tier", "tier", said, fix=self.notes.corrected("tier", tier, self.site.tier))
        elif known.users and self.user not in known.users:
            self.notes.note("tier", "tier", f"tier {tier} is only for {', '.join(known.users)}")
        else:
            return tier
        return None

    def _shape(self) -> tuple[int | None, int | None, bool, int, int | None] | None:
        """Nodes (None: as few as fit), the most of a range, whether anywhere, ranks, and ranks on each node."""
        nodes, ranks, each = (self.read.get(key) for key in ("nodes", "ranks", "ranks-per-node"))
        if nodes == "any":
            if each is not None:
                at = self.notes.at("ranks-per-node")
                said = f'nodes = "any" puts ranks wherever there is room, and ranks-per-node{at} fixes them'
                self.notes.note("shape", "nodes", said)
                return None
            return None, None, True, ranks or 1, None
        most = None
        if isinstance(nodes, str):
            nodes, most = (int(end) for end in nodes.split(".."))
        if each is not None:
            if nodes is None:
                nodes = -(-ranks // each) if ranks else 1
            if ranks is not None and most is not None and ranks % each == 0 and nodes <= ranks // each <= most:
                return ranks // each, None, False, ranks, None
            if ranks is not None and (most is not None or ranks != nodes * each):
                others = [key for key in ("nodes", "ranks-per-node") if key in self.read]
                lines = " and ".join(f"{key}{self.notes.at(key)}" for key in others)
                product = f"{nodes} × {each} = {nodes * each}" if most is None else f"{nodes}..{most} × {each}"
                self.notes.note(
                    "shape", "ranks", f"ranks = {ranks} is not nodes × ranks-per-node, {product}; {lines} say so"
                )
                return None
            return nodes, most, False, nodes * each, each if most else None
        if ranks is None:
            return nodes, most, False, nodes or 1, 1 if most else None
        if nodes is not None and ranks < nodes:
            said = f"nodes = {nodes} is more than ranks = {ranks}{self.notes.at('ranks')}; some nodes would get none"
            self.notes.note("shape", "nodes", said)
            return None
        return nodes, most, False, ranks, None

    def _not_before_ms(self) -> int | None:
        """The instant before which it doesn't start; without an offset it is in the site's zone."""
        at = self.read.get("not-before")
        if at is None:
            return None
        try:
            return instant_of(at, zone_called(self.site.zone))
        except BadValue as fault:
            self.notes.note("value", "not-before", f"not-before: {fault}")
        return None

    def parameter_names(self) -> tuple[str, ...]:
        """Names of the sweep's parameters, also while their values cannot be read."""
        return tuple(name for name in self.read.get("array", {}).get("sweep", {}) if name != "together")

    def _array(self, queues: list[Queue]) -> Array | None:
        table = self.read.get("array")
        if table is None:
            return None
        surroundings = self.submission.surroundings
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
                self.notes.note("array", "array", f"array: {fault}", inside=fault.path)
        return None

    def _placeholders(self, array: Array | None) -> None:
        known = {*PLACEHOLDERS, *self.parameter_names()}
        for key in ("output", "errors"):
            for placeholder in re.findall(r"\{([^}]*)\}", self.read.get(key, "")):
                if placeholder not in known:
                    names = " ".join(f"{{{one}}}" for one in (*PLACEHOLDERS, *self.parameter_names()))
                    self.notes.note("value", key, f"{key}: {{{placeholder}}} is unknown; there are {names}")

    def _modules(self) -> None:
        for module in self.read.get("modules", ()):
            if not self.site.modules:
                self.notes.note(
                    "module",
                    "modules",
                    f"modules: {self.site.name} offers no modules, so {shortened(module)} can't be loaded",
                )
                return
            if module not in self.site.modules:
                said = f"modules: {self.site.name} has no {shortened(module)}{nearest(module, self.site.modules)}"
                self.notes.note(
                    "module", "modules", said, fix=self.notes.corrected("modules", module, self.site.modules)
                )
