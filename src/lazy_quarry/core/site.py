"""A cluster: its nodes, queues, accounts, tiers, windows and software. A value, never changed."""

from functools import cached_property
from typing import Literal

from msgspec import Struct, field


class Limits(Struct, frozen=True):
    """Limits of all jobs of a user, account, queue or tier together, and of one job of them alone; None is no limit."""

    running_jobs: int | None = None
    waiting_jobs: int | None = None
    """An array waits as one job, and runs as so many as run of it."""
    cores: int | None = None
    gpus: int | None = None
    core_hours_each: float | None = None
    """The most that one job may be charged."""
    walltime_s: int | None = None

    @property
    def of_running(self) -> tuple[int | None, int | None, int | None]:
        """Jobs, cores and GPUs that may be held together."""
        return self.running_jobs, self.cores, self.gpus


class Standing(Struct, frozen=True):
    """The weights of the parts of a standing, in hours of waiting. A tier has its own."""

    account_h: float = 12.0
    user_h: float = 4.0
    size_h: float = 2.0
    half_life_h: float = 7 * 24.0
    """After so long, use counts half."""


class Kept(Struct, frozen=True):
    """Seconds for which things are kept that nobody needs for ever; None keeps them."""

    events_s: int | None = None
    """Events of a job, after its end. Its record and all sums stay."""
    attempts_s: int = 0
    """The folder of an attempt (its script, samples, claim), after its end."""


Factor = tuple[tuple[str, int], ...]
"""Factors in thousandths, by name."""


class Rates(Struct, frozen=True):
    """The rates of charging: see :mod:`lazy_quarry.core.job.rates`."""

    by: Literal["largest-share", "cores"] = "largest-share"
    """The larger of the shares of a node's cores, memory and GPUs; or that of its cores alone."""
    sizes: tuple[tuple[str, float], ...] = ()
    """For how many cores a node counts, where that isn't its number of cores; by node."""
    traits: Factor = ()
    """Factors of the nodes that have a trait."""
    queues: Factor = ()
    free: tuple[str, ...] = ("lost",)
    """Ends of attempts that are charged nothing: a state, ``gave-way``, or ``retried`` where another attempt followed."""

    def factor_of(self, queue: str) -> int:
        """The factor of a queue, in thousandths."""
        return next((factor for name, factor in self.queues if name == queue), 1000)


LOCAL = "local"
"""The host of a node that is the machine the engine runs on."""


class HostWay(Struct, frozen=True):
    """The way to a node: the host as SSH knows it, the Python there, and the folder for our files, empty for the usual one.

    Without a word from an engine for ``lease_s`` seconds its jobs are stopped there; None: they go on for ever. Files of ``copies``
    jobs are copied there or back at a time, at most ``copy_mib`` MiB a second together; None: as fast as the way carries them.
    """

    host: str
    python: str = "python3"
    spool: str = ""
    lease_s: int | None = None
    copies: int = 2
    copy_mib: int | None = None


class Node(Struct, frozen=True):
    """A machine and its capacity. ``traits`` are properties that a job may ask for."""

    name: str
    cores: int
    memory_mib: int
    gpus: int = 0
    gpu_memory_mib: int = 0
    scratch_mib: int = 0
    traits: tuple[str, ...] = ()
    runs_jobs: bool = True
    """False for nodes where people log in: shown, never given a job."""
    way: HostWay | None = None
    """None for a node of a rehearsal, and for the machine itself where nothing else is said."""

    @property
    def remote(self) -> bool:
        """True when it is another machine than the engine's."""
        return self.way is not None and self.way.host != LOCAL


class Queue(Struct, frozen=True):
    """A set of nodes under one rule. A limit of None is no limit; ``users`` empty means everyone."""

    name: str
    nodes: tuple[str, ...]
    walltime_limit_s: int | None = None
    walltime_default_s: int = 3600
    memory_default_mib: int = 1024
    """Per core, for requests that name none."""
    max_cores: int | None = None
    """Most cores one job may ask for."""
    users: tuple[str, ...] = ()
    open: bool = True
    tier: str | None = None
    """The only tier this queue serves, or None for all."""
    note: str = ""
    limits: Limits = Limits()


