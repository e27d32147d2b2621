"""Dials: controls for the common keys of a header.

They read the header through its one parser, and write through its one editor.
"""

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from msgspec import Struct

from lazy_quarry.core.header.keys import KEYS, DialKind, dial_of
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import (
    exact_duration,
    exact_size,
    format_duration,
    format_size,
    parse_duration,
    parse_size,
    plural,
)
from lazy_quarry.errors import BadValue
from lazy_quarry.views.board import Board, NodeView
from lazy_quarry.views.draft_view import DraftReport
from lazy_quarry.wording.book_words import amounts_of

MINUTE, HOUR, DAY = 60, 3600, 86400
WALLTIMES = (
    *(minutes * MINUTE for minutes in (1, 2, 5, 10, 15, 20, 30, 45, 60, 90)),
    *(hours * HOUR for hours in (2, 3, 4, 6, 8, 10, 12, 18, 24, 36, 48, 60)),
    *(days * DAY for days in (3, 4, 5, 7, 10, 14, 21, 30)),
)
COUNTS = (1, 2, 3, 4, 6, 8, 10, 12, 16, 20, 24, 28, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384,
          448, 512, 640, 768, 896, 1024, 1280, 1536, 2048, 3072, 4096)  # fmt: skip
SIZES_MIB = (128, 256, 512, 768, *(1024 * gib for gib in (1, 1.5, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96, 128, 192,
             256, 384, 512, 768, 1024, 2048)))  # fmt: skip

HeaderEdit = tuple[tuple[str, Any], ...]
"""Keys to set, in order; None takes a key out."""


class Dial(Struct, frozen=True):
    """The state of a dial: its value in words, whether the header sets it, and the values it may have.

    ``steps`` are the values to turn through, in order, None for leaving the key out; ``at`` is the present one.
    """

    name: str
    key: str
    words: str
    given: bool
    steps: tuple[Any, ...] = ()
    at: Any = None

    @property
    def kind(self) -> DialKind:
        """Named in the entry of its key: typing and writing go by it."""
        return dial_of(self.key)

    @property
    def trait(self) -> bool:
        """True for the dial of one trait, of which the header may have several."""
        return self.kind == "traits"

    def turned(self, by: int) -> HeaderEdit:
        """The setting for a turn by a step up or down; nothing at its ends."""
        values = list(self.steps)
        if not values:
            return ()
        if self.at in values:
            to = values.index(self.at) + by
        else:  # between two steps
            to = _between(values, self.at) + (by if by < 0 else 0)
        if not 0 <= to < len(values) or values[to] == self.at:
            return ()
        return ((self.key, _written(self, values[to])),)

    def typed(self, text: str) -> HeaderEdit:
        """The setting for a text that was typed. Raises :class:`BadValue` saying what to write instead."""
        text = text.strip()
        if not text:
            return ((self.key, None),)
        return _TYPED[self.kind](self, text)


def _between(values: list[Any], at: Any) -> int:
    """The position of the first value above one that is none of them."""
    for place, value in enumerate(values):
        if _size(value) > _size(at):
            return place
    return len(values)


def _size(value: Any) -> float:
    if isinstance(value, int | float) and not isinstance(value, bool):
        return float(value)
    return -1.0


def _written(dial: Dial, value: Any) -> Any:
    if value is None:
        return None
    if dial.kind == "duration":
        return exact_duration(int(value))
    if dial.kind == "memory":
        return f"{exact_size(int(value))}/{_per(dial.words)}"
    return value


def _per(words: str) -> str:
    return words.partition("/")[2].strip() or "core"


# -- what is typed --------------------------------------------------------------------------------


def _text(dial: Dial, text: str) -> HeaderEdit:
    KEYS[dial.key].read(text)
    return ((dial.key, text),)


def _number(dial: Dial, text: str) -> HeaderEdit:
    if not text.isdecimal():
        raise BadValue(f'"{text}" is not a whole number')
    KEYS[dial.key].read(int(text))
    return ((dial.key, int(text)),)


def _duration(dial: Dial, text: str) -> HeaderEdit:
    return ((dial.key, exact_duration(parse_duration(text))),)


