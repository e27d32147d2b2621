"""The site file: how a person describes this machine as a site, in TOML 1.0.

It is ``sites/machine.toml`` in their configuration folder.

All of it may be left out. Durations and sizes are written as in a job's header; see docs/sites.md.
"""

import os
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any, Literal

import platformdirs
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, StrictBool, ValidationError, WithJsonSchema

from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.core.instants import instant_of
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.site import Account, Kept, Limits, MailWay, Rates, Site, Standing, Tier, Window
from lazy_quarry.core.units import parse_duration, parse_names
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.probe.machine import this_machine
from lazy_quarry.probe.zone import local_zone
from lazy_quarry.run.node.files import write_whole
from lazy_quarry.site.site_file_faults import Fault, faults_of, located, toml_of


class SiteFileError(QuarryError):
    """The site file cannot be used as it is. ``problems`` are all that was found; as text, the first of them."""

    def __init__(self, *problems: str) -> None:
        more = f" (and {len(problems) - 1} more; lq site check tells all)" if len(problems) > 1 else ""
        super().__init__(f"{problems[0]}{more}")
        self.problems = problems


MOST_BYTES = 2**20


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


def _schema(text: str, example: str, **more: str) -> WithJsonSchema:
    return WithJsonSchema({"type": "string", "description": text, "examples": [example], **more})


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
Count = Annotated[int, Field(ge=0, le=2**53, strict=True)]
CoreHours = Annotated[float, Field(ge=0, le=2**43, allow_inf_nan=False, strict=True)]
Name = Annotated[str, Field(min_length=1, max_length=100, pattern=r"^[^\x00-\x1f\x7f-\x9f]+$")]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", alias_generator=lambda name: name.replace("_", "-"))


class _Limits(_Table):
    running_jobs: Count | None = None
    waiting_jobs: Count | None = None
    cores: Count | None = None
    gpus: Count | None = None
    core_hours_each: CoreHours | None = None
    walltime: Seconds | None = None

    def value(self) -> Limits:
        return Limits(
            self.running_jobs, self.waiting_jobs, self.cores, self.gpus, self.core_hours_each, self.walltime
        )  # fmt: skip


class _Standing(_Table):
    account: Hours = 12.0
    user: Hours = 4.0
    size: Hours = 2.0
    half_life: Hours = 168.0


class _Account(_Table):
    name: Name
    budget: CoreHours | None = None
    users: tuple[str, ...] = ()
    target: Count = 1
    limits: _Limits = _Limits()


class _Tier(_Table):
    name: Name
    charge: float = Field(1.0, ge=0, le=1_000_000, allow_inf_nan=False, strict=True)
    standing: Hours = 0.0
    users: tuple[str, ...] = ()
    walltime: Seconds | None = None
    gives_way: StrictBool = False
    note: str = ""
    limits: _Limits = _Limits()


class _Window(_Table):
    begins: Instant
    ends: Instant
    reason: str = "reserved"
    nodes: Nodes = ()
    users: tuple[str, ...] = ()
    accounts: tuple[str, ...] = ()
    name: Annotated[str, Field(max_length=100)] = ""


class _Keep(_Table):
    events: Seconds | None = None
    attempts: Seconds | None = None

    def value(self) -> Kept:
        return Kept(self.events, self.attempts or 0)


class _Mail(_Table):
    relay: Name
    port: int = Field(25, ge=1, le=65_535, strict=True)
    tls: Literal["starttls", "tls", "offered", "none"] = "offered"
    user: str = ""
    password_file: str = ""
    from_: Annotated[str, Field(alias="from", pattern=r"^[^@\s]+@[^@\s]+$")] = ""

    def value(self) -> MailWay:
        return MailWay(self.relay, self.port, self.tls, self.user, self.password_file, self.from_)


Factors = Annotated[dict[str, Annotated[float, Field(ge=0, le=1_000_000, allow_inf_nan=False, strict=True)]], Field()]


class _Charging(_Table):
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


class _AllLimits(_Table):
    everyone: _Limits = _Limits()
    queue: _Limits = _Limits()
    users: dict[str, _Limits] = {}


class _File(_Table):
    policy: Literal["planned", "easy", "first-come"] = "planned"
    plan_depth: int = Field(1000, ge=1, le=1_000_000, strict=True)
    standing: _Standing = _Standing()
    keep: _Keep = _Keep()
    head: Annotated[str, Field(max_length=200)] = ""
    contact: Annotated[str, Field(max_length=200)] = ""
    mail: _Mail | None = None
    limits: _AllLimits = _AllLimits()
    charging: _Charging = _Charging()
    accounts: tuple[_Account, ...] = ()
    tiers: tuple[_Tier, ...] = ()
    windows: tuple[_Window, ...] = ()


def site_file() -> Path:
    """Where this machine's site file would be; ``LQ_SITES`` names another folder."""
    folder = os.environ.get("LQ_SITES")
    return (Path(folder) if folder else platformdirs.user_config_path("lazy-quarry") / "sites") / "machine.toml"


def local_site() -> Site:
    """This machine as a site, with what its site file says. Raises :class:`SiteFileError` when that cannot be used."""
    return with_site_file(this_machine(), site_file())


def with_site_file(site: Site, path: Path) -> Site:
    """The site as its file describes it; unchanged where there is no file.

    Raises :class:`SiteFileError` saying what is wrong where.
    """
    try:
        text = read_text(path)
    except FileNotFoundError:
        return site
    return site_of(site, text, str(path))


