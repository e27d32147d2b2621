"""Parts and tasks that a job told of, as its helpers wrote them into its attempt's folder, while it runs and at its end.

``inside/parts.jsonl`` has a line where a part begins and one where it is over (JSON Lines), ``inside/field-ID`` a byte for each
task of a spread. The job may have written anything there, so whatever can't be read is passed over.
"""

import json
import time
from collections.abc import Callable, Iterable
from contextlib import suppress
from typing import Any

from lazy_quarry.core.job.inside import MOST_PARTS, Inside, Part, Spread, thinned
from lazy_quarry.core.values import replace
from lazy_quarry.run.node.file_service import InsideRaw, Mark

Asked = Callable[[Mark | None, list[str]], InsideRaw | None]
"""Asks for what is there, given the mark of what is known and the names of the spreads in it."""
_Parts = dict[str, dict[str, Any]]
_SIGNS = b".rdfs"


class InsideFiles:
    """Reads what attempts told; what has not changed is not read again."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[Mark, _Parts]] = {}

    def read(self, name: str, ask: Asked, over: bool = False) -> Inside | None:
        """Read what an attempt told of; None for nothing. ``over``: it has ended, so nothing of it goes on."""
        mark, parts = self._known.get(name, (None, {}))
        raw = ask(mark, [each for each, entry in parts.items() if entry.get("kind") == "spread"])
        if raw is None:
            return None
        if raw.lines is not None or mark != raw.mark:
            parts = _parts(raw.lines or b"")
            self._known[name] = raw.mark, parts
        if over:
            self._known.pop(name, None)
        return _inside(raw.fields, parts, over)


def _parts(lines: bytes) -> _Parts:
    """The parts by what names them, what was said of each together."""
    parts: _Parts = {}
    for line in lines.splitlines():
        with suppress(ValueError, KeyError, TypeError, AttributeError, RecursionError):
            entry = json.loads(line)
            if "name" in entry:
                parts.setdefault(str(entry["id"]), entry)
            elif str(entry["id"]) in parts:
                parts[str(entry["id"])] |= entry
    return parts


def _inside(fields: dict[str, bytes], parts: _Parts, over: bool) -> Inside | None:
    now = int(time.time() * 1000)
    plain = {name: entry for name, entry in parts.items() if entry.get("kind") != "spread"}
    chosen = list(plain)
    if len(chosen) > MOST_PARTS:
        longest = set(sorted(chosen, key=lambda name: -_number(plain[name].get("seconds"), 1e9))[:MOST_PARTS])
        chosen = [name for name in chosen if name in longest]
    places = {name: place for place, name in enumerate(chosen)}
    told = tuple(_part(plain[name], places, now) for name in chosen)
    spreads = [fields.get(name, b"") for name, entry in parts.items() if entry.get("kind") == "spread"]
    known = [field for field in spreads if field and not field.translate(None, _SIGNS)]
    spread = _spread(known, over) if known else None
    return Inside(told, spread) if told or spread else None


def _part(entry: dict[str, Any], places: dict[str, int], now: int) -> Part:
    over = "seconds" in entry
    began = _whole(entry.get("began_ms"))
    status, name = entry.get("exit"), entry.get("signal")
    return Part(
        name=str(entry["name"])[:64],
        kind="rank" if entry.get("kind") == "rank" else "phase",
        began_ms=began,
        took_ms=_whole(_number(entry.get("seconds")) * 1000) if over else max(0, now - began),
        cpu_ms=_whole(_number(entry.get("cpu_s")) * 1000),
        memory_peak_mib=_whole(entry.get("memory_peak_mib")),
        read_bytes=_whole(entry.get("read")),
        written_bytes=_whole(entry.get("written")),
        exit=status if type(status) is int else None,
        signal=name if isinstance(name, str) else None,
        above=places.get(str(entry.get("above")), -1),
        over=over,
    )


def _number(value: object, otherwise: float = 0.0) -> float:
    return float(value) if type(value) in (int, float) and 0 <= value < 1e15 else otherwise  # type: ignore[operator,arg-type]


def _whole(value: object) -> int:
    return int(_number(value))


def _spread(fields: Iterable[bytes], over: bool) -> Spread:
    whole = b"".join(fields)
    if over:
        whole = whole.replace(b"r", b"s")
    counts = {sign: whole.count(sign) for sign in (b"d", b"f", b"s", b"r")}
    return Spread(
        tasks=len(whole),
        done=counts[b"d"],
        failed=counts[b"f"],
        stopped=counts[b"s"],
        running=counts[b"r"],
        field=thinned(whole.decode()),
    )


def at_its_end(inside: Inside | None, at_ms: int) -> Inside | None:
    """As it is recorded: a part that was under way when the attempt ended took until then."""
    if inside is None:
        return None
    parts = tuple(part if part.over else replace(part, took_ms=max(0, at_ms - part.began_ms)) for part in inside.parts)
    return replace(inside, parts=parts)
