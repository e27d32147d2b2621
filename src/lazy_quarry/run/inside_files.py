"""What a job told of itself, read from its attempt's folder while it runs and at its end.

``inside/parts.jsonl`` has a line where a part begins and one where it is over (JSON Lines), ``inside/field-ID`` a byte for each
task of a spread. The job may have written anything there, so whatever can't be read is passed over.
"""

import json
import os
import time
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

from lazy_quarry.core.job.inside import MOST_PARTS, Inside, Part, Spread, thinned
from lazy_quarry.files import given

MOST_BYTES = 4 << 20
"""More of a record is not read; the helpers stop well before."""
MOST_TASKS = 10_000_000
_SIGNS = b".rdfs"


class InsideFiles:
    """Reads the folders of attempts; what has not changed is not read again."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[tuple[int, int], dict[str, dict[str, Any]]]] = {}

    def read(self, folder: Path, over: bool = False) -> Inside | None:
        """What is there; None for nothing. ``over``: the attempt has ended, so nothing of it goes on."""
        path = folder / "inside" / "parts.jsonl"
        try:
            found = path.stat()
        except OSError:
            return None
        key, mark = str(folder), (found.st_mtime_ns, found.st_size)
        known = self._known.get(key)
        if known is None or known[0] != mark:
            known = self._known[key] = mark, _lines(path)
        if over:
            self._known.pop(key, None)
        return _inside(folder / "inside", known[1], over)


def _lines(path: Path) -> dict[str, dict[str, Any]]:
    """The parts by what names them, what was said of each together."""
    parts: dict[str, dict[str, Any]] = {}
    with suppress(OSError):
        for line in given.read(path, MOST_BYTES).splitlines():
            with suppress(ValueError, KeyError, TypeError, AttributeError):
                entry = json.loads(line)
                if "name" in entry:
                    parts.setdefault(str(entry["id"]), entry)
                elif str(entry["id"]) in parts:
                    parts[str(entry["id"])] |= entry
    return parts


def _inside(folder: Path, parts: dict[str, dict[str, Any]], over: bool) -> Inside | None:
    now = int(time.time() * 1000)
    plain = {name: entry for name, entry in parts.items() if entry.get("kind") != "spread"}
    chosen = list(plain)
    if len(chosen) > MOST_PARTS:
        longest = set(sorted(chosen, key=lambda name: -_number(plain[name].get("seconds"), 1e9))[:MOST_PARTS])
        chosen = [name for name in chosen if name in longest]
    places = {name: place for place, name in enumerate(chosen)}
    told = tuple(_part(plain[name], places, now) for name in chosen)
    spreads = [_field(folder, name) for name, entry in parts.items() if entry.get("kind") == "spread"]
    fields = [field for field in spreads if field]
    spread = _spread(fields, over) if fields else None
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


def _field(folder: Path, name: str) -> bytes:
    if os.sep in name:
        return b""
    with suppress(OSError):
        raw = given.read(folder / f"field-{name}", MOST_TASKS)
        return raw if not raw.translate(None, _SIGNS) else b""
    return b""


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
