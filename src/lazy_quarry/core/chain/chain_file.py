"""Reading a chain file: TOML with the chain's jobs, what is shared by all, and what each waits for."""

import tomllib
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import tomlkit
from msgspec import Struct, field

from lazy_quarry.core.chain.chain import MOST_JOBS, Chain, ChainJob
from lazy_quarry.core.chain.graph import cycles, never, ordered
from lazy_quarry.core.header.block import read_toml, unfit
from lazy_quarry.core.header.check import override_values
from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, error, hint
from lazy_quarry.core.header.keys import CONDITIONS, KEYS, notify
from lazy_quarry.core.header.nearest import closest
from lazy_quarry.core.header.toml_places import TextPlace, nearest_place, scan
from lazy_quarry.core.header.values import job_name, texts
from lazy_quarry.core.header.variable_names import check_parameter_name
from lazy_quarry.core.job.notice import Notify
from lazy_quarry.core.paths import fill_in
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.errors import BadValue

TOP = ("name", "notify", "parameters", "shared", "jobs")
OWN = ("script", "commands", "arguments", "after")
"""Keys of a job of a chain that no header has, or has otherwise."""
WITHOUT_FILE, SAFE_LINE = ("#!/usr/bin/env bash", "# /// job", "# ///"), "set -euo pipefail"
"""The lines around commands that are given in place of a script, and the one before them."""


class ChainRead(Struct):
    """The result of reading: the chain where it could be made out, and the findings, worst first.

    ``places`` say where the keys of the file stand; ``waits`` are its jobs with what each waits for, also where something
    must change, unless they wait for one another.
    """

    chain: Chain | None
    findings: tuple[Diagnostic, ...] = ()
    places: dict[tuple[str, ...], TextPlace] = field(default_factory=dict)
    waits: dict[str, tuple[tuple[str, str], ...]] = field(default_factory=dict)

    def line(self, job: str, *path: str) -> int:
        """The line of a header key that the file sets for a job, or for all; else the job's own."""
        for at in (("jobs", job, *path), ("shared", *path)):
            if path and at[: len(at) - len(path) + 1] in self.places and (place := nearest_place(self.places, at)):
                return place.line
        place = nearest_place(self.places, ("jobs", job))
        return place.line if place else 1


def read_chain(text: str, scripts: Mapping[str, str | None], settings: Iterable[str] = (), name: str = "") -> ChainRead:
    """Read a chain file. Never raises for what the file holds.

    ``scripts`` are the texts of the scripts that it names, by their paths as they stand there; None for one that can't be
    read. ``settings`` are ``NAME=VALUE`` for its parameters; ``name`` is the chain's where the file gives none.
    """
    if problems := unfit(text):
        return ChainRead(None, tuple(problems))
    seen = scan(text, 1, 0)
    if seen.deep_line:
        return ChainRead(None, (error("toml", "this is nested deeper than any key of a chain is", seen.deep_line),))
    places = dict(seen.places)
    values, faults, _ = read_toml(text, seen, 1, places)
    return _Reader(text, values, places, faults, scripts).read(settings, name)


def chain_notice(text: str) -> Notify | None:
    """The mail that a chain file asks for about the chain as a whole; None for none, and for a file that can't be read."""
    if "notify" not in text:
        return None
    try:
        asked = notify(tomllib.loads(text)["notify"])
    except (tomllib.TOMLDecodeError, KeyError, BadValue, RecursionError):
        return None
    return Notify(asked["to"], asked["on"])


def scripts_named(text: str) -> tuple[str, ...]:
    """The paths of the scripts that a chain file names, as they stand there; those that can be read of a broken one."""
    if unfit(text):
        return ()
    seen = scan(text, 1, 0)
    values, _, _ = read_toml(text, seen, 1, dict(seen.places)) if not seen.deep_line else ({}, [], frozenset())
    jobs = values.get("jobs")
    found = [one.get("script") for one in jobs.values() if isinstance(one, dict)] if isinstance(jobs, dict) else []
    return tuple(dict.fromkeys(path for path in found if isinstance(path, str)))


