"""The common parts of the commands: their common options, the client, job numbers, and how they print."""

from __future__ import annotations

import os
import re
import sys
import time
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any, TypeVar

import click

from lazy_quarry.cli.streams import drop_output, has_output
from lazy_quarry.core.plain_text import in_plain_signs, plain
from lazy_quarry.errors import BadValue, NoSuchJob, QuarryError
from lazy_quarry.store.folder import chosen_site

if TYPE_CHECKING:
    from datetime import tzinfo

    from lazy_quarry.draw.values import Figure
    from lazy_quarry.link.client import SocketClient
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.foretold import Foretold
    from lazy_quarry.views.outcomes import Outcome

Told = TypeVar("Told")
_MOVING = re.compile("[\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")


def behind_dashes() -> tuple[str, ...]:
    """Words behind ``--`` of the command that runs, split off before anything is parsed."""
    return tuple(click.get_current_context().find_root().obj or ())


def _choose_site(context: click.Context, option: click.Parameter, name: str) -> None:
    """Let all that follows be about a site of this person's, its engine too."""
    if name:
        os.environ["LQ_SITE"] = name
        os.environ.pop("LQ_STATE", None)  # that is the folder of the site that was meant before
        check_site()


_site_option = click.option(
    "--site",
    metavar="NAME",
    default="",
    expose_value=False,
    callback=_choose_site,
    help="another site than this machine; lq sites lists them",
)


def state_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options that say which site is meant, and where all that is written of it is kept."""
    folder = click.option("--state", metavar="DIR", default="", help="keep all that is written here")
    return folder(_site_option(command))


format_option = click.option(
    "--format", "form", metavar="text|json", default="text", help="for people, or for programs"
)
number_format_option = click.option(
    "--format",
    "form",
    metavar="text|json",
    default="",
    help="for people, or for programs; as it is, a number alone where the output is no terminal",
)
set_option = click.option(
    "--set", "settings", metavar="KEY=VALUE", multiple=True, help="a header key, for this time only"
)
why_option = click.option("--why", default="", metavar="TEXT", help="your reason, for the record")
rehearse_option = click.option("--rehearse", is_flag=True, help="say what that would come to, and do nothing")
jobs_argument = click.argument("jobs", metavar="JOB...", nargs=-1, required=True)


class Usage(QuarryError):
    """The command line itself is wrong."""


def _no_folder(context: click.Context, option: click.Parameter, path: str) -> str:
    if path and os.path.isdir(path):
        raise Usage(f"{option.opts[0]} {path}: this is a folder; name a file in it")
    return path


def file_option(name: str, words: str, *names: str, metavar: str = "F") -> Callable[..., Any]:
    """An option that names a file to be written; a folder is refused before anything is done."""
    return click.option(name, *names, metavar=metavar, callback=_no_folder, default="", help=words)


def check_site() -> None:
    """Check that the site exists. Raises :class:`Usage`."""
    from lazy_quarry.core.header.nearest import nearest
    from lazy_quarry.site.site_file.sites import site_names

    site, known = chosen_site(), site_names()
    if site not in known:
        raise Usage(f'there is no site "{site}"{nearest(site, known)}; lq sites lists them')


RANGE_S = 5.0
"""Seconds that an answer is waited for in which something is still worked out."""


def asked_again(client: SiteClient, ask: Callable[[], Told], is_open: Callable[[Told], bool]) -> Told:
    """An answer of the engine; while something in it ``is_open``, it is asked for again when the engine has news, for some seconds.

    Ranges of what nobody has submitted are worked out when they are asked for; that takes a moment.
    """
    told, until = ask(), time.monotonic() + RANGE_S
    while is_open(told) and time.monotonic() < until:
        client.changes(client.changes(0, 0.0), 0.5)
        told = ask()
    return told


def client_of(state: str) -> SocketClient:
    """The client of this machine's engine, which is started when there is none."""
    from lazy_quarry.link.client import SocketClient
    from lazy_quarry.store.folder import state_folder

    check_site()
    client = SocketClient(state_folder(chosen_site(), state or None))
    if other := client.other_version():
        words = f"this engine has version {other}; lazy-quarry renew replaces it, jobs go on"
        say(f"lazy-quarry: {words}", err=True)
    return client


