"""The site file: how a person describes this machine as a site, in TOML 1.0.

It is ``sites/machine.toml`` in their configuration folder.

All of it may be left out. Durations and sizes are written as in a job's header; see docs/sites.md.
"""

import os
import tomllib
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any, Literal

import platformdirs
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError

from lazy_quarry.core.site import Account, Kept, Limits, Site, Standing, Tier, Window
from lazy_quarry.core.units import parse_duration, parse_names
from lazy_quarry.errors import QuarryError
from lazy_quarry.probe.machine import this_machine


class SiteFileError(QuarryError):
    """The site file cannot be used as it is."""


def _hours(value: Any) -> float:
    if isinstance(value, str):
        sign = -1 if value.strip().startswith(("-", "−")) else 1
        return sign * parse_duration(value.strip().lstrip("+-−")) / 3600
    raise ValueError('write it as a duration, such as "6h" or "-6h"')


def _instant(value: Any) -> int:
    if isinstance(value, datetime):
        return round(value.astimezone().timestamp() * 1000)
    raise ValueError("write it as a date-time, such as 2026-11-23T18:00:00Z, without quotes")


def _seconds(value: Any) -> int:
    if not isinstance(value, str):
        raise ValueError('write it as a duration, such as "2h"')
    return parse_duration(value)


def _nodes(value: Any) -> tuple[str, ...]:
    return parse_names(value) if isinstance(value, str) else tuple(value)


Hours = Annotated[float, BeforeValidator(_hours)]
Seconds = Annotated[int, BeforeValidator(_seconds)]
Instant = Annotated[int, BeforeValidator(_instant)]
Nodes = Annotated[tuple[str, ...], BeforeValidator(_nodes)]
Count = Annotated[int, Field(ge=0, strict=True)]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", alias_generator=lambda name: name.replace("_", "-"))


class _Limits(_Table):
    running_jobs: Count | None = None
    waiting_jobs: Count | None = None
    cores: Count | None = None
    gpus: Count | None = None
    core_hours_each: Count | None = None
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
    name: str = Field(min_length=1)
    budget: Count | None = None
    users: tuple[str, ...] = ()
    target: Count = 1
    limits: _Limits = _Limits()


class _Tier(_Table):
    name: str = Field(min_length=1)
    charge: float = Field(1.0, ge=0)
    standing: Hours = 0.0
    users: tuple[str, ...] = ()
    walltime: Seconds | None = None
    gives_way: bool = False
    note: str = ""
    limits: _Limits = _Limits()


class _Window(_Table):
    begins: Instant
    ends: Instant
    reason: str = "reserved"
    nodes: Nodes = ()
    users: tuple[str, ...] = ()
    accounts: tuple[str, ...] = ()
    name: str = ""


class _Keep(_Table):
    events: Seconds | None = None
    attempts: Seconds | None = None

    def value(self) -> Kept:
        return Kept(self.events, self.attempts or 0)


class _AllLimits(_Table):
    everyone: _Limits = _Limits()
    queue: _Limits = _Limits()
    users: dict[str, _Limits] = {}


class _File(_Table):
    policy: Literal["planned", "easy", "first-come"] = "planned"
    plan_depth: int = Field(1000, ge=1)
    standing: _Standing = _Standing()
    keep: _Keep = _Keep()
    limits: _AllLimits = _AllLimits()
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
        with path.open("rb") as file:
            told = _File.model_validate(tomllib.load(file))
    except FileNotFoundError:
        return site
    except OSError as fault:
        raise SiteFileError(f"{path} cannot be read: {fault.strerror}") from None
    except tomllib.TOMLDecodeError as fault:
        raise SiteFileError(f"{path} is not TOML: {fault}") from None
    except ValidationError as fault:
        first = fault.errors()[0]
        where = ".".join(str(part + 1) if isinstance(part, int) else part for part in first["loc"])
        raise SiteFileError(f"{path}: {where}: {_plain(first)}") from None
    return _applied(site, told, path)


def _plain(error: Any) -> str:
    if error["type"] == "extra_forbidden":
        return "there is no such key; docs/sites.md lists them"
    return str(error["msg"]).removeprefix("Value error, ")


def _applied(site: Site, told: _File, path: Path) -> Site:
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
    for place, one in enumerate(told.windows, 1):
        unknown = [name for name in one.nodes if name not in every]
        if unknown:
            raise SiteFileError(f"{path}: windows.{place}: there is no node {unknown[0]}; there is {', '.join(every)}")
        if one.ends <= one.begins:
            raise SiteFileError(f"{path}: windows.{place}: it ends before it begins")
        windows.append(Window(one.nodes or every, one.begins, one.ends, one.reason, one.users, one.accounts, one.name))
    users = [(name, limits.value()) for name, limits in sorted(told.limits.users.items())]
    if told.limits.everyone != _Limits():
        users.append(("", told.limits.everyone.value()))
    standing = told.standing
    return replace(
        site,
        policy=told.policy,
        plan_depth=told.plan_depth,
        kept=told.keep.value(),
        standing=Standing(standing.account, standing.user, standing.size, standing.half_life),
        accounts=accounts or site.accounts,
        tiers=tiers,
        queues=tuple(replace(queue, limits=told.limits.queue.value()) for queue in site.queues),
        windows=tuple(windows),
        user_limits=tuple(users),
    )
