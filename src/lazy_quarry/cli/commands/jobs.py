"""Commands that read jobs."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from lazy_quarry.cli.options import (
    Usage,
    client_of,
    file_option,
    fit,
    format_option,
    is_json,
    jobs_argument,
    numbers_of,
    own_zone,
    print_json,
    print_lines,
    say,
    state_option,
)
from lazy_quarry.core.plain_text import displayed

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.job_view import JobView

WATCH_S = 5.0
job_argument = click.argument("job", metavar="JOB")


@click.command("jobs")
@click.option("--mine/--everyone", default=True, help="only my own, or everyone's")
@click.option("--ended", is_flag=True, help="those that have ended, newest first")
@click.option(
    "--since", metavar="T", default="", help="ended since then: 2h ago, yesterday, 10:40, 2026-11-23; in your own zone"
)
@click.option(
    "--where", metavar="SEARCH", default="", help="those that meet a search, as 'name:surge* state:failed memory:>4GiB'"
)
@click.option("--saved", metavar="NAME", default="", help="a search that was saved; with --where both have to be met")
@click.option("--save", metavar="NAME", default="", help="keep the search of --where under a name")
@click.option("--sort", metavar="FIELD", default="", help="sort what is found; -FIELD has the greatest first")
@click.option(
    "--limit", metavar="N", type=click.IntRange(1), default=1000, help="print so many at most; 1000 if not given"
)
@click.option("--columns", metavar="a,b", default="", help="which columns to print")
@click.option("--watch", is_flag=True, help="show them again whenever something changes, until ctrl+c")
@state_option
@click.option("--format", "form", metavar="table|json|csv", default="text", help="for people, or for programs")
def jobs_command(
    mine: bool, ended: bool, since: str, columns: str, watch: bool, state: str, form: str, limit: int, **searched: str
) -> None:
    json_too, csv_too = form == "json", form == "csv"
    if form not in ("text", "table", "json", "csv"):
        raise Usage(f'--format {form}: there are "table", "json" and "csv"')
    from_ms = _since_ms(since) if since else None
    where = _search_of(searched["where"], searched["saved"], searched["save"])
    client = client_of(state)
    from lazy_quarry.cli.output.job_text import jobs_table

    def found() -> list[JobView]:
        if where or searched["sort"]:
            from lazy_quarry.cli.output.finding import found_by

            words = f'{where} since:"{since}"' if since else where
            ended_too = ended or bool(since)
            views: list[JobView] = found_by(client, words, ended_too, not mine, searched["sort"], limit)
            if ended_too and not views:
                from lazy_quarry.site.found_parts import parts_words

                if parts := parts_words(client, words, not mine, int(time.time() * 1000), own_zone()):
                    say(f"lazy-quarry: nothing has all of it: {parts}", err=True)
            return views
        views = client.jobs(ended or bool(since), from_ms, not mine, limit)
        return views

    if watch:
        if json_too or csv_too or not sys.stdout.isatty():
            raise Usage("--watch is for a terminal; for programs there is lazy-quarry jobs --format json")
        _watch(client, lambda: [*client.notices(), *jobs_table(found(), columns, own_zone())])
        return
    for notice in client.notices():
        say(f"lazy-quarry: {notice}", err=True)
    if json_too:
        from lazy_quarry.wording.json_form import job_json

        print_json([job_json(view) for view in found()])
    elif csv_too:
        from lazy_quarry.cli.output.finding import jobs_csv

        sys.stdout.write(jobs_csv(found(), columns))
    else:
        print_lines(jobs_table(found(), columns, own_zone()))


def _watch(client: SiteClient, lines: Callable[[], list[str]]) -> None:
    """Draw lines over those drawn before, at each change of the site and at least every few seconds."""
    from contextlib import suppress
    from shutil import get_terminal_size

    version = -1
    with suppress(KeyboardInterrupt):
        while True:
            width, height = get_terminal_size()
            shown = [fit(line)[:width] for line in lines()]
            if len(shown) >= height:
                shown[height - 2 :] = [f"… and {len(shown) - height + 2} more"]
            # Home, each line and the rest of it cleared, and all below: without the flash of an empty screen (ECMA-48).
            sys.stdout.write("\x1b[H" + "".join(f"{line}\x1b[K\n" for line in shown) + "\x1b[J")
            sys.stdout.flush()
            version = client.changes(version, WATCH_S)


def _search_of(where: str, saved: str, save: str) -> str:
    """The search that is meant, of what was typed and what was saved. Raises :class:`QuarryError`."""
    if not saved and not save:
        return where
    from lazy_quarry.site.saved_searches import SavedSearches

    kept = SavedSearches()
    words = " ".join(part for part in (kept.search(saved) if saved else "", where) if part)
    if save:
        kept.save(save, words)
    return words


def _since_ms(text: str) -> int:
    """An instant before now. Raises :class:`BadValue`."""
    import time

    from lazy_quarry.core.instants import parse_since

    return parse_since(text, int(time.time() * 1000), own_zone())


@click.command("show")
@jobs_argument
@click.option("--files", is_flag=True, help="the files that it made where it works, newest first")
@click.option(
    "--remove", metavar="PATTERN", multiple=True, help="with --files: remove those whose path meets a pattern"
)
@click.option("--yes", is_flag=True, help="with --remove: don't ask")
@click.option("--methods", is_flag=True, help="a paragraph and a table for a paper, in Markdown")
@file_option("--bundle", "pack script, verdict, record and output for whoever helps", metavar="F.zip")
@state_option
@format_option
def show_command(
    jobs: tuple[str, ...],
    files: bool,
    remove: tuple[str, ...],
    yes: bool,
    methods: bool,
    bundle: str,
    state: str,
    form: str,
) -> None:
    json_too = is_json(form)
    client = client_of(state)
    if files or methods or bundle or remove:
        from lazy_quarry.cli.commands import job_artifacts as keeping

        numbers = numbers_of(client, jobs)
        if bundle:
            keeping.pack(client, numbers, bundle)
        elif methods:
            keeping.tell_methods(client, numbers)
        else:
            keeping.tell_files(client, numbers, json_too, remove, yes)
        return
    details = [client.detail(number) for number in numbers_of(client, jobs)]
    if json_too:
        from lazy_quarry.wording.json_form import detail_json

        found = [detail_json(detail) for detail in details]
        print_json(found[0] if len(found) == 1 else found)
    else:
        from lazy_quarry.cli.output.job_text import show_lines

        for place, detail in enumerate(details):
            print_lines([""] * bool(place))
            print_lines(show_lines(detail, own_zone()))


@click.command("output")
@jobs_argument
@click.option("--errors", is_flag=True, help="what it wrote to standard error")
@click.option("--follow", is_flag=True, help="go on until the job has ended")
@click.option("--raw", is_flag=True, help="also on a terminal just as it was printed, with all that moves the cursor")
@state_option
def output_command(jobs: tuple[str, ...], errors: bool, follow: bool, raw: bool, state: str) -> None:
    from lazy_quarry.cli.output.following import follow_output

    client = client_of(state)
    numbers = numbers_of(client, jobs)
    problems = []
    for number in numbers:
        if len(numbers) > 1:
            say(f"-- {client.job(number).label}")
        problem = ""
        for piece in follow_output(client, number, "errors" if errors else "output", follow):
            sys.stdout.write(piece.text if raw or not sys.stdout.isatty() else displayed(piece.text))
            sys.stdout.flush()
            problem = piece.problem
        if problem:
            problems.append(problem)
            say(problem, err=True)
    if problems:
        raise click.exceptions.Exit(1)


@click.command("why")
@job_argument
@click.option("--than", metavar="JOB", default="", help="compare with another job that waits")
@state_option
@format_option
def why_command(job: str, than: str, state: str, form: str) -> None:
    json_too = is_json(form)
    client = client_of(state)
    if than:
        first, second = numbers_of(client, [job, than])
        say(client.compare(first, second))
        return
    detail = client.detail(numbers_of(client, [job])[0])
    if json_too:
        from lazy_quarry.wording.json_form import why_json

        print_json(why_json(detail))
    elif detail.why:
        from lazy_quarry.cli.output.job_text import why_lines

        print_lines(why_lines(detail, own_zone()))
    else:
        say(f"{detail.view.label} {detail.view.name} waits for nothing: {detail.verdict or detail.view.phase}")


@click.command("wait")
@jobs_argument
@state_option
def wait_command(jobs: tuple[str, ...], state: str) -> None:
    from lazy_quarry.cli.output.following import wait_for
    from lazy_quarry.wording.sentences import verdict

    good = True
    client = client_of(state)
    for view in wait_for(client, numbers_of(client, jobs)):
        say(f"{view.label} {view.name}: {verdict(view)}")
        good = good and view.phase == "done"
    if not good:
        raise click.exceptions.Exit(1)