def _memory(dial: Dial, text: str) -> HeaderEdit:
    amount, slash, per = text.partition("/")
    if not amount.strip() and slash:
        amount = dial.words.partition("/")[0]
    per = per.strip() or _per(dial.words)
    written = f"{exact_size(parse_size(amount))}/{per}" if parse_size(amount) >= 1 else text
    KEYS[dial.key].read(written)
    return ((dial.key, written),)


def _nodes(dial: Dial, text: str) -> HeaderEdit:
    if text in ("fit", "as few as fit"):
        return (("nodes", None),)
    value: Any = int(text) if text.isdecimal() else text
    KEYS["nodes"].read(value)
    return (("nodes", value),)


def _ranks(dial: Dial, text: str) -> HeaderEdit:
    match = re.fullmatch(r"(\d+)\s*(?:/|on each|a|each)\s*(?:node)?", text)
    if match:
        each = int(match[1])
        KEYS["ranks-per-node"].read(each)
        return (("ranks", None), ("ranks-per-node", each))
    if not text.isdecimal():
        raise BadValue(f'"{text}" is not a number of ranks; write 24, or 8/node')
    KEYS["ranks"].read(int(text))
    return (("ranks-per-node", None), ("ranks", int(text)))


def _names_typed(dial: Dial, text: str) -> HeaderEdit:
    names = [name.strip() for name in text.split(",") if name.strip()]
    return ((dial.key, names[0] if len(names) == 1 else names),)


def _flag(dial: Dial, text: str) -> HeaderEdit:
    if text.lower() not in ("true", "false", "yes", "no"):
        raise BadValue(f'"{text}" is neither yes nor no')
    return ((dial.key, text.lower() in ("true", "yes")),)


def _traits(dial: Dial, text: str) -> HeaderEdit:
    parse_traits(text)
    return (("traits", text),)


def _at_once(dial: Dial, text: str) -> HeaderEdit:
    if text in ("fit", "as many as fit"):
        return (("array.at-once", None),)
    if not text.isdecimal() or not int(text):
        raise BadValue(f'"{text}" is no number of tasks; write 8, or fit')
    return (("array.at-once", int(text)),)


_TYPED: dict[DialKind, Callable[[Dial, str], HeaderEdit]] = {
    "text": _text,
    "number": _number,
    "flag": _flag,
    "names": _names_typed,
    "duration": _duration,
    "memory": _memory,
    "nodes": _nodes,
    "ranks": _ranks,
    "traits": _traits,
    "at once": _at_once,
}


# -- the dials of a header ------------------------------------------------------------------------


def dials(values: Mapping[str, Any], board: Board) -> list[Dial]:
    """The dials for a header's values on a site: those of the request, then one for each trait of its queues."""
    queues = [queue for queue in board.site.queues if not queue.users or board.person.user in queue.users]
    asked = values.get("queue")
    names = [asked] if isinstance(asked, str) else list(asked) if isinstance(asked, list) else []
    default = board.site.default_queue
    here = [queue for queue in board.site.queues if queue.name in (names or [default])]
    nodes = [node for node in board.nodes if any(queue.name in node.queues for queue in here)]
    widest = max((node.cores for node in nodes), default=1)
    only = next((queue.tier for queue in here if queue.tier), None)
    tiers = [tier.name for tier in board.site.tiers if not tier.users or board.person.user in tier.users]
    given = values.get("name")
    found = [
        Dial("name", "name", str(given) if given else "as its file is called", bool(given)),
        _choice("queue", names, default, [queue.name for queue in queues]),
        _choice("account", values.get("account"), board.person.account, list(board.person.accounts)),
        _choice("tier", values.get("tier"), only or board.site.default_tier, [only] if only else tiers),
        _walltime_dial(values, here, board),
        _nodes_dial(values, len(nodes)),
        _ranks_dial(values, sum(node.cores for node in nodes)),
        _count("threads", values.get("threads"), 1, widest),
        _memory_dial(values, here, max((node.memory_mib for node in nodes), default=0)),
    ]
    gpus = max((node.gpus for node in nodes), default=0)
    if gpus or values.get("gpus"):
        found.append(_gpus_dial(values.get("gpus"), gpus))
    whole = values.get("whole-nodes")
    words = "kept to itself" if whole is True else "shared"
    found.append(Dial("whole nodes", "whole-nodes", words, whole is not None, (False, True), whole is True))
    if isinstance(array := values.get("array"), Mapping):
        found.append(_at_once_dial(array.get("at-once")))
    return [*found, *_trait_dials(values.get("traits"), nodes)]


