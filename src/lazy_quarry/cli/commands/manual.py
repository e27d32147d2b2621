"""The manual page lq(1), made from the same words as the helps; in the macros of man(7)."""

from __future__ import annotations

from collections.abc import Iterator

import click

from lazy_quarry import __version__
from lazy_quarry.cli.command_table import COMMANDS

_EXITS = (
    ("0", "Done."),
    ("1", "The answer is no: something must change in a script, a job failed, a command was not carried out."),
    ("2", "It could not be done: no such file, no such job, a wrong command line; a line on standard error says what."),
)
_VARIABLES = (
    ("LQ_STATE", "The folder for all that is written, as --state."),
    ("LQ_SITES", "The folder of site files, in place of the one in the configuration folder."),
    ("LQ_LOCKS", "The folder of the locks on this machine's cores, for trying things out."),
    ("NO_COLOR", "Draw without colours."),
    ("LQ_SIGNS", "Set to plain: draw with signs that every font has."),
)


@click.command("manual")
def manual_command() -> None:
    """Print the manual page; to read it: lq manual | man -l -"""
    for line in page(click.get_current_context().find_root()):
        click.echo(line)


def page(root: click.Context) -> Iterator[str]:
    """The lines of the page."""
    group = root.command
    assert isinstance(group, click.Group)
    yield f'.TH LQ 1 "" "Lazy Quarry {__version__}" "User commands"'
    yield from (".SH NAME", r"lq, lazy\-quarry \- " + _escaped("write, place, run, watch and account for batch jobs"))
    yield from (".SH SYNOPSIS", r".B lq", r"[\fICOMMAND\fR] [\fIARGUMENT\fR...]")
    yield from (".SH DESCRIPTION", "Without a command it opens this machine's site as an application in the terminal.")
    yield ".SH COMMANDS"
    for name, (_, words) in COMMANDS.items():
        command = group.get_command(root, name)
        assert command is not None
        yield ".TP"
        yield rf".B lq {_escaped(name)} {_escaped(_arguments(command))}".rstrip()
        yield _escaped(words)
        for parameter in command.params:
            if isinstance(parameter, click.Option) and not parameter.hidden:
                flags = "/".join([*parameter.opts, *parameter.secondary_opts])
                value = "" if parameter.is_flag else f" {parameter.metavar or parameter.type.name.upper()}"
                yield from (
                    ".RS",
                    ".TP",
                    rf"\fB{_escaped(flags)}\fR{_escaped(value)}",
                    _escaped(parameter.help or ""),
                    ".RE",
                )
    for heading, entries in (("EXIT STATUS", _EXITS), ("ENVIRONMENT", _VARIABLES)):
        yield f".SH {heading}"
        for word, meaning in entries:
            yield from (".TP", f".B {word}", _escaped(meaning))
    yield from (".SH FILES", ".TP", r".I ~/.config/lazy\-quarry/sites/machine.toml", "The site file.")


def _arguments(command: click.Command) -> str:
    found = [one.metavar or (one.name or "").upper() for one in command.params if isinstance(one, click.Argument)]
    return " ".join([*found, "[OPTION...]"] if any(isinstance(one, click.Option) for one in command.params) else found)


def _escaped(text: str) -> str:
    """Text with nothing in it that roff(7) would act on."""
    safe = text.replace("\\", r"\e").replace("-", r"\-")
    return rf"\&{safe}" if safe.startswith((".", "'")) else safe
