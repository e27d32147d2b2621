"""Suppositions about a site's past: limits, nodes, and what people asked for; read from KEY=VALUE."""

import re
from collections.abc import Iterable, Mapping
from math import ceil
from typing import TypeVar

from msgspec import Struct

from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.site import Limits, Queue, Site, Tier
from lazy_quarry.core.units import parse_duration
from lazy_quarry.core.values import replace
from lazy_quarry.errors import BadValue
from lazy_quarry.study.past import Past, PastJob

HOW = (
    "walltime=2x, account.NAME.cores=+64, user.NAME.running-jobs=20, queue.NAME.walltime=12h, tier.NAME.cores=none, "
    "nodes.NODE=+8 or plan-depth=10"
)
LIMITS = {"cores": "cores", "gpus": "gpus", "running-jobs": "running_jobs"}
LEAST_WALLTIME_S = 60
_Bounded = TypeVar("_Bounded", Queue, Tier)


class WhatIf(Struct, frozen=True):
    """A past with something otherwise: the site, and the factor of its run time that each job asks for at most; None as it did."""

    site: Site
    walltime_factor: float | None = None

    def past(self, past: Past) -> Past:
        """The past as people would have asked."""
        if self.walltime_factor is None:
            return past
        factor = self.walltime_factor
        return replace(past, jobs=tuple(_asking(one, factor) for one in past.jobs))


def _asking(one: PastJob, factor: float) -> PastJob:
    """A job that asks for so many times what it takes, an array what its longest task does; one that never ran is as it was."""
    if not one.runs:
        return one
    took_s = max(run.ran_ms for run in one.runs.values()) / 1000
    asked = max(LEAST_WALLTIME_S, ceil(took_s * factor))
    return replace(one, request=replace(one.request, walltime_s=min(one.request.walltime_s, asked)))


def what_if(site: Site, settings: Iterable[str]) -> WhatIf:
    """The site as these settings have it. Raises :class:`BadValue` for one that means nothing here."""
    found = WhatIf(site)
    for setting in settings:
        key, equals, value = (part.strip() for part in setting.partition("="))
        if not equals or not value:
            raise BadValue(f'"{shortened(setting)}" is not KEY=VALUE; there are {HOW}')
        found = _set(found, key, value)
    return found


def _set(found: WhatIf, key: str, value: str) -> WhatIf:
    site, kind, rest = found.site, *_parts(key)
    if key == "walltime":
        match = re.fullmatch(r"(\d+(?:\.\d+)?)x", value)
        if not match or float(match[1]) < 1:
            raise BadValue(f"walltime={shortened(value)}: write how many times what it took, such as 2x")
        return replace(found, walltime_factor=float(match[1]))
    if key == "plan-depth":
        return replace(found, site=replace(site, plan_depth=max(1, _number(key, value, 0))))
    if kind == "nodes":
        return replace(found, site=_with_nodes(site, rest, _number(key, value, 0)))
    if kind in ("account", "user", "queue", "tier") and "." in rest:
        name, _, measure = rest.rpartition(".")
        return replace(found, site=_limited(site, kind, name, measure, value))
    raise BadValue(f'"{shortened(key)}" means nothing here; there are {HOW}')


def _parts(key: str) -> tuple[str, str]:
    kind, _, rest = key.partition(".")
    return kind, rest


def _number(key: str, value: str, now: int) -> int:
    if not re.fullmatch(r"[+-]?\d{1,9}", value):
        raise BadValue(f"{shortened(key)}={shortened(value)}: write a number, or +64 for so many more")
    return max(0, now + int(value)) if value[0] in "+-" else int(value)


def _limited(site: Site, kind: str, name: str, measure: str, value: str) -> Site:
    """The site with another limit of an account, a user, a queue or a tier."""
    if kind == "user":
        known = dict(site.user_limits)
        name = "" if name == "everyone" else name
        limits = _changed(known.get(name) or known.get("") or Limits(), f"{kind}.{name}.{measure}", measure, value)
        return replace(site, user_limits=tuple(sorted({**known, name: limits}.items())))
    key = f"{kind}.{name}.{measure}"
    if kind == "account":
        _known(kind, name, site.account)
        accounts = (
            replace(one, limits=_changed(one.limits, key, measure, value)) if one.name == name else one
            for one in site.accounts
        )
        return replace(site, accounts=tuple(accounts))
    if kind == "queue":
        _known(kind, name, site.queue)
        return replace(
            site, queues=tuple(_bound(one, key, measure, value) if one.name == name else one for one in site.queues)
        )
    _known(kind, name, site.tier)
    return replace(
        site, tiers=tuple(_bound(one, key, measure, value) if one.name == name else one for one in site.tiers)
    )


def _known(kind: str, name: str, known: Mapping[str, object]) -> None:
    if name not in known:
        raise BadValue(f'there is no {kind} "{shortened(name)}"; there are {", ".join(known)}')


def _bound(one: _Bounded, key: str, measure: str, value: str) -> _Bounded:
    """A queue or a tier with another limit of what runs in it, or of its walltimes."""
    if measure == "walltime":
        return replace(one, walltime_limit_s=None if value == "none" else parse_duration(value))
    return replace(one, limits=_changed(one.limits, key, measure, value))


def _changed(limits: Limits, key: str, measure: str, value: str) -> Limits:
    field = LIMITS.get(measure)
    if field is None:
        raise BadValue(f"{shortened(key)}: there are {', '.join(LIMITS)}")
    if value == "none":
        return replace(limits, **{field: None})
    return replace(limits, **{field: _number(key, value, getattr(limits, field) or 0)})


def _with_nodes(site: Site, like: str, more: int) -> Site:
    """The site with so many more nodes like one of its own, in the same queues."""
    if like not in site.node:
        raise BadValue(f'there is no node "{shortened(like)}"; write nodes.NODE=+8 for eight more like it')
    names = tuple(f"{like}-more-{number}" for number in range(1, min(more, 10_000) + 1))
    nodes = (*site.nodes, *(replace(site.node[like], name=name) for name in names))
    queues = tuple(replace(one, nodes=(*one.nodes, *names)) if like in one.nodes else one for one in site.queues)
    return replace(site, nodes=nodes, queues=queues)