def _choice(key: str, asked: Any, default: str, names: Sequence[str]) -> Dial:
    if isinstance(asked, list):
        asked = ", ".join(map(str, asked)) or None
    words = str(asked) if asked else default
    return Dial(key, key, words, bool(asked), tuple(names), words)


def _walltime_dial(values: Mapping[str, Any], queues: Sequence[Any], board: Board) -> Dial:
    asked = values.get("walltime")
    try:
        seconds = KEYS["walltime"].read(asked) if asked is not None else None
    except BadValue:
        return Dial("walltime", "walltime", str(asked), True, WALLTIMES, 0)
    limits = [queue.walltime_limit_s for queue in queues]
    limit = max((one for one in limits if one), default=0) if all(limits) else 0
    tier = next((one for one in board.site.tiers if one.name == values.get("tier")), None)
    if tier and tier.walltime_limit_s:
        limit = min(limit or tier.walltime_limit_s, tier.walltime_limit_s)
    steps = sorted({one for one in WALLTIMES if not limit or one <= limit} | ({limit} if limit else set()))
    default = queues[0].walltime_default_s if queues else HOUR
    at = default if seconds is None else seconds
    return Dial("walltime", "walltime", format_duration(at, 4), seconds is not None, tuple(steps), at)


def _nodes_dial(values: Mapping[str, Any], most: int) -> Dial:
    asked = values.get("nodes")
    steps = ("any", None, *(count for count in COUNTS if count < most), most)
    words = {"any": "any", None: "as few as fit"}.get(asked, str(asked))
    return Dial("nodes", "nodes", words, asked is not None, tuple(dict.fromkeys(steps)), asked)


def _ranks_dial(values: Mapping[str, Any], most: int) -> Dial:
    each, ranks = values.get("ranks-per-node"), values.get("ranks")
    steps = tuple(count for count in COUNTS if count <= max(1, most))
    if each is not None and ranks is None:
        return Dial("ranks", "ranks-per-node", f"{each} on each node", True, steps, each)
    nodes = values.get("nodes")
    default = nodes if isinstance(nodes, int) else 1
    words = str(default if ranks is None else ranks)
    return Dial("ranks", "ranks", words, ranks is not None, steps, ranks or default)


def _count(key: str, asked: Any, default: int, most: int) -> Dial:
    steps = tuple(dict.fromkeys((*(count for count in COUNTS if count < most), most)))
    value = default if asked is None else asked
    return Dial(key, key, str(value), asked is not None, steps, value)


def _memory_dial(values: Mapping[str, Any], queues: Sequence[Any], most_mib: int) -> Dial:
    asked = values.get("memory")
    default = queues[0].memory_default_mib if queues else 1024
    steps = tuple(size for size in SIZES_MIB if size <= most_mib)
    if asked is None:
        return Dial("memory", "memory", f"{exact_size(default)}/core", False, steps, default)
    try:
        read = KEYS["memory"].read(asked)
    except BadValue:
        return Dial("memory", "memory", str(asked), True, steps, 0)
    return Dial("memory", "memory", f"{exact_size(read.mib)}/{read.per}", True, steps, read.mib)


def _gpus_dial(asked: Any, most: int) -> Dial:
    words = "none" if not asked else f"{asked} on each node"
    return Dial("gpus", "gpus", words, asked is not None, tuple(range(most + 1)), asked or 0)


def _at_once_dial(asked: Any) -> Dial:
    words = "as many as fit" if asked is None else str(asked)
    return Dial("at once", "array.at-once", words, asked is not None, (None, *COUNTS), asked)


def _trait_dials(asked: Any, nodes: Sequence[NodeView]) -> list[Dial]:
    """A dial for each trait: any, required, or excluded."""
    chosen = wanted_traits(asked) if isinstance(asked, str) else {}
    found = []
    for trait in sorted({trait for node in nodes for trait in node.traits}):
        found.append(_trait_dial(trait, asked if isinstance(asked, str) else "", chosen))
    return found


