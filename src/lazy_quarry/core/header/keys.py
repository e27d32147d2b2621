"""The keys of a header: how each value is read. A reader raises :class:`BadValue` with what to write instead."""

import re
from typing import Any, Literal

from msgspec import Struct

from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.core.header.values import (
    Reader,
    count,
    duration,
    duration_or_none,
    environment,
    flag,
    instant,
    job_name,
    memory,
    names,
    nodes,
    one_of,
    shown,
    size,
    table_of,
    template,
    text,
    text_or_texts,
    texts,
    traits,
)
from lazy_quarry.core.header.variable_names import check_parameter_name
from lazy_quarry.core.job.request import RETRIED, Rehearsal, Retries
from lazy_quarry.core.job.sweep import parse_tasks
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.units import MOST_NODES, parse_duration
from lazy_quarry.errors import BadValue

PLACEHOLDERS = ("name", "job", "task", "user", "node", "date")


def stage(value: Any) -> dict[str, Any]:
    """``{ in = [paths], out = [paths], keep = false }``."""
    return _known(value, {"in": texts, "out": texts, "keep": flag})


def _notice(word: str) -> None:
    if word in ("started", "done", "failed", "overtime", "again", "quiet"):
        return
    if re.fullmatch(r"[1-9]\d?%", word):
        return
    if word.endswith(" left"):
        parse_duration(word.removesuffix(" left"))
        return
    raise BadValue(
        f'"{shortened(word)}" is no notice; there are started, done, failed, overtime, again, quiet, a share like "75%", '
        'and time left like "20m left"'
    )


def notify(value: Any) -> dict[str, Any]:
    """``{ to = address, on = [...] }``."""
    table = _known(value, {"to": text, "on": texts})
    if "to" not in table:
        raise BadValue('there is no address; add to = "you@example.org"')
    if not re.fullmatch(r"[^@\s]+@[^@\s]+", table["to"]):
        raise BadValue(f"{shown(table['to'])} is not a mail address")
    if not table.get("on"):
        raise BadValue('it doesn\'t say when; add on = ["failed"]')
    for word in table["on"]:
        _notice(word)
    return table


CONDITIONS = ("succeeds", "fails", "finishes", "begins", "each-succeeds")


def after(value: Any) -> dict[str, Any]:
    """``{ JOB = CONDITION }``."""
    if not isinstance(value, dict):
        word = f"{value}".strip() or "JOB"
        raise BadValue(
            f'it names jobs, each with its condition: {{ {word} = "succeeds" }}, or --set after.{word}=succeeds'
        )
    table = table_of(value)
    for job, condition in table.items():
        if not isinstance(condition, str) or condition not in CONDITIONS:
            words = ", ".join(CONDITIONS)
            raise BadValue(f"{shown(condition)} of {shortened(job)} is not a condition; there are {words}")
    return table


def _ranges(value: Any) -> str:
    """Ranges as text; a number says how many."""
    if isinstance(value, int) and not isinstance(value, bool):
        value = f"1..{value}" if value > 0 else str(value)
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
        f"{shown(value)} is not a parameter; write a list, "
        '{ range = "0..1 by 0.1" }, { lines = "file" }, { column = "name", of = "file.csv" } or { files = "*.nc" }'
    )


def _together(value: Any) -> None:
    if not isinstance(value, list) or not all(
        isinstance(group, list) and all(isinstance(name, str) for name in group) for group in value
    ):
        raise BadValue('together is a list of lists of names: [["level", "label"]]')


def array(value: Any) -> dict[str, Any]:
    """The table of an array, its sweep included."""
    table = _known(value, {"tasks": _ranges, "at-once": count(1), "each-node": traits, "sweep": table_of})
    for name, parameter in table.get("sweep", {}).items():
        try:
            if name == "together":
                _together(parameter)
            else:
                check_parameter_name(name)
                _parameter(parameter)
        except BadValue as fault:
            raise BadValue(f"sweep: {fault}", ("sweep", name)) from None
    return table


def retries(value: Any) -> Retries:
    """Read how often to run again, and after what: a number, or a table."""
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
        if not isinstance(one, str) or one not in RETRIED:
            raise BadValue(f"{shown(one)} is none of {', '.join(RETRIED)}")
    return tuple(dict.fromkeys(value))


def _runtime(value: Any) -> tuple[int, int]:
    shortest, dots, longest = text(value).partition("..")
    pair = (duration(shortest.strip()), duration((longest if dots else shortest).strip()))
    if pair[0] > pair[1]:
        raise BadValue(f"{shown(value)} runs backwards")
    return pair


def _busy(value: Any) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value <= 1_000_000:
        raise BadValue(f"{shown(value)} is not a number of cores")
    return float(value)


