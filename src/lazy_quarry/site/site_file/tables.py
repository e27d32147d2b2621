"""The tables of a site file, as Pydantic checks them; durations, sizes and names of nodes are written as in a job's header."""

from collections.abc import Callable
from datetime import UTC, date, datetime
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, StrictBool, WithJsonSchema

from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.core.instants import instant_of
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.site import Account, HostWay, Kept, Limits, MailWay, Node, Queue, Rates, Site, StorageArea
from lazy_quarry.core.units import DAY_MS, parse_duration, parse_names, parse_size
from lazy_quarry.errors import BadValue
from lazy_quarry.probe.zone import local_zone


def _read(reader: Callable[[str], Any], otherwise: str) -> BeforeValidator:
    """A reader of our own for a text; what is wrong is told as Pydantic wants it."""

    def read(value: Any) -> Any:
        if isinstance(value, list) and all(isinstance(one, str) for one in value):
            value = ", ".join(value)
        if not isinstance(value, str):
            raise ValueError(otherwise)
        try:
            return reader(value)
        except BadValue as fault:
            raise ValueError(str(fault)) from None

    return BeforeValidator(read)


def _hours(text: str) -> float:
    sign = -1 if text.strip().startswith(("-", "−")) else 1
    return sign * parse_duration(text.strip().lstrip("+-−")) / 3600


def _instant(value: Any) -> int:
    if isinstance(value, datetime):
        try:
            return instant_of(value, local_zone())
        except BadValue as fault:
            raise ValueError(str(fault)) from None
    raise ValueError("write it as a date-time, such as 2026-11-23T18:00:00Z, without quotes")


def _day(value: Any) -> int:
    if isinstance(value, date) and not isinstance(value, datetime) and 1971 <= value.year < 2999:
        return round(datetime(value.year, value.month, value.day, tzinfo=UTC).timestamp() * 1000)
    raise ValueError("write it as a date, such as 2026-12-31, without quotes")


def _schema(text: str, example: str, **more: str) -> WithJsonSchema:
    return WithJsonSchema({"type": "string", "description": text, "examples": [example], **more})


def _per_second(text: str) -> int:
    if not text.strip().endswith("/s"):
        raise BadValue(f'"{text}" is no rate')
    return parse_size(text.strip().removesuffix("/s"))


MibPerSecond = Annotated[
    int,
    _read(_per_second, 'write it as a size a second, such as "20 MiB/s"'),
    _schema("a size a second", "20 MiB/s"),
]
Hours = Annotated[
    float,
    _read(_hours, 'write it as a duration, such as "6h" or "-6h"'),
    _schema("a duration, which may be negative", "-6h"),
]
Seconds = Annotated[int, _read(parse_duration, 'write it as a duration, such as "2h"'), _schema("a duration", "2h")]
_DATE = _schema("a date-time, without quotes", "2026-12-01T06:00:00Z", format="date-time")
Instant = Annotated[int, BeforeValidator(_instant), _DATE]
Nodes = Annotated[
    tuple[str, ...],
    _read(parse_names, 'write names of nodes, such as "c01..c08, m02"'),
    _schema("names of nodes", "c01..c08, m02"),
]
Day = Annotated[
    int,
    BeforeValidator(_day),
    _schema("a date, without quotes; of an end the last day", "2026-12-31", format="date"),
]
Percent = Annotated[int, Field(ge=1, le=100, strict=True)]
Count = Annotated[int, Field(ge=0, le=2**53, strict=True)]
CoreHours = Annotated[float, Field(ge=0, le=2**43, allow_inf_nan=False, strict=True)]
Name = Annotated[str, Field(min_length=1, max_length=100, pattern=r"^[^\x00-\x1f\x7f-\x9f]+$")]


class Table(BaseModel):
    """A table with nothing in it that isn't known."""

    model_config = ConfigDict(extra="forbid", alias_generator=lambda name: name.replace("_", "-"))


class LimitsTable(Table):
    """Limits of whoever it stands for."""

    running_jobs: Count | None = None
    waiting_jobs: Count | None = None
    cores: Count | None = None
    gpus: Count | None = None
    core_hours_each: CoreHours | None = None
    walltime: Seconds | None = None

    def value(self) -> Limits:
        """The limits."""
        return Limits(
            self.running_jobs, self.waiting_jobs, self.cores, self.gpus, self.core_hours_each, self.walltime
        )  # fmt: skip


class StandingTable(Table):
    """``[standing]``: what parts of it are worth."""

    account: Hours = 12.0
    user: Hours = 4.0
    size: Hours = 2.0
    half_life: Hours = 168.0


