"""Copying a job's files from where they are."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from lazy_quarry.cli.options import Usage, client_of, numbers_of, say, state_option


@click.command("fetch")
@click.argument("job", metavar="JOB")
@click.argument("patterns", metavar="[PATTERN...]", nargs=-1)
@click.option("--to", "folder", metavar="DIR", default=".", help="where to; the folder this is typed in, if not given")
@click.option("--replace", is_flag=True, help="also over files that are there and differ")
@state_option
def fetch_command(job: str, patterns: tuple[str, ...], folder: str, replace: bool, state: str) -> None:
    """Copy files of a job from where they are: its folder, or the host that it runs on.

    Patterns are from its folder; without any it is what its header stages out and promises. What is there already is left; where it
    differs, it ends with 2 unless --replace.
    """
    from lazy_quarry.cli.fetched import Fetcher

    client = client_of(state)
    number = numbers_of(client, [job])[0]
    wanted = list(patterns) or _promised(client.detail(number).script, job)
    fetcher = Fetcher(client, number, Path(folder).expanduser(), replace)
    shows = sys.stderr.isatty()
    for told in fetcher.fetch(wanted):
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
