"""The helpers inside of a job, as the command line lists them; they go their own short way (``entry.py``)."""

import sys

import click

from lazy_quarry.cli.options import behind_dashes
from lazy_quarry.inside.main import main


def _run(helper: str, words: list[str]) -> None:
    sys.stdout.flush()
    raise click.exceptions.Exit(main([helper, *words, "--", *behind_dashes()]))


def _given(**options: object) -> list[str]:
    """Options as words again."""
    words: list[str] = []
    for name, value in options.items():
        values = value if isinstance(value, tuple) else (value,)
        for one in values:
            if one is True:
                words.append(f"--{name.replace('_', '-')}")
            elif one not in (None, False, ""):
                words += [f"--{name.replace('_', '-')}", str(one)]
    return words


@click.command("phase", options_metavar="NAME -- COMMAND...")
@click.argument("name", metavar="")
def phase_command(name: str) -> None:
    """Inside a job: run a command as a named part, with a time, CPU, memory and outcome of its own in the job's record.

    Phases may be nested, and stand beside one another. The exit status is that of the command. From Python:
    import lq_inside, and with lq_inside.phase("solve"): ...
    """
    _run("phase", [name])


@click.command("ranks", options_metavar="[--output FORM] [--keep-going] -- COMMAND...")
@click.option("--output", metavar="FORM", help='a path with {rank} in it, or "plain"; else lines begin with their rank')
@click.option("--keep-going", is_flag=True, help="let the others go on when one fails")
def ranks_command(output: str, keep_going: bool) -> None:
    """Inside a job: run a command once for each rank, without MPI, each bound to its own cores.

    Each has LQ_RANK and LQ_RANKS. When one fails the others are ended, and its exit status is that of all.
    """
    _run("ranks", _given(output=output, keep_going=keep_going))


@click.command("spread", options_metavar="[OPTIONS] -- COMMAND...")
@click.option(
    "--with", "withs", metavar="NAME=V,V,...", multiple=True, help="values, 'range A..B by C' or 'files PATTERN'"
)
@click.option("--table", metavar="F.csv", help="a row a task, the columns its parameters")
@click.option("--lines", metavar="F|-", help="a line a task, as {line}")
@click.option("--together", metavar="A,B", multiple=True, help="parameters that go in step")
@click.option("--cores", metavar="N", help="cores of each task")
@click.option("--at-once", metavar="N", help="no more at a time")
@click.option("--journal", metavar="F", help="where it is kept what is done")
@click.option("--stop-at-failure", is_flag=True, help="start no more when one fails")
def spread_command(withs: tuple[str, ...], **options: object) -> None:
    """Inside a job: run many small tasks side by side on all cores that it was given.

    {NAME}, {COLUMN}, {line} and {task} in the command are filled in; parameters are variables too. What is done is kept
    in a journal: run again with it, that is skipped. Exit 0: all are done, 1: some failed, 2: it could not be done.
    """
    _run("spread", [*(word for one in withs for word in ("--with", one)), *_given(**options)])
