"""The keys of a header: how each value is read. A reader raises :class:`BadValue` with what to write instead."""

import difflib
import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from lazy_quarry.core.header.variable_names import check_parameter_name, check_variable
from lazy_quarry.core.job.request import RETRIED, Memory, Rehearsal, Retries
from lazy_quarry.core.job.sweep import parse_tasks
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import parse_duration, parse_instant, parse_names, parse_size
from lazy_quarry.errors import BadValue

Reader = Callable[[Any], Any]
PLACEHOLDERS = ("name", "job", "task", "user", "node", "date")
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}")


def _shown(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return f'"{value}"' if isinstance(value, str) else str(value)


def text(value: Any) -> str:
    """A piece of text that is not empty and has no NUL in it."""
    if not isinstance(value, str):
        raise BadValue(f"{_shown(value)} is not text; put it in quotes")
    if not value.strip() or "\0" in value:
        raise BadValue("it is empty; leave the key out instead" if not value.strip() else "it holds a NUL byte")
    return value


def job_name(value: Any) -> str:
    """A job's name."""
    if not _NAME.fullmatch(text(value)):
        raise BadValue(
            f"{_shown(value)} is no job name; use letters, digits and . _ -, at most 64, with a letter or digit first"
        )
    return str(value)


def duration(value: Any) -> int:
    """A duration in seconds, at least one."""
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        raise BadValue(f'{_shown(value)} is not a duration; write it like "2h 30m"')
    seconds = parse_duration(str(value))
    if seconds < 1:
        raise BadValue(f"{_shown(value)} is zero; the least is one second")
    return seconds


def duration_or_none(value: Any) -> int:
    """A duration in seconds that may be zero."""
    return 0 if str(value).strip() in ("0s", "0m", "0h", "PT0S") else duration(value)


def size(value: Any) -> int:
    """A size in MiB."""
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        raise BadValue(f'{_shown(value)} is not a size; write it like "4 GiB"')
    return parse_size(str(value))


def count(least: int, most: int = 1_000_000) -> Reader:
    """A reader of whole numbers from ``least`` to ``most``."""

    def read(value: Any) -> int:
        if isinstance(value, bool) or not isinstance(value, int):
            raise BadValue(f"{_shown(value)} is not a whole number")
        if not least <= value <= most:
            raise BadValue(f"{value} is out of range; it goes from {least} to {most:,}")
        return value

    return read


def nodes(value: Any) -> int | str:
    """A number of nodes, a range of numbers, or ``any``."""
    if isinstance(value, str):
        match = re.fullmatch(r"(\d+)\s*\.\.\s*(\d+)", value.strip())
        if value == "any" or (match and 1 <= int(match[1]) <= int(match[2])):
            return value
        raise BadValue(f'{_shown(value)} is not a number of nodes; write 2, "2..4" or "any"')
    number: int = count(1, 100_000)(value)
    return number


def flag(value: Any) -> bool:
    """True or false."""
    if not isinstance(value, bool):
        raise BadValue(f"{_shown(value)} is neither true nor false")
    return value


def memory(value: Any) -> Memory:
    """A size for each core, rank, node or job."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        raise BadValue(f'{value} has no unit; write "{value} GiB/core", or /rank, /node, /job')
    amount, slash, per = text(value).partition("/")
    if not slash:
        raise BadValue(f'"{value}" doesn\'t say of what; write "{value.strip()}/core", or /rank, /node, /job')
    if (per := per.strip()) not in ("core", "rank", "node", "job"):
        raise BadValue(f'"/{per}" is unknown; memory is per /core, /rank, /node or /job')
    mib = parse_size(amount)
    if mib < 1:
        raise BadValue("no job runs with no memory; the least is 1 MiB")
    return Memory(mib, per)  # type: ignore[arg-type]


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
        raise BadValue(f'{_shown(value)} is not a list; write ["…", "…"]')
    for item in value:
        if not isinstance(item, str) or "\0" in item:
            raise BadValue(f"{_shown(item)} in the list is not text; put it in quotes")
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
        raise BadValue(f"{_shown(value)} names a folder; add a file's name")
    return str(value)


def environment(value: Any) -> dict[str, Any]:
    """A table of variables, with ``inherit``."""
    table = _table(value)
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


def instant(value: Any) -> int:
    """A date-time as milliseconds since the epoch; without an offset it is UTC."""
    if isinstance(value, datetime):
        return parse_instant(value.isoformat())
    if isinstance(value, date):
        return parse_instant(f"{value.isoformat()}T00:00:00")
    return parse_instant(text(value))


def one_of(*words: str) -> Reader:
    """A reader of one of a few words."""

    def read(value: Any) -> str:
        if value not in words:
            raise BadValue(f"{_shown(value)} is unknown; it is " + " or ".join(f'"{word}"' for word in words))
        return str(value)

    return read


def stage(value: Any) -> dict[str, Any]:
    """``{ in = [paths], out = [paths], keep = false }``."""
    return _known(value, {"in": texts, "out": texts, "keep": flag})


def _notice(word: str) -> None:
    if word in ("started", "done", "failed", "overtime", "again"):
        return
    if re.fullmatch(r"[1-9]\d?%", word):
        return
    if word.endswith(" left"):
        parse_duration(word.removesuffix(" left"))
        return
    raise BadValue(
        f'"{word}" is no notice; there are started, done, failed, overtime, again, a share like "75%", '
        'and time left like "20m left"'
    )


def notify(value: Any) -> dict[str, Any]:
    """``{ to = address, on = [...] }``."""
    table = _known(value, {"to": text, "on": texts})
    if "to" not in table:
        raise BadValue('there is no address; add to = "you@example.org"')
    if not re.fullmatch(r"[^@\s]+@[^@\s]+", table["to"]):
        raise BadValue(f'"{table["to"]}" is not a mail address')
    if not table.get("on"):
        raise BadValue('it doesn\'t say when; add on = ["failed"]')
    for word in table["on"]:
        _notice(word)
    return table


CONDITIONS = ("succeeds", "fails", "finishes", "begins", "each-succeeds")


def after(value: Any) -> dict[str, Any]:
    """``{ JOB = CONDITION }``."""
    table = _table(value)
    for job, condition in table.items():
        if condition not in CONDITIONS:
            raise BadValue(f"{_shown(condition)} of {job} is not a condition; there are " + ", ".join(CONDITIONS))
    return table


def _ranges(value: Any) -> str:
    parse_tasks(text(value))
    return str(value)


def _parameter(value: Any) -> Any:
    if isinstance(value, list):
        if not value or any(isinstance(item, bool | dict | list) for item in value):
            raise BadValue("a parameter's list holds numbers or text, one at least")
        return value
    if isinstance(value, dict):
        known = ({"range"}, {"lines"}, {"files"}, {"column", "of"})
        if set(value) in known:
            return {key: text(item) for key, item in value.items()}
    raise BadValue(
        f"{_shown(value)} is not a parameter; write a list, "
        '{ range = "0..1 by 0.1" }, { lines = "file" }, { column = "name", of = "file.csv" } or { files = "*.nc" }'
    )


def array(value: Any) -> dict[str, Any]:
    """The table of an array, its sweep included."""
    table = _known(value, {"tasks": _ranges, "at-once": count(1), "each-node": traits, "sweep": _table})
    for name, parameter in table.get("sweep", {}).items():
        if name == "together":
            if not isinstance(parameter, list) or not all(isinstance(group, list) for group in parameter):
                raise BadValue('together is a list of lists of names: [["level", "label"]]')
        else:
            check_parameter_name(name)
            _parameter(parameter)
    return table


def retries(value: Any) -> Retries:
    """How often to run again, and after what: a number, or a table."""
    often = count(0, 100)
    if not isinstance(value, dict):
        return Retries(often(value), ("failed", "lost"))
    table = _known(value, {"times": often, "on": _ends})
    if "times" not in table:
        raise BadValue("it says how often: times = 2")
    return Retries(table["times"], table.get("on", ("failed", "lost")))


def _ends(value: Any) -> tuple[str, ...]:
    if not isinstance(value, list) or not value:
        raise BadValue(f"a list of what it runs again after: {', '.join(RETRIED)}")
    for one in value:
        if one not in RETRIED:
            raise BadValue(f"{_shown(one)} is none of {', '.join(RETRIED)}")
    return tuple(dict.fromkeys(value))


def _runtime(value: Any) -> tuple[int, int]:
    shortest, dots, longest = text(value).partition("..")
    pair = (duration(shortest.strip()), duration((longest if dots else shortest).strip()))
    if pair[0] > pair[1]:
        raise BadValue(f'"{value}" runs backwards')
    return pair


def _busy(value: Any) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or value < 0:
        raise BadValue(f"{_shown(value)} is not a number of cores")
    return float(value)


def rehearsal(value: Any) -> Rehearsal:
    """How the job behaves on the in-memory cluster."""
    table = _known(value, {"runtime": _runtime, "memory": size, "busy": _busy, "exit": count(0, 255)})
    return Rehearsal(table.get("runtime"), table.get("memory"), table.get("busy"), table.get("exit"))


def _table(value: Any) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise BadValue(f"{_shown(value)} is not a table; write {{ key = value }}")
    return value


def _known(value: Any, readers: dict[str, Reader]) -> dict[str, Any]:
    read = {}
    for key, item in _table(value).items():
        if key not in readers:
            raise BadValue(f'"{key}" is unknown here{nearest(key, readers)}')
        try:
            read[key] = readers[key](item)
        except BadValue as fault:
            raise BadValue(f"{key}: {fault}") from None
    return read


def nearest(word: str, known: Any) -> str:
    """``; did you mean X?`` when some known word is near, else the list of them when it is short."""
    near = difflib.get_close_matches(word, list(known), 1, 0.6)
    if near:
        return f'; did you mean "{near[0]}"?'
    return "; there are " + ", ".join(known) if len(list(known)) <= 8 else ""


@dataclass(frozen=True, slots=True)
class HeaderKey:
    """A key of the header. ``later`` says of a value whether its effect isn't there yet."""

    read: Reader
    later: Callable[[Any], bool] = lambda value: False


KEYS: dict[str, HeaderKey] = {
    "name": HeaderKey(job_name),
    "account": HeaderKey(text),
    "queue": HeaderKey(text_or_texts),
    "tier": HeaderKey(text),
    "walltime": HeaderKey(duration),
    "warn": HeaderKey(duration),
    "grace": HeaderKey(duration_or_none),
    "nodes": HeaderKey(nodes),
    "ranks": HeaderKey(count(1)),
    "ranks-per-node": HeaderKey(count(1)),
    "threads": HeaderKey(count(1, 100_000)),
    "whole-nodes": HeaderKey(flag),
    "memory": HeaderKey(memory),
    "gpus": HeaderKey(count(0, 1000)),
    "gpu-memory": HeaderKey(size),
    "scratch": HeaderKey(size),
    "traits": HeaderKey(traits),
    "on-nodes": HeaderKey(names),
    "arguments": HeaderKey(texts),
    "prepare": HeaderKey(texts),
    "directory": HeaderKey(text),
    "output": HeaderKey(template),
    "errors": HeaderKey(lambda value: value if value == "joined" else template(value)),
    "input": HeaderKey(text),
    "environment": HeaderKey(environment),
    "modules": HeaderKey(texts),
    "stage": HeaderKey(stage),
    "summary": HeaderKey(flag),
    "expect": HeaderKey(texts),
    "readable-by": HeaderKey(text),
    "notify": HeaderKey(notify),
    "after": HeaderKey(after),
    "not-before": HeaderKey(instant),
    "retries": HeaderKey(retries),
    "at-overtime": HeaderKey(one_of("stop", "again")),
    "array": HeaderKey(array),
    "rehearsal": HeaderKey(rehearsal),
}
