"""Changing one key of a header, and nothing else in the file."""

import re
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError

from lazy_quarry.core.header.block import find_block
from lazy_quarry.errors import BadValue


def set_key(text: str, key: str, value: Any) -> str:
    """The script with ``key`` (dotted for tables) set to ``value``; None takes it out.

    Comments, order and spacing stay; a script without a header gets one below its interpreter line.
    Raises :class:`BadValue` when the header is too broken to be edited.
    """
    block, problems = find_block(text)
    if block is None:
        if any(problem.code.startswith("header") for problem in problems):
            raise BadValue(f"line {problems[0].line}: {problems[0].message}")
        return text if value is None else _with_block(text, key, value)
    try:
        document = tomlkit.parse(block.toml)
    except TOMLKitError as fault:
        raise BadValue(f"the header is not TOML: {fault}") from None
    *tables, last = key.split(".")
    holder: Any = document
    for table in tables:
        if table not in holder:
            if value is None:
                return text
            holder[table] = tomlkit.table()
        holder = holder[table]
    added = last not in holder
    if value is None:
        holder.pop(last, None)
    else:
        holder[last] = value
    toml = tomlkit.dumps(document)
    if added and value is not None and not tables:
        toml = _aligned(toml, last)
    return _with_toml(text, block.first_line, block.last_line, block.toml, toml)


def _aligned(toml: str, key: str) -> str:
    """A new key's ``=`` put below those of the others, where they stand in one column."""
    lines = toml.split("\n")
    columns = [match.end() - 1 for line in lines if (match := re.match(r"[\w-]+ +=", line)) and not _is(key, line)]
    if not columns or len(set(columns)) > 1:
        return toml
    width = max(columns[0], len(key) + 1)
    return "\n".join(f"{key:<{width}}{line[len(key) + 1 :]}" if _is(key, line) else line for line in lines)


def _is(key: str, line: str) -> bool:
    return line.startswith(f"{key} = ")


def _with_toml(text: str, first_line: int, last_line: int, old: str, new: str) -> str:
    """Put changed TOML back behind its ``# `` marks; lines that are the same keep every byte."""
    lines = text.split("\n")
    ending = "\r" if lines[first_line - 1].endswith("\r") else ""
    old_lines, new_lines = old.split("\n"), new.split("\n")
    if new_lines and new_lines[-1] == "" and old_lines[-1:] != [""]:
        new_lines.pop()
    head = 0
    while head < min(len(old_lines), len(new_lines)) and old_lines[head] == new_lines[head]:
        head += 1
    tail = 0
    while tail < min(len(old_lines), len(new_lines)) - head and old_lines[-1 - tail] == new_lines[-1 - tail]:
        tail += 1
    changed = [
        f"# {line}".rstrip() + ending if line else f"#{ending}" for line in new_lines[head : len(new_lines) - tail]
    ]
    lines[first_line + head : last_line - 1 - tail] = changed
    return "\n".join(lines)


def _with_block(text: str, key: str, value: Any) -> str:
    document = tomlkit.document()
    holder: Any = document
    *tables, last = key.split(".")
    for table in tables:
        holder[table] = tomlkit.table()
        holder = holder[table]
    holder[last] = value
    body = [f"# {line}" if line else "#" for line in tomlkit.dumps(document).rstrip("\n").split("\n")]
    lines = text.split("\n")
    at = 1 if lines[0].startswith("#!") else 0
    lines[at:at] = ["# /// job", *body, "# ///"]
    return "\n".join(lines)