class Account(Struct, frozen=True):
    """An account that jobs are charged to. ``budget_core_hours`` None is unlimited; ``users`` empty means everyone.

    What is charged to it counts for the budgets and limits of all accounts above it too.
    """

    name: str
    budget_core_hours: float | None = None
    users: tuple[str, ...] = ()
    target: int = 1
    """Its share of the cluster, against the targets of the others."""
    limits: Limits = Limits()
    parent: str = ""
    """The account that it is under, or empty."""
    leads: tuple[str, ...] = ()
    """Who answers for it, and for all under it."""
    mail: str = ""
    """Where warnings go."""
    budget_each: Literal["", "month", "quarter", "year"] = ""
    """It has its budget anew in each of these; empty for once."""
    budget_begins_ms: int | None = None
    budget_ends_ms: int | None = None
    carries_over: bool = False
    """True when the rest of a period may be charged in the next ones; this needs ``budget_begins_ms``."""
    warn_at: tuple[int, ...] = (80, 95)
    """At so many hundredths of the budget people are warned."""
    at_end: Literal["refuse", "give-way"] = "refuse"
    """When the budget is used up: no job starts; or only those of tiers that give way."""

    @property
    def budget_core_ms(self) -> int:
        """The budget in whole core-milliseconds, for an account that has one."""
        return round((self.budget_core_hours or 0) * 3_600_000)


class Tier(Struct, frozen=True):
    """A level of service: the factor of its charge, in thousandths, and who may use it."""

    name: str
    charge_permille: int = 1000
    users: tuple[str, ...] = ()
    walltime_limit_s: int | None = None
    note: str = ""
    standing_h: float = 0.0
    """Hours of waiting that it adds to a job's standing, or takes."""
    gives_way: bool = False
    """Its running jobs are stopped, and put back in the queue, when jobs of other tiers need their place."""
    limits: Limits = Limits()


class Window(Struct, frozen=True):
    """A time in which these nodes run no jobs, or only some people's. Instants in milliseconds."""

    nodes: tuple[str, ...]
    begins_ms: int
    ends_ms: int
    reason: str
    users: tuple[str, ...] = ()
    accounts: tuple[str, ...] = ()
    name: str = ""

    @property
    def reserved(self) -> bool:
        """True when somebody may use the nodes meanwhile."""
        return bool(self.users or self.accounts)

    def admits(self, user: str, account: str) -> bool:
        """True when a job of this user and account may run in it."""
        return user in self.users or account in self.accounts


class Closure(Struct, frozen=True):
    """A node that takes no jobs until somebody opens it again, and why."""

    node: str
    reason: str


class StorageArea(Struct, frozen=True):
    """A storage area: whether every node sees it, whether it is backed up, whether it suits heavy reading and writing."""

    path: str
    note: str = ""
    shared: bool = True
    kept: bool = False
    heavy: bool = False
    nodes: tuple[str, ...] = ()
    """The nodes that see it, where not all do."""


class Software(Struct, frozen=True):
    """A module that may be loaded, and its programs; empty when they aren't known."""

    name: str
    programs: tuple[str, ...] = ()
    note: str = ""


class MailWay(Struct, frozen=True):
    """The way of mail out of the site: the relay (none: it is kept here alone), and the address that it comes from.

    ``tls``: from the start, by STARTTLS, by STARTTLS where it is offered, or never.
    """

    relay: str = ""
    port: int = 25
    tls: Literal["starttls", "tls", "offered", "none"] = "offered"
    user: str = ""
    password_file: str = ""
    sender: str = ""