class _Reader:
    def __init__(
        self,
        text: str,
        values: dict[str, Any],
        places: dict[tuple[str, ...], TextPlace],
        faults: list[Diagnostic],
        scripts: Mapping[str, str | None],
    ) -> None:
        self.lines = text.split("\n")
        self.values, self.places, self.found, self.scripts = values, places, list(faults), scripts
        self.parameters: dict[str, str] = {}
        self.used: set[str] = set()
        self.waits: dict[str, tuple[tuple[str, str], ...]] = {}

    def line(self, *path: str) -> int:
        place = nearest_place(self.places, path)
        return place.line if place else 1

    def say(self, code: str, message: str, *path: str, fix: Fix | None = None) -> None:
        self.found.append(error(code, message, self.line(*path), fix=fix))

    def table(self, *path: str) -> dict[str, Any]:
        """The table at a path; what is none is told."""
        value: Any = self.values
        for word in path:
            value = value.get(word, {})
        if not isinstance(value, dict):
            self.say("value", f"{'.'.join(path)} is a table: write [{'.'.join(path)}]", *path)
            return {}
        return value

    # -- all of it ---------------------------------------------------------------------------------

    def read(self, settings: Iterable[str], name: str) -> ChainRead:
        for key in self.values:
            if key not in TOP:
                self._unknown(key, TOP, key)
        if "notify" in self.values:
            try:
                notify(self.values["notify"])
            except BadValue as fault:
                self.say("value", f"notify: {fault}", "notify")
        self._read_parameters(settings)
        name = self._name(name)
        shared = self._overrides((), self.table("shared"), ("shared",))
        tables = self.table("jobs")
        if not tables and not any(one.code == "toml" for one in self.found):
            self.say("chain-empty", "a chain has jobs: [jobs.NAME] with script or commands", "jobs")
        if len(tables) > MOST_JOBS:
            self.say("chain-empty", f"a chain has at most {MOST_JOBS:,} jobs", "jobs")
            return self._done(None)
        jobs = {str(job): self._job(str(job), table, shared, tuple(tables)) for job, table in tables.items()}
        read = {job: one for job, one in jobs.items() if one is not None}
        waits = {job: one.inside for job, one in read.items()}
        self._order(waits)
        self._unused(waits)
        if any(one.severity == "error" for one in self.found) or not read:
            return self._done(None)
        return self._done(Chain(name, tuple(read[job] for job in ordered(waits)), tuple(self.parameters.items())))

    def _done(self, chain: Chain | None) -> ChainRead:
        return ChainRead(chain, tuple(sorted(self.found, key=lambda one: one.rank)), self.places, self.waits)

    def _name(self, otherwise: str) -> str:
        try:
            return job_name(self.values.get("name", otherwise or "chain"))
        except BadValue as fault:
            self.say("value", f"name: {fault}", "name")
            return "chain"

    def _read_parameters(self, settings: Iterable[str]) -> None:
        given = self.table("parameters")
        for key, value in given.items():
            try:
                check_parameter_name(key)
                if isinstance(value, bool | dict | list):
                    raise BadValue("a parameter of a chain is a number or text")
                self.parameters[key] = str(value)
            except BadValue as fault:
                self.say("value", f"parameters: {key}: {fault}", "parameters", key)
        for setting in settings:
            holder: dict[str, Any] = {}
            problems = override_values(holder, setting)
            key, value = next(iter(holder.items()), ("", ""))
            if problems or isinstance(value, dict | list | bool):
                self.found.append(
                    error("override", f'in --set: "{shortened(setting)}" is not NAME=VALUE of a parameter', 0)
                )
            elif key not in given:
                known = ", ".join(given) or "none"
                said = f'in --set: there is no parameter "{shortened(key)}" here; there are: {known}'
                self.found.append(error("override", said, 0))
            else:
                self.parameters[key] = str(value)

    # -- a job -------------------------------------------------------------------------------------

    def _job(self, name: str, table: Any, shared: tuple[str, ...], names: tuple[str, ...]) -> ChainJob | None:
        at = ("jobs", name)
        before = sum(one.severity == "error" for one in self.found)
        if not isinstance(table, dict):
            self.say("value", f"jobs.{name} is a table: write [jobs.{name}]", *at)
            return None
        try:
            job_name(name)
        except BadValue as fault:
            self.say("value", f"{fault}", *at)
        script, path = self._script(name, table)
        own = {key: value for key, value in table.items() if key not in OWN}
        overrides = self._overrides((name,), own, at)
        told = (f'name="{name}"', *(f'environment.{key}="{_quoted(value)}"' for key, value in self.parameters.items()))
        arguments = self._arguments(name, table)
        after = tuple(self._after(name, table.get("after", {}), names))
        if script is None or sum(one.severity == "error" for one in self.found) > before:
            # what it waits for is looked at all the same
            return ChainJob(name, script or "", path, after=after, line=self.line(*at))
        return ChainJob(
            name, script, path, shared, overrides, told, arguments=arguments, after=after, line=self.line(*at)
        )

    def _script(self, name: str, table: dict[str, Any]) -> tuple[str | None, str]:
        at = ("jobs", name)
        if ("script" in table) == ("commands" in table):
            what = 'what it runs: script = "F" or commands = ["..."]'
            what = "either script or commands, not both" if "script" in table else what
            self.say("chain-script", f"{name} says {what}", *at)
            return None, ""
        if "commands" in table:
            try:
                commands = texts(table["commands"])
            except BadValue as fault:
                self.say("value", f"commands: {fault}", *at, "commands")
                return None, ""
            lines = [self._filled(line) for line in commands]
            return "\n".join([*WITHOUT_FILE, SAFE_LINE, *lines, ""]), ""
        path = table["script"]
        if not isinstance(path, str) or not path.strip():
            self.say("value", "script is the path of a script, in quotes", *at, "script")
            return None, ""
        if self.scripts.get(path) is None:
            self.say("file-absent", f"{shortened(path)} cannot be read", *at, "script")
            return None, path
        return self.scripts[path], path

    def _arguments(self, name: str, table: dict[str, Any]) -> tuple[str, ...]:
        try:
            return tuple(self._filled(str(word)) for word in texts(table.get("arguments", [])))
        except BadValue as fault:
            self.say("value", f"arguments: {fault}", "jobs", name, "arguments")
            return ()

    def _filled(self, words: str) -> str:
        self.used |= {
            key for key in self.parameters if f"{{{key}}}" in words or f"${key}" in words or f"${{{key}" in words
        }
        return fill_in(words, self.parameters)

    def _overrides(self, of: tuple[str, ...], table: Mapping[str, Any], at: tuple[str, ...]) -> tuple[str, ...]:
        found: list[str] = []
        for key, value in table.items():
            if key not in KEYS:
                self._unknown(key, (*KEYS, *(OWN if of else ())), *at, key)
                continue
            if key in ("name", "after", "arguments"):
                told = "is told by [jobs.NAME] itself" if key == "name" else "belongs to each job"
                self.say("value", f"{key} {told}", *at, key)
                continue
            found += [f"{dotted}={text}" for dotted, text in self._flat(key, value)]
        return tuple(found)

    def _flat(self, key: str, value: Any) -> Iterator[tuple[str, str]]:
        """A value as ``KEY=VALUE`` says it: tables by dotted keys, text with the chain's parameters filled in."""
        if isinstance(value, dict):
            for inner, one in value.items():
                yield from self._flat(f"{key}.{inner}", one)
        else:
            yield key, tomlkit.item(self._deep(value)).as_string()

    def _deep(self, value: Any) -> Any:
        if isinstance(value, str):
            return self._filled(value)
        if isinstance(value, list):
            return [self._deep(one) for one in value]
        return {key: self._deep(one) for key, one in value.items()} if isinstance(value, dict) else value

    def _after(self, name: str, table: Any, names: tuple[str, ...]) -> Iterator[tuple[str, str]]:
        at = ("jobs", name, "after")
        if not isinstance(table, dict):
            self.say("value", 'after says which job and how: { prepare = "succeeds" }', *at)
            return
        for other, condition in table.items():
            if condition not in CONDITIONS:
                known = ", ".join(CONDITIONS)
                self.say(
                    "value", f"{shortened(str(condition))} of {other} is not a condition; there are {known}", *at, other
                )
            elif other == name:
                self.say("chain-cycle", f"{name} waits for itself", *at, other)
            elif other not in names and not other.isdecimal():
                near = closest(other, names)
                said = f'; "{near}" was probably meant' if near else f"; there are {', '.join(names[:8])}"
                self.say(
                    "chain-unknown", f'{name} waits for "{shortened(other)}", which is no job here{said}', *at, other
                )
            else:
                yield other, condition

    # -- how they hang together --------------------------------------------------------------------

    def _order(self, waits: dict[str, tuple[tuple[str, str], ...]]) -> None:
        loops = list(cycles(waits))
        self.waits = {} if loops else waits
        for loop in loops:
            told = " waits for ".join((*loop, loop[0]))
            self.say(
                "chain-cycle", f"these wait for one another, so none could start: {told}", "jobs", loop[0], "after"
            )
        if loops:
            return
        for job, other in never(waits):
            words = f"{job} can never start: {other} would have to succeed and to fail"
            self.say("chain-never", words, "jobs", job, "after")

    def _unused(self, waits: dict[str, tuple[tuple[str, str], ...]]) -> None:
        named = {other for after in waits.values() for other, _ in after}
        alone = [job for job, after in waits.items() if not after and job not in named]
        if len(waits) > 1:
            for job in alone:
                said = f"{job} waits for none, and none waits for it"
                self.found.append(hint("chain-alone", said, self.line("jobs", job)))
        texts_ = "\n".join(script or "" for script in self.scripts.values())
        for key in self.parameters:
            if (
                key not in self.used
                and f"${key}" not in texts_
                and f"${{{key}" not in texts_
                and f'"{key}"' not in texts_
            ):
                self.found.append(hint("parameter-unused", f"no job uses {key}", self.line("parameters", key)))

    def _unknown(self, key: str, known: Iterable[str], *path: str) -> None:
        near = closest(key, known)
        line = self.line(*path)
        fix = None
        text = self.lines[line - 1] if line <= len(self.lines) else ""
        if near and text.lstrip().startswith(key):
            fix = Fix(f"write {near}", line, line, (text.replace(key, near, 1),))
        said = f'; "{near}" was probably meant' if near else ""
        self.found.append(error("key-unknown", f'"{shortened(key)}" is no key here{said}', line, fix=fix))


def _quoted(value: str) -> str:
    return value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