class AccountTable(Table):
    """``[[accounts]]``: an account, its budget and who may charge it."""

    name: Name
    budget: CoreHours | None = None
    users: tuple[str, ...] = ()
    target: Count = 1
    limits: LimitsTable = LimitsTable()
    parent: str = ""
    leads: tuple[str, ...] = ()
    mail: Annotated[str, Field(pattern=r"^([^@\s]+@[^@\s]+)?$")] = ""
    default_for: tuple[str, ...] = ()
    each: Literal["", "month", "quarter", "year"] = ""
    begins: Day | None = None
    ends: Day | None = None
    carry_over: StrictBool = False
    warn_at: tuple[Percent, ...] = (80, 95)
    at_end: Literal["refuse", "give-way"] = "refuse"

    def value(self) -> Account:
        """The account."""
        return Account(
            name=self.name,
            budget_core_hours=self.budget,
            users=self.users,
            target=self.target,
            limits=self.limits.value(),
            parent=self.parent,
            leads=self.leads,
            mail=self.mail,
            budget_each=self.each,
            budget_begins_ms=self.begins,
            budget_ends_ms=None if self.ends is None else self.ends + DAY_MS,
            carries_over=self.carry_over,
            warn_at=tuple(sorted(self.warn_at)),
            at_end=self.at_end,
        )


class TierTable(Table):
    """``[[tiers]]``: a level of service."""

    name: Name
    charge: float = Field(1.0, ge=0, le=1_000_000, allow_inf_nan=False, strict=True)
    standing: Hours = 0.0
    users: tuple[str, ...] = ()
    walltime: Seconds | None = None
    gives_way: StrictBool = False
    note: str = ""
    limits: LimitsTable = LimitsTable()


class WindowTable(Table):
    """``[[windows]]``: a time without jobs, or for some people's alone."""

    begins: Instant
    ends: Instant
    reason: str = "reserved"
    nodes: Nodes = ()
    users: tuple[str, ...] = ()
    accounts: tuple[str, ...] = ()
    name: Annotated[str, Field(max_length=100)] = ""


class KeepTable(Table):
    """``[keep]``: how long what nobody needs for ever is kept."""

    events: Seconds | None = None
    attempts: Seconds | None = None

    def value(self) -> Kept:
        """Seconds for which each is kept."""
        return Kept(self.events, self.attempts or 0)


class MailTable(Table):
    """``[mail]``: how mail leaves."""

    relay: Name
    port: int = Field(25, ge=1, le=65_535, strict=True)
    tls: Literal["starttls", "tls", "offered", "none"] = "offered"
    user: str = ""
    password_file: str = ""
    from_: Annotated[str, Field(alias="from", pattern=r"^[^@\s]+@[^@\s]+$")] = ""

    def value(self) -> MailWay:
        """The way of mail."""
        return MailWay(self.relay, self.port, self.tls, self.user, self.password_file, self.from_)


Factors = Annotated[dict[str, Annotated[float, Field(ge=0, le=1_000_000, allow_inf_nan=False, strict=True)]], Field()]


class ChargingTable(Table):
    """``[charging]``: how what is held is charged."""

    by: Literal["largest-share", "cores"] = "largest-share"
    nodes: Factors = {}
    traits: Factors = {}
    queues: Factors = {}
    free: tuple[Literal["lost", "gave-way", "retried", "failed", "overtime", "overmemory", "cancelled"], ...] = (
        "lost",
    )

    def value(self, site: Site, faults: list[tuple[tuple[str, ...], str]]) -> Rates:
        """The rates; names that the site hasn't are added to the faults."""
        sizes = []
        for names, cores in self.nodes.items():
            for name in _node_names(names, site, ("charging", "nodes", names), faults):
                sizes.append((name, cores))
        for key, told, known in (
            ("traits", self.traits, sorted({trait for node in site.nodes for trait in node.traits})),
            ("queues", self.queues, list(site.queue)),
        ):
            for name in told:
                if name not in known:
                    words = f"charging.{key}: there is no {key[:-1]} {shortened(name)}{nearest(name, known)}"
                    faults.append((("charging", key, name), words))
        return Rates(self.by, tuple(sizes), _factors(self.traits), _factors(self.queues), self.free)


def _factors(told: dict[str, float]) -> tuple[tuple[str, int], ...]:
    return tuple((name, round(factor * 1000)) for name, factor in told.items())