class Site(Struct, frozen=True, dict=True):
    """A whole cluster. ``kind`` tells who runs the jobs: modelled in memory, or this machine."""

    name: str
    kind: Literal["rehearsal", "machine"]
    nodes: tuple[Node, ...]
    queues: tuple[Queue, ...]
    accounts: tuple[Account, ...]
    tiers: tuple[Tier, ...]
    default_queue: str
    default_tier: str
    windows: tuple[Window, ...] = ()
    closures: tuple[Closure, ...] = ()
    software: tuple[Software, ...] = ()
    storage: tuple[StorageArea, ...] = ()
    zone: str = "UTC"
    """The zone in which times without an offset are, by its name in the IANA database."""
    host: str = ""
    """The host where its engine runs."""
    head: str = ""
    """Who is responsible for it."""
    contact: str = ""
    examples: str = ""
    """A folder of scripts that the site keeps for people to begin from, or empty."""
    trial: str = ""
    """The tier in which a draft is tried, or empty."""
    policy: Literal["planned", "easy", "first-come"] = "planned"
    plan_depth: int = 1000
    standing: Standing = Standing()
    kept: Kept = Kept()
    rates: Rates = Rates()
    mail: MailWay = MailWay()
    user_limits: tuple[tuple[str, Limits], ...] = ()
    """By user's name; an empty name is for everyone who isn't named."""
    operators: tuple[str, ...] = ()
    """Who runs it; empty for everyone who may use it."""
    default_accounts: tuple[tuple[str, str], ...] = field(default=())
    """(user, account) pairs; a user not named has the first account they may charge."""

    @cached_property
    def node(self) -> dict[str, Node]:
        """Nodes by name."""
        return {node.name: node for node in self.nodes}

    @cached_property
    def apart(self) -> bool:
        """True when its nodes are hosts of their own: a job runs on one of them."""
        return any(node.remote for node in self.nodes)

    @cached_property
    def node_rate(self) -> dict[str, tuple[int, int, int, int]]:
        """By node: its cores, memory and GPUs, 0 where shares of them don't count; and thousandths of a core for all of it."""
        sizes, factors = dict(self.rates.sizes), dict(self.rates.traits)
        found = {}
        for node in self.nodes:
            counts = round(sizes.get(node.name, node.cores) * 1000)
            for trait in node.traits:
                counts = counts * factors.get(trait, 1000) // 1000
            more = (node.memory_mib, node.gpus) if self.rates.by == "largest-share" else (0, 0)
            found[node.name] = (node.cores, *more, counts)
        return found

    @cached_property
    def queue(self) -> dict[str, Queue]:
        """Queues by name."""
        return {queue.name: queue for queue in self.queues}

    @cached_property
    def account(self) -> dict[str, Account]:
        """Accounts by name."""
        return {account.name: account for account in self.accounts}

    def gives_way(self, tier: str) -> bool:
        """True when jobs of a tier, by its name, may be stopped for others."""
        known = self.tier.get(tier)
        return known is not None and known.gives_way

    def lineage(self, account: str) -> tuple[str, ...]:
        """An account and those above it, the nearest first."""
        return self._lineages.get(account, (account,))

    def under(self, account: str) -> tuple[str, ...]:
        """An account and all those under it."""
        return self._under.get(account, (account,))

    @cached_property
    def _lineages(self) -> dict[str, tuple[str, ...]]:
        found = {}
        for one in self.accounts:
            line = [one.name]
            while (above := self.account[line[-1]].parent) in self.account and above not in line:
                line.append(above)
            found[one.name] = tuple(line)
        return found

    @cached_property
    def _under(self) -> dict[str, tuple[str, ...]]:
        found: dict[str, list[str]] = {}
        for name, line in self._lineages.items():
            for above in line:
                found.setdefault(above, []).append(name)
        return {name: tuple(names) for name, names in found.items()}

    @cached_property
    def tier(self) -> dict[str, Tier]:
        """Tiers by name."""
        return {tier.name: tier for tier in self.tiers}

    @cached_property
    def cores(self) -> int:
        """Cores of all nodes that run jobs."""
        return sum(node.cores for node in self.nodes if node.runs_jobs)

    @cached_property
    def _user_limits(self) -> dict[str, Limits]:
        return dict(self.user_limits)

    def limits_of(self, user: str) -> Limits:
        """The limits of a user."""
        return self._user_limits.get(user) or self._user_limits.get("") or Limits()

    @cached_property
    def modules(self) -> tuple[str, ...]:
        """Names of the modules that may be loaded."""
        return tuple(one.name for one in self.software)

    def storage_of(self, path: str) -> StorageArea | None:
        """The storage area that a path lies in: the one with the longest path."""
        areas = [one for one in self.storage if f"{path.rstrip('/')}/".startswith(f"{one.path.rstrip('/')}/")]
        return max(areas, key=lambda one: len(one.path), default=None)

    def accounts_of(self, user: str) -> tuple[str, ...]:
        """Names of the accounts this user may charge."""
        return tuple(account.name for account in self.accounts if not account.users or user in account.users)

    def default_account(self, user: str) -> str | None:
        """The account charged when a request names none."""
        chosen, own = dict(self.default_accounts).get(user), self.accounts_of(user)
        return chosen if chosen in own else next(iter(own), None)