def running_client(state: str) -> SocketClient | None:
    """The client of an engine that runs; None where none does."""
    from lazy_quarry.link.client import SocketClient
    from lazy_quarry.store.folder import state_folder

    try:
        return SocketClient(state_folder(chosen_site(), state or None), start=False)
    except (QuarryError, OSError):
        return None


def is_json(form: str) -> bool:
    """True when the output is for programs. Raises :class:`Usage` for an unknown format."""
    if form not in ("text", "json", ""):
        raise Usage(f'--format {form}: there are "text" and "json"')
    return form == "json"


def unknown_option(option: str, behind: Sequence[str] = ()) -> str:
    """Word the refusal of an unknown option; one that names a key of the header belongs behind ``--set``."""
    from lazy_quarry.core.header.keys import IN_TABLES, KEYS
    from lazy_quarry.core.header.nearest import closest

    name, equals, value = option.lstrip("-").partition("=")
    near = name if name in KEYS or name in IN_TABLES else closest(name, [*KEYS, *IN_TABLES], 0.8)
    if not near:
        return f"there is no option {option}; --help lists them"
    if not equals:
        value = behind[0] if behind and not behind[0].startswith("-") else "VALUE"
    return f"there is no option --{name}; did you mean --set {IN_TABLES.get(near, near)}={value}?"


def say_number(numbers: Sequence[int], sentence: str, form: str, quiet: bool) -> None:
    """Say what was submitted: a sentence in a terminal, else the numbers alone, a line each, and the sentence on standard error.

    So ``J=$(lq submit x.sh)`` is a number. An explicit ``--format text`` keeps the sentence, ``quiet`` the numbers.
    """
    if has_output():
        try:
            if not quiet and (form == "text" or sys.stdout.isatty()):
                say(sentence)
                return
            for number in numbers:
                say(f"{number}")
        except OSError as fault:  # it was submitted all the same, and that is what the exit code says
            drop_output()
            say(f"the output: {fault.strerror}", err=True)
        else:
            say(sentence, err=True)
            return
    for number in numbers:
        say(f"{number}", err=True)
    say(sentence, err=True)


