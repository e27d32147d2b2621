"""The command that shows a sweep before it runs."""

import os
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

from lazy_quarry.cli.options import Usage, client_of, numbers_of, print_json, print_lines, say, state_option

if TYPE_CHECKING:
    from lazy_quarry.core.job.expansion import Expansion, Task
    from lazy_quarry.link.site_client import SiteClient

_SHOWN = 40


@click.command("expand")
@click.argument("script", metavar="SCRIPT|JOB")
@click.option("--set", "settings", multiple=True, metavar="KEY=VALUE", help="another value of a header key")
@click.option(
    "--limit", type=int, default=None, metavar="N", help="at most so many tasks; 40 where none is named, all in csv"
)
@click.option("--from", "first", type=int, default=None, metavar="N", help="from this task number on")
@click.option("--find", default="", metavar="WORDS", help="tasks that have all of these words")
@click.option("--sort", default="", metavar="NAME", help="in the order of a parameter; -NAME backwards")
@click.option("--format", "form", default="text", metavar="text|json|csv", help="how it is printed")
@state_option
def expand_command(
    script: str,
    settings: tuple[str, ...],
    limit: int | None,
    first: int | None,
    find: str,
    sort: str,
    form: str,
    state: str,
) -> None:
    """Show the tasks of an array or a sweep: parameters, the commands as they will run, the files they will write.

    Exit 1 when two tasks would write one file.
    """
    if form not in ("text", "json", "csv"):
        raise Usage(f"--format {form}: there are text, json and csv")
    if limit is not None and limit < 0:
        raise Usage("--limit is 0 or more")
    found = expansion(client_of(state), script, settings)
    name = sort.removeprefix("-")
    if name and name not in (*found.names, "task"):
        raise Usage(f"--sort {name}: there are {', '.join(('task', *found.names))}")
    found.show(find, name, sort.startswith("-"))
    begin = 0
    if first is not None:
        begin = next((place for place in range(len(found)) if found.task(place).number >= first), len(found))
    most = limit if limit is not None else None if form == "csv" else _SHOWN
    if form == "csv":
        from lazy_quarry.core.formats.tasks_csv import tasks_csv

        for piece in tasks_csv(found, begin, most):
            click.echo(piece, nl=False)
    elif form == "json":
        print_json([task_json(task) for task in found.rows(begin, most)])
    else:
        print_lines(_text(found, begin, most if most is not None else len(found)))
    clashes = found.clashes()
    for one in clashes:
        say(f"tasks {one.tasks[0]} and {one.tasks[1]} would both write {one.path}", err=True)
    if clashes:
        raise click.exceptions.Exit(1)


def expansion(client: "SiteClient", what: str, settings: tuple[str, ...]) -> "Expansion":
    """Expand a script that is there, else a job by its number."""
    from lazy_quarry.cli.files import submission_of
    from lazy_quarry.core.job.expansion import Expansion
    from lazy_quarry.errors import BadValue, Refused

    try:
        if what.isdecimal() and not os.path.exists(what):
            found = client.expand_job(numbers_of(client, [what])[0])
        else:
            found = client.expand(submission_of(what, settings))
    except (BadValue, Refused) as fault:
        raise Usage(f"{what}: {fault}") from None
    return Expansion(found.request, found.commands, found.written, found.job)


def task_json(task: "Task") -> dict[str, Any]:
    """A task as JSON."""
    return {
        "task": task.number,
        "parameters": dict(task.parameters),
        "command": task.command,
        "output": task.output,
        "errors": task.errors,
        "writes": list(task.writes),
    }


def _text(found: "Expansion", first: int, most: int) -> Iterator[str]:
    tasks = list(found.rows(first, most))
    heads = ["task", *found.names, "command", "writes"]
    rows = [
        [
            str(task.number),
            *(value for _, value in task.parameters),
            task.command,
            " ".join((task.output, *task.writes)),
        ]
        for task in tasks
    ]
    widths = [min(60, max([len(head), *(len(row[at]) for row in rows)])) for at, head in enumerate(heads)]
    for row in [heads, *rows]:
        yield "  ".join(_cell(cell, width) for cell, width in zip(row, widths, strict=True)).rstrip()
    if first + len(tasks) < len(found):
        yield f"and {len(found) - first - len(tasks):,} more; --limit and --from show them, --format csv all"


def _cell(text: str, width: int) -> str:
    return f"{text[: width - 1]}…" if len(text) > width else f"{text:<{width}}"
