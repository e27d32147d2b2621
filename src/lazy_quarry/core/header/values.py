"""Readers of a header's plain values. Each raises :class:`BadValue` with what to write instead."""

import re
from collections.abc import Callable
from contextlib import suppress
from datetime import date, datetime, time
from typing import Any

from lazy_quarry.core.header.variable_names import check_variable
from lazy_quarry.core.instants import parse_instant
from lazy_quarry.core.job.request import Memory
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import MOST_NODES, nearest_size, parse_duration, parse_names, parse_size
from lazy_quarry.errors import BadValue

Reader = Callable[[Any], Any]
MEMORY_PER = ("core", "rank", "node", "job")
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}")


MOST_TEXT = 4096
"""Characters that one text in a header may have."""


def shown(value: Any) -> str:
    """A value as it is repeated in a message."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list | dict):  # its text could be of any length, and nested as deep as a header may be
        return "a list" if isinstance(value, list) else "a table"
    return f'"{shortened(value)}"' if isinstance(value, str) else shortened(str(value))


def text(value: Any) -> str:
    """A piece of text that is not empty and has no NUL in it."""
    if not isinstance(value, str):
        raise BadValue(f"{shown(value)} is not text; put it in quotes")
    if not value.strip() or "\0" in value:
        raise BadValue("it is empty; leave the key out instead" if not value.strip() else "it holds a NUL byte")
    if len(value) > MOST_TEXT:
        raise BadValue(f"it is longer than {MOST_TEXT:,} characters")
    return value


def job_name(value: Any) -> str:
    """A job's name."""
    if not _NAME.fullmatch(text(value)):
        raise BadValue(
            f"{shown(value)} is no job name; use letters, digits and . _ -, at most 64, with a letter or digit first"
        )
    return str(value)


def duration(value: Any) -> int:
    """A duration in seconds, at least one."""
    if isinstance(value, time):  # as TOML reads 01:30:00 without quotes
        value = value.isoformat()
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        raise BadValue(f'{shown(value)} is not a duration; write it like "2h 30m"')
    seconds = parse_duration(str(value))
    if seconds < 1:
        raise BadValue(f"{shown(value)} is zero; the least is one second")
    return seconds


def duration_or_none(value: Any) -> int:
    """A duration in seconds that may be zero."""
    return 0 if str(value).strip() in ("0s", "0m", "0h", "PT0S") else duration(value)


def size(value: Any) -> int:
    """A size in MiB."""
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        raise BadValue(f'{shown(value)} is not a size; write it like "4 GiB"')
    return parse_size(str(value))


def count(least: int, most: int = 1_000_000) -> Reader:
    """A reader of whole numbers from ``least`` to ``most``."""

    def read(value: Any) -> int:
        if isinstance(value, bool) or not isinstance(value, int):
            raise BadValue(f"{shown(value)} is not a whole number")
        if not least <= value <= most:
            raise BadValue(f"{shown(value)} is out of range; it goes from {least} to {most:,}")
        return value

    return read


def nodes(value: Any) -> int | str:
    """A number of nodes, a range of numbers, or ``any``."""
    if isinstance(value, str):
        match = re.fullmatch(r"(\d{1,9})\s*\.\.\s*(\d{1,9})", value.strip())
        if value == "any" or (match and 1 <= int(match[1]) <= int(match[2]) <= MOST_NODES):
            return value
        if match and int(match[2]) > MOST_NODES:
            raise BadValue(f"{match[2]} is out of range; it goes from 1 to {MOST_NODES:,}")
        raise BadValue(f'{shown(value)} is not a number of nodes; write 2, "2..4" or "any"')
    number: int = count(1, MOST_NODES)(value)
    return number


def flag(value: Any) -> bool:
    """True or false."""
    if not isinstance(value, bool):
        raise BadValue(f"{shown(value)} is neither true nor false")
    return value