def _node_names(
    told: str, site: Site, place: tuple[str, ...], faults: list[tuple[tuple[str, ...], str]]
) -> tuple[str, ...]:
    """The nodes that a text names, as far as the site has them; what it hasn't is added to the faults."""
    try:
        names = parse_names(told)
    except BadValue as fault:
        faults.append((place, f"{'.'.join(place[:2])}: {fault}"))
        return ()
    if unknown := [name for name in names if name not in site.node]:
        words = f"{'.'.join(place[:2])}: there is no node {shortened(unknown[0])}{nearest(unknown[0], list(site.node))}"
        faults.append((place, words))
    return tuple(name for name in names if name in site.node)


class AllLimitsTable(Table):
    """``[limits]``: of everyone, of all together, of some people."""

    everyone: LimitsTable = LimitsTable()
    queue: LimitsTable = LimitsTable()
    users: dict[str, LimitsTable] = {}


class NodesTable(Table):
    """``[[nodes]]``: nodes that are alike; or one that is a host, reached by SSH or this machine itself."""

    names: Nodes
    cores: int = Field(ge=1, le=100_000, strict=True)
    memory: Annotated[int, _read(parse_size, 'write it as a size, such as "128 GiB"'), _schema("a size", "128 GiB")]
    gpus: int = Field(0, ge=0, le=1000, strict=True)
    scratch: Annotated[int, _read(parse_size, 'write it as a size, such as "1 TiB"'), _schema("a size", "1 TiB")] = 0
    traits: tuple[str, ...] = ()
    runs_jobs: StrictBool = True
    host: Annotated[str, Field(pattern=r"^[^\s-]\S*$", max_length=255)] = ""
    python: Annotated[str, Field(min_length=1, max_length=1000)] = "python3"
    spool: Annotated[str, Field(pattern=r"^(/.*)?$", max_length=1000)] = ""
    lease: Seconds | None = None
    copies: int = Field(2, ge=1, le=16, strict=True)
    copy_rate: MibPerSecond | None = None

    def value(self) -> tuple[Node, ...]:
        """The nodes."""
        way = None
        if self.host:
            way = HostWay(self.host, self.python, self.spool, self.lease, self.copies, self.copy_rate)
        return tuple(
            Node(
                name,
                self.cores,
                self.memory,
                gpus=self.gpus,
                scratch_mib=self.scratch,
                traits=self.traits,
                runs_jobs=self.runs_jobs,
                way=way,
            )
            for name in self.names
        )


class QueueTable(Table):
    """``[[queues]]``: nodes under one rule."""

    name: Name
    nodes: Nodes
    walltime: Seconds | None = None
    walltime_default: Seconds = 3600
    memory_default: Annotated[
        int, _read(parse_size, 'write it as a size, such as "2 GiB"'), _schema("a size", "2 GiB")
    ] = 1024
    max_cores: Count | None = None
    users: tuple[str, ...] = ()
    tier: str | None = None
    note: str = ""

    def value(self) -> Queue:
        """The queue."""
        return Queue(
            self.name,
            self.nodes,
            self.walltime,
            self.walltime_default,
            self.memory_default,
            max_cores=self.max_cores,
            users=self.users,
            tier=self.tier,
            note=self.note,
        )


class StorageTable(Table):
    """``[[storage]]``: a storage area, and which nodes see it: all, unless they are named."""

    path: Annotated[str, Field(pattern=r"^/", max_length=1000)]
    note: Annotated[str, Field(max_length=200)] = ""
    kept: StrictBool = False
    heavy: StrictBool = True
    nodes: Nodes = ()

    def value(self) -> StorageArea:
        """The area."""
        return StorageArea(self.path, self.note, kept=self.kept, heavy=self.heavy, nodes=self.nodes)


class FileTable(Table):
    """All of a site file."""

    policy: Literal["planned", "easy", "first-come"] = "planned"
    plan_depth: int = Field(1000, ge=1, le=1_000_000, strict=True)
    standing: StandingTable = StandingTable()
    keep: KeepTable = KeepTable()
    head: Annotated[str, Field(max_length=200)] = ""
    contact: Annotated[str, Field(max_length=200)] = ""
    mail: MailTable | None = None
    limits: AllLimitsTable = AllLimitsTable()
    charging: ChargingTable = ChargingTable()
    accounts: tuple[AccountTable, ...] = ()
    tiers: tuple[TierTable, ...] = ()
    windows: tuple[WindowTable, ...] = ()
    operators: tuple[str, ...] = ()
    name: Annotated[str, Field(max_length=100)] = ""
    storage: tuple[StorageTable, ...] = ()
    nodes: tuple[NodesTable, ...] = ()
    queues: tuple[QueueTable, ...] = ()
