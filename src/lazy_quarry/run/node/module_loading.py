"""Loads modules before a script, where the machine has a ``module`` command."""

from __future__ import annotations

import shlex

FIND_MODULE = "type module >/dev/null 2>&1 || . /etc/profile >/dev/null 2>&1; type module >/dev/null 2>&1"
"""Shell words that succeed where there is a ``module`` command, and make it known."""


def loading(modules: list[str], then: str) -> str:
    """A bash script that unloads everything, loads what is named, and becomes ``then``."""
    lines = ["#!/usr/bin/env bash", f'{FIND_MODULE} || {{ echo "there is no module command here" >&2; exit 127; }}']
    lines.append("module purge >/dev/null 2>&1")
    for name in modules:
        quoted = shlex.quote(name)
        lines.append(f'module load {quoted} || {{ echo "module {name} cannot be loaded" >&2; exit 127; }}')
    return "\n".join([*lines, f'exec {shlex.quote(then)} "$@"', ""])
