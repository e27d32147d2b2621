"""Copying a job's files from where they are."""

from __future__ import annotations

import glob
import os
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from lazy_quarry.cli.options import Usage, client_of, numbers_of, say, state_option

if TYPE_CHECKING:
    from lazy_quarry.views.job_detail import JobDetail


@click.command("fetch")
@click.argument("job", metavar="JOB")
@click.argument("patterns", metavar="[PATTERN...]", nargs=-1)
@click.option("--to", "folder", metavar="DIR", default=".", help="where to; the folder this is typed in, if not given")
@click.option("--replace", is_flag=True, help="also over files that are there and differ")
@click.option(
    "--follow", is_flag=True, help="go on with what grows, until the job has ended; without a pattern its output"
)
@state_option
def fetch_command(job: str, patterns: tuple[str, ...], folder: str, replace: bool, follow: bool, state: str) -> None:
    """Copy files of a job from where they are: its folder, or the host that it runs on.

    Patterns are from its folder; without any it is what its header stages out and promises. What is there already is left; where it
    differs, it ends with 2 unless --replace.
    """
    from lazy_quarry.link.fetched import Fetcher

    client = client_of(state)
    number = numbers_of(client, [job])[0]
    detail = client.detail(number)
    fetcher = Fetcher(client, number, Path(folder).expanduser(), replace)
    if follow:
        wanted = list(patterns) or [_output_of(detail, job)]
        steps = fetcher.follow(wanted, lambda: time.sleep(1.0))
    else:
        steps = fetcher.fetch(list(patterns) or _promised(detail.script, job))
    shows = sys.stderr.isatty()
    for told in steps:
        if shows:
            print(f"\r{told:<70}", end="", file=sys.stderr, flush=True)
    if shows:
        print("\r" + " " * 70 + "\r", end="", file=sys.stderr)
    for words in fetcher.words():
        say(words)
    for words in fetcher.problems:
        say(words, err=True)
    if fetcher.problems:
        raise click.exceptions.Exit(2)


def _output_of(detail: JobDetail, job: str) -> str:
    """The output of a job as its folder has it. Raises :class:`Usage` where it is elsewhere."""
    path = os.path.relpath(detail.view.output, detail.directory) if detail.view.output else ".."
    if path.startswith(".."):
        raise Usage(f"fetch {job}: its output isn't in its folder; lq output {job} --follow shows it")
    return glob.escape(path)


def _promised(script: str, job: str) -> list[str]:
    """Read what a script's header stages out and promises. Raises :class:`Usage` where that is nothing."""
    from lazy_quarry.core.header.block import find_block

    block, _ = find_block(script)
    values = dict(block.values) if block else {}
    stage, expect = values.get("stage"), values.get("expect")
    found = [str(each) for each in (stage.get("out", []) if isinstance(stage, dict) else [])]
    found += [str(each) for each in (expect if isinstance(expect, list) else [])]
    if not found or any("{" in each for each in found):
        raise Usage(f"fetch {job}: which files? Name them as seen from its folder, as: lq fetch {job} '*.nc'")
    return found