def wanted_traits(expression: str) -> dict[str, bool] | None:
    """A plain row of traits, each wanted or not, as in ``a and not b``; None for any other expression."""
    found: dict[str, bool] = {}
    for piece in re.split(r"\s+and\s+", expression.strip()):
        match = re.fullmatch(r"(not\s+)?([A-Za-z0-9][A-Za-z0-9._-]*)", piece)
        if not match or match[2] in ("or", "not", "and"):
            return None
        found[match[2]] = not match[1]
    return found


def _trait_dial(trait: str, expression: str, chosen: dict[str, bool] | None) -> Dial:
    if chosen is None:  # too much for a dial to take apart; it can still be added to
        named = trait in _names(expression)
        more = (expression, f"({expression}) and {trait}")
        return Dial(trait, "traits", "in the expression" if named else "", named, () if named else more, expression)

    def without(how: bool | None) -> str | None:
        row = {name: want for name, want in chosen.items() if name != trait}
        if how is not None:
            row[trait] = how
        return " and ".join(name if want else f"not {name}" for name, want in row.items()) or None

    now = chosen.get(trait)
    words = {None: "", True: "wanted", False: "not wanted"}[now]
    steps = tuple(without(how) for how in (None, True, False))
    return Dial(trait, "traits", words, now is not None, steps, without(now))


def _names(expression: str) -> frozenset[str]:
    try:
        return parse_traits(expression).names
    except BadValue:
        return frozenset()


def _where(dial: Dial, report: DraftReport) -> str:
    if isinstance(dial.at, int):
        return ""
    return f"{'wherever there is room: ' if dial.at == 'any' else ''}{plural(report.shape.nodes, 'node')}"


def _took(report: DraftReport) -> str:
    """Times that runs of this name took."""
    runs, shortest, longest = report.earlier
    if not runs:
        return ""
    last = f"the last {runs} runs" if runs > 1 else "the last run"
    low, high = format_duration(max(1, shortest), 1), format_duration(max(1, longest), 1)
    return f"{last} took {low}" + (f" to {high}" if low != high else "")


def _ranks_on_each(report: DraftReport) -> str:
    """Ranks on each node where it would be placed; where no place is known, as evenly as possible."""
    placed, nodes = [one.ranks for one in report.place.nodes], max(1, report.shape.nodes)
    if not placed or report.place.node_count > len(placed):
        even, rest = divmod(report.shape.ranks, nodes)
        placed = [even, even + bool(rest)]
    low, high = min(placed), max(placed)
    return f"{low}" if low == high else f"{low} to {high}"


def _memory_on_each(report: DraftReport, by_node: bool) -> str:
    """The same of memory, which follows the cores unless it is asked for by node."""
    total, placed = report.shape.memory_mib, [len(one.own) for one in report.place.nodes]
    if by_node or not sum(placed) or report.place.node_count > len(placed):
        placed = [1] * max(1, report.shape.nodes)
    low, high = (format_size(total * part(placed) / sum(placed)) for part in (min, max))
    return low if low == high else f"{low} to {high}"


def follows(dial: Dial, report: DraftReport) -> str:
    """Say what follows from a dial's value, according to the site."""
    if dial.trait:
        trait = next((one for one in report.traits.each if one.name == dial.name), None)
        if trait is None:
            return ""
        if not trait.nodes:
            return "no node has it together with these"
        return f"{plural(trait.nodes, 'node')}, {trait.free:,} of {plural(trait.cores, 'core')} free"
    if not report.shape.cores:
        return ""
    nodes = max(1, report.shape.nodes)
    left = "" if report.cost.left_core_ms is None else f"{amounts_of(report)[1]} core-hours left"
    return {
        "queue": f"{plural(report.traits.matching_nodes, 'node')} match" if report.traits.matching_nodes else "",
        "account": left or "no limit",
        "tier": "",
        "walltime": _took(report),
        "nodes": _where(dial, report),
        "ranks": f"{_ranks_on_each(report)} on each node" if nodes > 1 else "all on one node",
        "ranks-per-node": f"{report.shape.ranks} in all",
        "threads": f"{plural(report.shape.cores, 'core')} in all",
        "memory": f"{_memory_on_each(report, dial.words.endswith('/node'))} on each node",
        "gpus": f"{report.shape.gpus * nodes} in all" if report.shape.gpus else "",
        "whole-nodes": "",
        "array.at-once": f"of {plural(report.shape.tasks, 'task')}" if report.shape.tasks else "",
    }.get(dial.key, "")
