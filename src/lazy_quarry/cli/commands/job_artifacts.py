"""The things kept of a job beside its record: the files that it made, its methods for a paper, a bundle for who helps."""

import time
from collections.abc import Sequence
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import click

from lazy_quarry.cli.options import Usage, ask, own_zone, print_json, print_lines, say
from lazy_quarry.core.units import clock_time, format_bytes, format_instant, plural
from lazy_quarry.link.site_client import SiteClient
from lazy_quarry.run.node.made_files import MadeFile, MadeFiles


def pack(client: SiteClient, numbers: Sequence[int], path: str) -> None:
    """Pack one job."""
    from lazy_quarry.site.bundle import bundle

    if len(numbers) != 1:
        raise Usage("--bundle packs one job")
    say(bundle(client, client.board().site, numbers[0], Path(path), own_zone()))


def tell_methods(client: SiteClient, numbers: Sequence[int]) -> None:
    """Print the methods of each."""
    from lazy_quarry.wording.methods import methods

    site = client.board().site
    for place, number in enumerate(numbers):
        print_lines([""] * bool(place))
        print_lines(methods(client.detail(number), site.name, site.version, own_zone()))


def tell_files(client: SiteClient, numbers: Sequence[int], json_too: bool, remove: Sequence[str], yes: bool) -> None:
    """Print the files that each made, or remove those that meet a pattern."""
    for number in numbers:
        made = client.made(number)
        if remove:
            _remove(client, number, made, remove, yes)
        elif json_too:
            print_json(made_json(number, made))
        else:
            print_lines(_lines(made))


def made_json(number: int, made: MadeFiles) -> dict[str, Any]:
    """The files that a job made; ``earlier``: it was there before, null where that is unknown."""
    files = [
        {
            "path": one.path,
            "size": one.size,
            "written": format_instant(one.written_ms),
            "earlier": one.earlier,
            "kind": one.kind or None,
            "problem": one.problem or None,
        }
        for one in made.files
    ]
    return {"job": number, "folder": made.folder, "made": files, "more": made.more, "problem": made.problem or None}


def _lines(made: MadeFiles) -> list[str]:
    if made.problem:
        return [made.problem]
    now = int(time.time() * 1000)
    told = [f"{plural(len(made.files), 'file')} below {made.folder}" + (", and there may be more" if made.more else "")]
    for one in made.files:
        at = clock_time(one.written_ms, now, own_zone())
        told.append(f"  {at:>14}  {format_bytes(one.size):>9}  {one.path}{_remark(one)}")
    return told


def _remark(one: MadeFile) -> str:
    words = [one.problem, "it was there before, and was changed" if one.earlier else ""]
    told = "; ".join(word for word in words if word)
    return f"  ! {told}" if told else ""


def _remove(client: SiteClient, number: int, made: MadeFiles, patterns: Sequence[str], yes: bool) -> None:
    paths = [one.path for one in made.files if any(fnmatchcase(one.path, pattern) for pattern in patterns)]
    if not paths:
        raise Usage(f"no file that {number} made meets {', '.join(patterns)}")
    if not yes:
        question = f"Remove {plural(len(paths), 'file')} below {made.folder}? They cannot be brought back."
        ask(question, "nobody can be asked here; say --yes to remove them", (f"  {path}" for path in paths))
    outcome = client.remove_made(number, paths)
    say(outcome.message, err=not outcome.done)
    if not outcome.done:
        raise click.exceptions.Exit(1)