def rehearsal(value: Any) -> Rehearsal:
    """Read the job's behaviour on the in-memory cluster."""
    readers = {"runtime": _runtime, "memory": size, "busy": _busy, "exit": count(0, 255)}
    table = _known(value, {**readers, "phases": _phases, "spread": count(1, 100_000), "prints": text})
    return Rehearsal(
        table.get("runtime"),
        table.get("memory"),
        table.get("busy"),
        table.get("exit"),
        table.get("phases", ()),
        table.get("spread", 0),
        table.get("prints", ""),
    )


def _phases(value: Any) -> tuple[tuple[str, float], ...]:
    shares = []
    for name, share in table_of(value).items():
        if not name.strip() or len(name) > 64:
            raise BadValue("a phase's name has 1 to 64 characters")
        if isinstance(share, bool) or not isinstance(share, int | float) or not 0 < share <= 1_000_000:
            raise BadValue(f"{name}: {shown(share)} is not how long it takes beside the others, a number above 0")
        shares.append((str(name), float(share)))
    return tuple(shares)


def _known(value: Any, readers: dict[str, Reader]) -> dict[str, Any]:
    read = {}
    for key, item in table_of(value).items():
        if key not in readers:
            raise BadValue(f'"{shortened(key)}" is unknown here{nearest(key, readers)}', (key,))
        try:
            read[key] = readers[key](item)
        except BadValue as fault:
            raise BadValue(f"{key}: {fault}", (key, *fault.path)) from None
    return read


IN_TABLES = {
    "tasks": "array.tasks",
    "at-once": "array.at-once",
    "each-node": "array.each-node",
    "sweep": "array.sweep",
    "range": "array.sweep.NAME.range",
    "lines": "array.sweep.NAME.lines",
    "files": "array.sweep.NAME.files",
    "together": "array.sweep.together",
    "in": "stage.in",
    "out": "stage.out",
    "keep": "stage.keep",
    "inherit": "environment.inherit",
    "to": "notify.to",
    "on": "notify.on",
    "times": "retries.times",
    "runtime": "rehearsal.runtime",
    "busy": "rehearsal.busy",
    "exit": "rehearsal.exit",
}
"""Keys that lie in a table of the header, as they are written with it."""


DialKind = Literal["text", "number", "flag", "names", "duration", "memory", "nodes", "ranks", "traits", "at once"]
"""The sort of a key's value, for whoever turns it or types it."""
NamesOf = Literal["", "accounts", "queues", "tiers", "traits", "nodes", "modules"]
"""What a site has names of."""


class HeaderKey(Struct, frozen=True):
    """A key of the header: all that is to be said of it."""

    read: Reader
    """Reads its value."""
    fields: tuple[str, ...]
    """The fields of a request that it decides."""
    note: str = ""
    """Its meaning, in a sentence for whoever writes it."""
    plan: bool = False
    """True when the plan goes by it."""
    sizes: bool = False
    """True when a request can't be compared with limits where it can't be read."""
    plain: bool = False
    """True when its one field takes the value as it was read; the request's own default, where it isn't there."""
    words: tuple[str, ...] = ()
    """Words that it takes, to be offered to whoever types."""
    names: NamesOf = ""
    """The names of the site that it takes, to be offered too."""
    dial: DialKind = "text"
    """The control for it goes by this: its steps, and the words that it takes."""


_YES_OR_NO, _AT_OVERTIME = ("true", "false"), ("stop", "again")


def _plain(
    read: Reader,
    field: str,
    note: str = "",
    *,
    plan: bool = False,
    sizes: bool = False,
    words: tuple[str, ...] = (),
    names: NamesOf = "",
    dial: DialKind = "text",
) -> HeaderKey:
    return HeaderKey(read, (field,), note, plan, sizes, plain=True, words=words, names=names, dial=dial)