class OwnOptionsFirst(click.Command):
    """A command that hands words on to a script: options in ``own`` are its own before the script, and the script's behind it."""

    own = ("--quiet",)

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Hide from the parser what belongs to the script."""
        valued = {
            name
            for option in self.params
            for name in option.opts
            if isinstance(option, click.Option) and not option.is_flag
        }
        at = 0
        while at < len(args) and args[at].startswith("-") and args[at] != "-":
            at += 2 if args[at] in valued else 1
        hidden = [f"{_HIDDEN}{word}" if word in self.own else word for word in args[at:]]
        rest = super().parse_args(ctx, [*args[:at], *hidden])
        for name, value in ctx.params.items():
            if isinstance(value, tuple):
                ctx.params[name] = tuple(_shown(word) for word in value)
        return rest


_HIDDEN = "\0"


def _shown(word: Any) -> Any:
    return word.removeprefix(_HIDDEN) if isinstance(word, str) else word


quiet_option = click.option("--quiet", is_flag=True, help="print the number alone; before SCRIPT")


def print_json(value: Any) -> None:
    """A value, for programs."""
    import json

    text = json.dumps(value, indent=2, ensure_ascii=False)
    click.echo(_MOVING.sub(lambda found: f"\\u{ord(found[0]):04x}", text))  # which JSON reads as the same character


def fit(line: str) -> str:
    """A line with nothing in it that a terminal would act on, in the signs that are wanted."""
    shown = plain(line.expandtabs(4))
    return in_plain_signs(shown) if os.environ.get("LQ_SIGNS") == "plain" else shown


def say(text: str, err: bool = False, nl: bool = True) -> None:
    """Print text for people."""
    click.echo("\n".join(map(fit, text.split("\n"))), err=err, nl=nl)


def print_lines(lines: Iterable[str], err: bool = False) -> None:
    """Lines, for people."""
    for line in lines:
        say(line, err=err)


def draw_to(figure: Figure, *paths: str, err: bool = False, ground: str = "print", size: str = "page") -> None:
    """Write a figure to each path that is given, and say so."""
    from pathlib import Path

    from lazy_quarry.draw.paint import draw

    for path in filter(None, paths):
        draw(figure, Path(path), ground, size)
        say(f"{path}: {figure.title}", err=err)


def own_zone() -> tzinfo:
    """The time zone of the person at the terminal."""
    from lazy_quarry.probe.zone import local_zone

    return local_zone()


def numbers_of(client: SiteClient, jobs: Iterable[str]) -> list[int]:
    """The jobs and tasks that are named: 4127, 4127/5, 4127/5..9. Raises :class:`Usage` and :class:`NoSuchJob`."""
    numbers: list[int] = []
    for word in jobs:
        job, slash, tasks = word.partition("/")
        if not job.isdecimal():
            raise Usage(f'"{word}" is not a job\'s number; lazy-quarry jobs lists them')
        numbers += _tasks(client, int(job), tasks) if slash else [int(job)]
    return numbers


def _tasks(client: SiteClient, job: int, tasks: str) -> list[int]:
    from lazy_quarry.core.job.job import task_id
    from lazy_quarry.core.job.sweep import Array, parse_tasks

    rows = client.job(job).rows
    if not rows:
        raise NoSuchJob(f"{job} is not an array, so it has no tasks; lq show {job} shows it")
    try:
        wanted = Array(parse_tasks(tasks))
    except BadValue as fault:
        raise Usage(f"{job}/{tasks}: {fault}") from None
    numbers = []
    for place in range(wanted.count):
        index = Array(rows).index(wanted.number(place))
        if index is None:
            raise NoSuchJob(f"{job} has no task {wanted.number(place)}; its tasks are {_rows_words(rows)}")
        numbers.append(task_id(job, index))
    return numbers


def _rows_words(rows: Sequence[tuple[int, int, int]]) -> str:
    """The numbers of an array's tasks: ``1..40``, ``0..90 by 10``."""
    told = (
        f"{first}" if first == last else f"{first}..{last}" + (f" by {step}" if step > 1 else "")
        for first, last, step in rows
    )
    return ", ".join(told)


def ask(question: str, otherwise: str, told: Iterable[str] = ()) -> None:
    """Ask a person, who is told some lines before. Raises :class:`Usage` with other words where nobody can be asked, and
    ends with 1 unless the answer is yes.
    """
    if not sys.stdin.isatty():
        raise Usage(otherwise)
    print_lines(told)
    if not click.confirm(question):
        raise click.exceptions.Exit(1)


def print_foretold(found: Foretold, json_too: bool) -> None:
    """Print what an act would come to; exit 1 when it would be refused."""
    from lazy_quarry.views.foretold import foretold_words
    from lazy_quarry.wording.json_form import foretold_json

    if json_too:
        print_json(foretold_json(found))
    else:
        say(f"{foretold_words(found, own_zone())}.", err=bool(found.refused))
    if found.refused:
        raise click.exceptions.Exit(1)


def print_outcomes(outcomes: Iterable[Outcome]) -> None:
    """Print the outcome of each command; exit 1 when one was refused, 2 when there is no such job."""
    told = list(outcomes)
    for one in told:
        say(one.message, err=not one.done)
    if any(not one.known for one in told):
        raise click.exceptions.Exit(2)
    if any(not one.done for one in told):
        raise click.exceptions.Exit(1)
