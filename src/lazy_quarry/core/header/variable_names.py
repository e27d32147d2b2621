"""The names that a variable of a job may have, and those that a job is given anyway."""

import re

from lazy_quarry.errors import BadValue

_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_GIVEN = frozenset(
    [
        "PATH",
        "HOME",
        "USER",
        "LOGNAME",
        "LANG",
        "PWD",
        "OLDPWD",
        "SHELL",
        "SHLVL",
        "IFS",
        "ENV",
        "UID",
        "EUID",
        "PPID",
        "SHELLOPTS",
        "OMP_NUM_THREADS",
        "_",
    ]
)
"""Variables that every job has, or its shell sets or keeps anyone from setting."""


def check_variable(name: str) -> None:
    """Raises :class:`BadValue` for what can't be the name of a variable, or is a name that we set ourselves."""
    if not _VARIABLE.fullmatch(name):
        raise BadValue(f"{name} can't be a variable's name")
    if name.startswith("LQ_"):
        raise BadValue(f"{name} is set by Lazy Quarry itself; choose another name")


def check_parameter_name(name: str) -> None:
    """A parameter becomes a variable of every task, and must not replace one that the task is given otherwise."""
    try:
        check_variable(name)
    except BadValue as fault:
        raise BadValue(f"parameter {fault}") from None
    if name in _GIVEN or name.startswith("BASH"):
        raise BadValue(
            f"parameter {name} would replace a variable that a job or its shell has anyway; choose another name"
        )