def read_text(path: Path) -> str:
    """A site file's text. Raises :class:`FileNotFoundError` where there is none, else :class:`SiteFileError`."""
    try:
        with path.open("rb") as file:
            raw = file.read(MOST_BYTES + 1)
    except FileNotFoundError:
        raise
    except OSError as fault:
        raise SiteFileError(f"{path} cannot be read: {fault.strerror}") from None
    if len(raw) > MOST_BYTES:
        raise SiteFileError(f"{path} is longer than 1 MiB, which no site file is")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as fault:
        line = raw[: fault.start].count(b"\n") + 1
        raise SiteFileError(f"{path}, line {line}: this is not UTF-8; save the file as UTF-8") from None


def site_of(site: Site, text: str, name: str) -> Site:
    """The site as a site file's text describes it; ``name`` is what messages call it. Raises :class:`SiteFileError`."""
    faults: list[Fault] = []
    values = toml_of(text, faults)
    try:
        told = _File.model_validate(values) if not faults else None
    except ValidationError as fault:
        faults += faults_of(fault, text, _File)
        told = None
    if told is None:
        raise SiteFileError(*(f"{name}, line {one.line}: {one.words}" for one in faults))
    applied, more = _applied(site, told)
    if more:
        raise SiteFileError(*(f"{name}, line {one.line}: {one.words}" for one in located(more, text)))
    return applied


def schema() -> dict[str, Any]:
    """A JSON Schema (draft 2020-12) of site files, for editors."""
    found = _File.model_json_schema(by_alias=True)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **found, "title": "A site of Lazy Quarry"}


class SiteFileWatch:
    """Tells an engine what has become of its site file since it was read, and keeps the last good one for it.

    ``bare`` is the site without its file, ``kept`` where the last good file is. Raises :class:`SiteFileError` when the
    file cannot be used and no good one is kept.
    """

    def __init__(self, bare: Site, path: Path, kept: Path) -> None:
        self._bare, self.path = bare, path
        self._seen = self._stamp()
        self.text, site, self._problem = self._read()
        if site is None:
            try:
                self.text = read_text(kept)
                site = site_of(bare, self.text, str(kept))
            except (FileNotFoundError, SiteFileError):
                raise SiteFileError(self._problem) from None
        else:
            with suppress(OSError):
                write_whole(kept, self.text, durable=False)
        self.site = site
        self._changed = False

    def note(self) -> str:
        """What people should know of the file now; empty for nothing."""
        stamp = self._stamp()
        if stamp != self._seen:
            self._seen = stamp
            text, _, self._problem = self._read()
            self._changed = text != self.text
        if self._problem:
            return f"{self._problem}; until it is corrected, the last good site file holds"
        return f"{self.path} has changed; lq renew makes the engine read it" if self._changed else ""

    def _read(self) -> tuple[str, Site | None, str]:
        """The file's text, the site that it describes, and why that can't be told."""
        text = ""
        try:
            with suppress(FileNotFoundError):
                text = read_text(self.path)
            return text, site_of(self._bare, text, str(self.path)), ""
        except SiteFileError as fault:
            return text, None, str(fault)

    def _stamp(self) -> tuple[int, int]:
        try:
            found = self.path.stat()
        except OSError:
            return 0, 0
        return found.st_mtime_ns, found.st_size


def watched_site(state: Path) -> SiteFileWatch:
    """This machine as a site, its file followed; the last good one is kept in a state folder."""
    return SiteFileWatch(this_machine(), site_file(), state / "site.toml")


def _applied(site: Site, told: _File) -> tuple[Site, list[tuple[tuple[str, ...], str]]]:
    """The site with what its file says, and what in that doesn't fit the site, by its place in the file."""
    faults: list[tuple[tuple[str, ...], str]] = []
    every = tuple(node.name for node in site.nodes)
    accounts = tuple(Account(one.name, one.budget, one.users, one.target, one.limits.value()) for one in told.accounts)
    tiers = tuple(
        Tier(
            one.name,
            round(one.charge * 1000),
            one.users,
            one.walltime,
            one.note,
            one.standing,
            one.gives_way,
            one.limits.value(),
        )
        for one in told.tiers
    )
    named = {tier.name for tier in tiers}
    tiers = (*tiers, *(tier for tier in site.tiers if tier.name not in named))
    windows = []
    for place, one in enumerate(told.windows):
        unknown = [name for name in one.nodes if name not in every]
        if unknown:
            words = f"windows.nodes: there is no node {shortened(unknown[0])}{nearest(unknown[0], every)}"
            faults.append((("windows", str(place), "nodes"), words))
        if one.ends <= one.begins:
            faults.append((("windows", str(place), "ends"), "windows.ends: it ends before it begins"))
    for key, names in (("accounts", [one.name for one in told.accounts]), ("tiers", [one.name for one in told.tiers])):
        for place, name in enumerate(names):
            if name in names[:place]:
                faults.append(((key, str(place), "name"), f"{key}.name: there are two called {shortened(name)}"))
    for one in told.windows:
        windows.append(Window(one.nodes or every, one.begins, one.ends, one.reason, one.users, one.accounts, one.name))
    users = [(name, limits.value()) for name, limits in sorted(told.limits.users.items())]
    if told.limits.everyone != _Limits():
        users.append(("", told.limits.everyone.value()))
    standing = told.standing
    described = replace(
        site,
        policy=told.policy,
        plan_depth=told.plan_depth,
        kept=told.keep.value(),
        rates=told.charging.value(site, faults),
        head=told.head or site.head,
        contact=told.contact or site.contact,
        mail=told.mail.value() if told.mail else site.mail,
        standing=Standing(standing.account, standing.user, standing.size, standing.half_life),
        accounts=accounts or site.accounts,
        tiers=tiers,
        queues=tuple(replace(queue, limits=told.limits.queue.value()) for queue in site.queues),
        windows=tuple(windows),
        user_limits=tuple(users),
    )
    return described, faults
