"""The command line. Exit 0: done. 1: the answer is no. 2: it could not be done, with one line on stderr."""

from __future__ import annotations

import gc
import os
import sys
from contextlib import suppress
from importlib import import_module
from typing import Any, NoReturn

import click

from lazy_quarry import __version__
from lazy_quarry.cli.command_table import COMMANDS
from lazy_quarry.cli.options import check_site, state_option
from lazy_quarry.cli.streams import drop_output, hold_streams
from lazy_quarry.errors import QuarryError

COMPLETE = "_LAZY_QUARRY_COMPLETE"
"""Set by a shell that asks for completions."""

COLLECT_AFTER = 50_000
"""New objects between two searches for unreachable ones. At Python's own 700 they cost a tenth of a short command."""


class Commands(click.Group):
    """The table of commands as a group; a command is imported when it is called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The names, in the order of the work."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """A command by its name, or None for none."""
        if cmd_name not in COMMANDS:
            return None
        module = import_module(f"lazy_quarry.cli.commands.{COMMANDS[cmd_name][0]}")
        command: click.Command = module.__dict__[f"{cmd_name}_command"]
        command.help = command.help or COMMANDS[cmd_name][1]
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The table, without importing any of them."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, words) for name, (_, words) in COMMANDS.items()])


@click.group(cls=Commands, invoke_without_command=True, context_settings={"max_content_width": 120})
@click.option("--version", is_flag=True, help="print the version")
@state_option
@click.pass_context
def start(context: click.Context, version: bool, state: str) -> None:
    """Write, place, run, watch and account for batch jobs. Without a command: open this machine's site."""
    if version:
        click.echo(f"lazy-quarry {__version__}")
    elif context.invoked_subcommand is None:
        from lazy_quarry.app.open_site import open_machine

        check_site()
        open_machine(state)


def _fail(message: str, code: int) -> NoReturn:
    print(f"lazy-quarry: {message}", file=sys.stderr)
    sys.exit(code)


def _missing(fault: click.MissingParameter) -> str:
    """Name what is missing, as it would be written, and where it can be found."""
    command = fault.ctx.command_path.removeprefix("lazy-quarry ") if fault.ctx else ""
    what = fault.param.make_metavar(fault.ctx) if fault.param and fault.ctx else "something"
    where = (
        "lq jobs lists them, lq jobs --ended those that are over"
        if "JOB" in what
        else f"lq {command} --help has an example"
    )
    return f"{command} needs {what}, as lq {command} {what.rstrip('.')}; {where}"


def console() -> None:
    """The entry point of ``lazy-quarry`` and ``lq``.

    A command that is done leaves at once: to take all modules apart would cost it a fifth of its time. The
    application has threads that may still be writing, so it leaves as Python does.
    """
    gc.set_threshold(COLLECT_AFTER)
    hold_streams()
    try:
        main()
        code: Any = 0
    except SystemExit as fault:
        code = fault.code
    if "lazy_quarry.app" in sys.modules or not isinstance(code, int):
        sys.exit(code)
    with suppress(OSError):
        sys.stdout.flush()  # what was printed before a refusal
    os._exit(code)


def main(arguments: list[str] | None = None) -> None:
    """Run the command line; leaves by :class:`SystemExit`."""
    if COMPLETE in os.environ:
        from lazy_quarry.cli.commands.completion import answer_shell

        answer_shell(start, os.environ[COMPLETE])
        return
    words, behind = list(sys.argv[1:] if arguments is None else arguments), list[str]()
    if "--" in words:
        at = words.index("--")
        words, behind = words[:at], words[at + 1 :]
    try:
        try:
            done: Any = start(words, prog_name="lazy-quarry", standalone_mode=False, obj=behind)
        except click.exceptions.Exit as fault:
            done = fault.exit_code
        sys.stdout.flush()  # here, where a full disk or a closed pipe can still be told
        sys.exit(done if isinstance(done, int) else 0)
    except click.Abort:
        _fail("stopped", 2)
    except click.NoSuchOption as fault:
        from lazy_quarry.cli.options import unknown_option

        at = next((at for at, word in enumerate(words) if word.partition("=")[0] == fault.option_name), len(words))
        _fail(unknown_option(words[at] if at < len(words) else fault.option_name, words[at + 1 :]), 2)
    except click.MissingParameter as fault:
        _fail(_missing(fault), 2)
    except click.ClickException as fault:
        _fail(f"{fault.format_message().rstrip('.')}; lazy-quarry --help lists what there is", 2)
    except QuarryError as fault:
        _fail(str(fault), 2)
    except KeyboardInterrupt:
        _fail("stopped", 130)
    except BrokenPipeError:
        drop_output()  # else Python complains at its end
        sys.exit(0)
    except OSError as fault:
        _fail(f"{fault.filename or 'the output'}: {fault.strerror or fault}", 2)
