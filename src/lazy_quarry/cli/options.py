"""What the commands share: their common options, the client, job numbers, and how they print."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import click

from lazy_quarry.core.plain_text import in_plain_signs, plain
from lazy_quarry.errors import BadValue, NoSuchJob, QuarryError

if TYPE_CHECKING:
    from datetime import tzinfo

    from lazy_quarry.draw.values import Figure
    from lazy_quarry.link.client import SocketClient
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.site.views import Outcome

_MOVING = re.compile("[\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")
behind_dashes: list[str] = []
"""What stood behind ``--``, split off before anything is parsed."""

state_option = click.option("--state", metavar="DIR", default="", help="keep all that is written here")
format_option = click.option(
    "--format", "form", metavar="text|json", default="text", help="for people, or for programs"
)
set_option = click.option(
    "--set", "settings", metavar="KEY=VALUE", multiple=True, help="a header key, for this time only"
)
jobs_argument = click.argument("jobs", metavar="JOB...", nargs=-1, required=True)


class Usage(QuarryError):
    """The command line itself is wrong."""


def check_site() -> None:
    """Check that the site exists. Raises :class:`Usage`."""
    site = os.environ.get("LQ_SITE", "machine")
    if site != "machine":
        raise Usage(f'there is no site "{site}"; there is "machine", and the demo')


def client_of(state: str) -> SocketClient:
    """The client of this machine's engine, which is started when there is none."""
    from lazy_quarry.link.client import SocketClient
    from lazy_quarry.store.folder import state_folder

    check_site()
    client = SocketClient(state_folder("machine", state or None))
    if other := client.other_version():
        words = f"this engine has version {other}; lazy-quarry renew replaces it, jobs go on"
        say(f"lazy-quarry: {words}", err=True)
    return client


def is_json(form: str) -> bool:
    """Whether the output is for programs. Raises :class:`Usage` for an unknown format."""
    if form not in ("text", "json"):
        raise Usage(f'--format {form}: there are "text" and "json"')
    return form == "json"


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
        raise NoSuchJob(f"{job} is not an array, so it has no tasks")
    try:
        wanted = Array(parse_tasks(tasks))
    except BadValue as fault:
        raise Usage(f"{job}/{tasks}: {fault}") from None
    numbers = []
    for place in range(wanted.count):
        index = Array(rows).index(wanted.number(place))
        if index is None:
            raise NoSuchJob(f"{job} has no task {wanted.number(place)}")
        numbers.append(task_id(job, index))
    return numbers


def print_outcomes(outcomes: Iterable[Outcome]) -> None:
    """Print the outcome of each command; exit 1 when one was refused, 2 when there is no such job."""
    told = list(outcomes)
    for one in told:
        say(one.message, err=not one.done)
    if any(not one.known for one in told):
        raise click.exceptions.Exit(2)
    if any(not one.done for one in told):
        raise click.exceptions.Exit(1)
