"""Happenings at the site itself after the demo begins: nodes fail and come back, hours are granted, work is announced."""

import heapq
import random
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

from lazy_quarry.core.engine.commands import Command, GrantHours, LoseNode, OpenNode, Reserve
from lazy_quarry.core.job.by import By
from lazy_quarry.core.site import Site, Window
from lazy_quarry.core.units import DAY_MS, HOUR_MS
from lazy_quarry.demo.site import BEGINS_MS, HEAD

FAILS_EVERY_DAYS = 5.0
_CALM_MS = 36 * HOUR_MS
"""Nothing fails so soon after the demo begins."""
_FAULTS = (
    ("no answer on the fabric", 3),
    ("a power supply failed", 20),
    ("memory errors in slot A4", 50),
    ("its disk for scratch reads no more", 40),
    ("it restarted by itself and is being tested", 6),
    ("a fan stands still", 16),
)
"""Each with the hours that mending takes as a rule."""
QUARTER_CORE_HOURS = {
    "tide-surge": (560_000, 400_000, 340_000, 600_000),
    "eel-tracks": (150_000, 210_000, 190_000, 160_000),
    "kelp-fit": (345_000, 630_000, 780_000, 420_000),
    "silt": (560_000, 560_000, 560_000, 560_000),
    "commons": (5_000, 5_000, 5_000, 5_000),
    "estuary": (1_120_000, 960_000, 900_000, 1_160_000),
}
"""Grants of the institute's committee for the three months from January, April, July and October."""
_WORK = ("new firmware for the fabric switches", "the file servers are updated", "power is measured rack by rack")


def happenings(seed: int, site: Site) -> Iterator[Command]:
    """All of it in order, without end."""
    return heapq.merge(_back(site), _failures(seed, site), _grants(), _maintenance(site), key=lambda one: one.at_ms)


def _back(site: Site) -> Iterator[Command]:
    """Open on that week's Thursday what is closed on the first day."""
    thursday = BEGINS_MS - BEGINS_MS % DAY_MS + 3 * DAY_MS
    yield from (OpenNode(thursday + 11 * HOUR_MS, closure.node) for closure in site.closures)


def _failures(seed: int, site: Site) -> Iterator[Command]:
    """A node fails every few days, and opens again when it is mended, in working hours."""
    chance = random.Random(f"failures:{seed}")
    nodes = [node.name for node in site.nodes if node.runs_jobs]
    down: list[tuple[int, str]] = []
    at = BEGINS_MS + _CALM_MS
    while True:
        at += round(chance.expovariate(1 / FAILS_EVERY_DAYS) * DAY_MS)
        while down and down[0][0] <= at:
            yield OpenNode(*heapq.heappop(down))
        name, (reason, hours) = chance.choice(nodes), chance.choice(_FAULTS)
        if any(name == one for _, one in down):
            continue
        yield LoseNode(at, name, By(why=reason))
        heapq.heappush(down, (_in_working_hours(at + round(hours * HOUR_MS * chance.lognormvariate(0, 0.4))), name))


def _in_working_hours(at_ms: int) -> int:
    at = datetime.fromtimestamp(at_ms / 1000, UTC)
    if at.hour >= 17:
        at = at.replace(hour=9) + timedelta(days=1)
    elif at.hour < 8:
        at = at.replace(hour=9)
    while at.weekday() > 4:
        at += timedelta(days=1)
    return round(at.timestamp() * 1000)


def _months() -> Iterator[datetime]:
    """The first day of each month after the demo's first."""
    at = datetime.fromtimestamp(BEGINS_MS / 1000, UTC).replace(day=1, hour=0, minute=0, second=0, microsecond=0)
    while True:
        at = (at + timedelta(days=32)).replace(day=1)
        yield at


def _grants() -> Iterator[Command]:
    """The committee's hours at the beginning of each quarter."""
    for month in _months():
        if month.month % 3 == 1:
            at, why = round(month.timestamp() * 1000) + 6 * HOUR_MS, f"quarter {month.month // 3 + 1} of {month.year}"
            for account, hours in QUARTER_CORE_HOURS.items():
                yield GrantHours(at, account, hours[month.month // 3] * 3_600_000, By(HEAD, why=why))


def _maintenance(site: Site) -> Iterator[Command]:
    """On the second Tuesday of each month half of the nodes are kept free; it is announced ten days before."""
    for number, month in enumerate(_months()):
        tuesday = month + timedelta(days=(1 - month.weekday()) % 7 + 7)
        begins = round(tuesday.timestamp() * 1000) + 6 * HOUR_MS
        nodes = tuple(node.name for node in site.nodes if node.runs_jobs)[number % 2 :: 2]
        name = f"{month:%B %Y}"
        window = Window(nodes, begins, begins + 5 * HOUR_MS, _WORK[number % len(_WORK)], name=name)
        yield Reserve(begins - 10 * DAY_MS, window, By(HEAD))