def memory(value: Any) -> Memory:
    """A size for each core, rank, node or job."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        raise BadValue(f'{shown(value)} has no unit; write "{_meant_size(str(value))}/core", or /rank, /node, /job')
    amount, slash, per = text(value).partition("/")
    if not slash:
        words = re.fullmatch(r"(.*?)\s*\b(?:per|an?|each)\s+(core|rank|node|job)s?", value.strip())
        meant = f"{_meant_size(words[1] if words else value)}/{words[2] if words else 'core'}"
        rest = ", ".join(f"/{each}" for each in MEMORY_PER if not meant.endswith(each))
        raise BadValue(f'{shown(value)} doesn\'t say of what; write "{meant}", or {rest}')
    if (per := per.strip()) not in MEMORY_PER:
        raise BadValue(f'"/{shortened(per)}" is unknown; memory is per /core, /rank, /node or /job')
    try:
        mib = parse_size(amount)
    except BadValue:
        raise BadValue(f'{shown(value)} is not a size; write "{_meant_size(amount)}/{per}"') from None
    if mib < 1:
        raise BadValue("no job runs with no memory; the least is 1 MiB")
    return Memory(mib, per)  # type: ignore[arg-type]


def _meant_size(amount: str) -> str:
    """A size that can be read, the nearest to what somebody wrote."""
    for each in (amount.strip(), nearest_size(amount), f"{amount.strip()} GiB"):
        with suppress(BadValue):
            if parse_size(each) > 0:
                return each
    return "1 GiB"


def traits(value: Any) -> str:
    """A trait expression, as it was written."""
    parse_traits(text(value))
    return str(value)


def names(value: Any) -> tuple[str, ...]:
    """Node names."""
    return parse_names(text(value))


def texts(value: Any) -> tuple[str, ...]:
    """A list of pieces of text."""
    if not isinstance(value, list):
        raise BadValue(f'{shown(value)} is not a list; write ["…", "…"]')
    for item in value:
        if not isinstance(item, str) or "\0" in item:
            raise BadValue(f"{shown(item)} in the list is not text; put it in quotes")
        if len(item) > MOST_TEXT:
            raise BadValue(f"a text in the list is longer than {MOST_TEXT:,} characters")
    return tuple(value)


def text_or_texts(value: Any) -> tuple[str, ...]:
    """One name or a list of several."""
    if isinstance(value, str):
        return (text(value),)
    several = texts(value)
    if not several:
        raise BadValue("the list is empty; leave the key out instead")
    return several


def template(value: Any) -> str:
    """A path with placeholders."""
    if text(value).endswith("/"):
        raise BadValue(f"{shown(value)} names a folder; add a file's name")
    return str(value)


def table_of(value: Any) -> dict[str, Any]:
    """A table."""
    if not isinstance(value, dict):
        raise BadValue(f"{shown(value)} is not a table; write {{ key = value }}")
    return value


def environment(value: Any) -> dict[str, Any]:
    """A table of variables, with ``inherit``."""
    table = table_of(value)
    for name, item in table.items():
        if name == "inherit":
            flag(item)
            continue
        check_variable(name)
        if isinstance(item, bool | dict | list):
            raise BadValue(f"{name} is neither text nor a number")
        if "\0" in str(item):
            raise BadValue(f"{name} holds a zero byte, which no variable can")
    return table


def instant(value: Any) -> datetime:
    """A date-time; without an offset it has no zone yet, and a date is its midnight."""
    if isinstance(value, date):
        value = value.isoformat()
    parse_instant(text(value))
    return datetime.fromisoformat(value.strip())


def one_of(*words: str) -> Reader:
    """A reader of one of a few words."""

    def read(value: Any) -> str:
        if not isinstance(value, str) or value not in words:
            raise BadValue(f"{shown(value)} is unknown; it is " + " or ".join(f'"{word}"' for word in words))
        return str(value)

    return read