KEYS: dict[str, HeaderKey] = {
    "name": HeaderKey(job_name, ("name",), "What it is called: letters, digits and . _ - only."),
    "account": HeaderKey(text, ("account",), "What is charged for it.", names="accounts"),
    "queue": HeaderKey(
        text_or_texts,
        ("queues",),
        "Which nodes, under which limits; a list means any of them will do.",
        plan=True,
        sizes=True,
        names="queues",
        dial="names",
    ),
    "tier": HeaderKey(
        text, ("tier",), "The level of service: priority, limits, charge.", plan=True, sizes=True, names="tiers"
    ),
    "walltime": HeaderKey(
        duration,
        ("walltime_s",),
        "The longest it may run; it is stopped at the limit. The less you ask for, the sooner a gap fits it.",
        plan=True,
        sizes=True,
        dial="duration",
    ),
    "warn": _plain(duration, "warn_s", "So long before its end the script gets SIGUSR1, to save its work."),
    "grace": _plain(duration_or_none, "grace_s", "Between SIGTERM at the end of the walltime and SIGKILL.", plan=True),
    "nodes": HeaderKey(
        nodes,
        ("nodes", "most_nodes", "anywhere"),
        "The number of nodes for the ranks; without it, as few as possible.",
        plan=True,
        sizes=True,
        words=("any",),
        dial="nodes",
    ),
    "ranks": HeaderKey(
        count(1),
        ("ranks",),
        "The total of processes, spread over the nodes as evenly as possible.",
        plan=True,
        sizes=True,
        dial="ranks",
    ),
    "ranks-per-node": HeaderKey(
        count(1),
        ("ranks_per_node",),
        "Processes on each node.",
        plan=True,
        sizes=True,
        dial="ranks",
    ),
    "threads": _plain(
        count(1, MOST_NODES),
        "threads",
        "Cores for each rank.",
        plan=True,
        sizes=True,
        dial="number",
    ),
    "whole-nodes": _plain(
        flag,
        "whole_nodes",
        "No other job runs on its nodes; all their cores are charged.",
        plan=True,
        sizes=True,
        words=_YES_OR_NO,
        dial="flag",
    ),
    "memory": HeaderKey(
        memory,
        ("memory",),
        "What it may use, for each core, rank, node or the whole job. A job that uses more is stopped.",
        plan=True,
        sizes=True,
        dial="memory",
    ),
    "gpus": _plain(
        count(0, 1000),
        "gpus",
        "GPUs for each node.",
        plan=True,
        sizes=True,
        dial="number",
    ),
    "gpu-memory": _plain(size, "gpu_memory_mib", "Memory that each GPU must have.", plan=True),
    "scratch": _plain(size, "scratch_mib", "Local disk for each node, in $LQ_SCRATCH.", plan=True),
    "traits": _plain(
        traits,
        "traits",
        "Properties its nodes must have, with and, or, not and ( ).",
        plan=True,
        sizes=True,
        names="traits",
        dial="traits",
    ),
    "on-nodes": _plain(
        names, "on_nodes", "It runs only on these nodes, as in c01..c08, m02.", plan=True, names="nodes"
    ),
    "arguments": HeaderKey(texts, ("arguments",), "Words given to the script as $1, $2 …"),
    "prepare": _plain(texts, "prepare", "Commands run before the script's own, in its shell."),
    "directory": _plain(text, "directory", "Where it starts; without it, where it was submitted."),
    "output": HeaderKey(
        template, ("output",), "Where it prints; {name} {job} {user} {date} are filled in. Folders are made."
    ),
    "errors": _plain(
        lambda value: value if value == "joined" else template(value),
        "errors",
        "Where its standard error goes; joined puts it into the output.",
        words=("joined",),
    ),
    "input": _plain(text, "input", "A file for its standard input."),
    "environment": HeaderKey(environment, ("environment", "inherit"), "Variables it gets; inherit = true adds yours."),
    "modules": _plain(
        texts, "modules", "What is loaded before it starts, after everything else is unloaded.", names="modules"
    ),
    "stage": HeaderKey(
        stage,
        ("stage",),
        "in is copied to $LQ_SCRATCH before, out back after, however it ends; keep leaves the folder for later jobs.",
    ),
    "summary": _plain(
        flag, "summary", "The output ends with a few lines: what was asked, what was used.", words=_YES_OR_NO
    ),
    "expect": _plain(
        texts, "expect", "Files that must be there and not empty when it is done, or it counts as failed."
    ),
    "readable-by": _plain(text, "readable_by", "A group that may read what it writes; otherwise nobody else may."),
    "notify": HeaderKey(notify, ("notify",)),
    "after": HeaderKey(after, ("after",)),
    "not-before": HeaderKey(instant, ("not_before_ms",), "It does not start before this date and time.", plan=True),
    "retries": _plain(
        retries, "retries", "How often it runs again after a failure or a lost node; or { times = 2, on = [...] }."
    ),
    "at-overtime": HeaderKey(
        one_of(*_AT_OVERTIME),
        ("again_at_overtime",),
        "stop, or again: back to the queue, for scripts that resume.",
        words=_AT_OVERTIME,
    ),
    "array": HeaderKey(array, ("array",)),
    "rehearsal": _plain(rehearsal, "rehearsal"),
}
NOTES_IN_TABLES = {
    "tasks": "Which tasks there are: 1..40, 0..90 by 10, or 1, 4, 9..12.",
    "at-once": "At most so many tasks run at a time.",
}
"""Meanings of keys that lie in a table of the header."""
_DIALS_IN_TABLES: dict[str, DialKind] = {"array.at-once": "at once"}
PLANNED = tuple(field for one in KEYS.values() if one.plan for field in one.fields)
"""The fields of a request by which the plan goes."""


def note_of(key: str) -> str:
    """Explain a key, also one that lies in a table; empty for none."""
    return KEYS[key].note if key in KEYS else NOTES_IN_TABLES.get(key, "")


def dial_of(key: str) -> DialKind:
    """The sort of a key's value, also of one that lies in a table."""
    return KEYS[key].dial if key in KEYS else _DIALS_IN_TABLES[key]
