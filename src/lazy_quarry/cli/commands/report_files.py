"""Files of a report: a document to be sent, and the jobs behind it in open formats."""

from __future__ import annotations

import os
import shlex
import shutil
import sys
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from lazy_quarry.cli.options import Usage, own_zone, say
from lazy_quarry.core.units import plural
from lazy_quarry.core.values import replace
from lazy_quarry.run.writable import write_bytes, write_pieces

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.job_record import JobRecord
    from lazy_quarry.link.site_client import SiteClient


def write_pdf(client: SiteClient, words: str, where: dict[str, str], path: str, anonymous: bool, err: bool) -> None:
    """Write the document of a period."""
    from lazy_quarry.draw.pages.period_document import printed_report, read_answers
    from lazy_quarry.draw.pages.printed_pages import write_pages

    if Path(path).suffix.lower() != ".pdf":
        raise Usage(f"{path}: the document is PDF, so its name ends in .pdf")
    printed = printed_report(read_answers(client, words, where), own_zone(), anonymous)
    pages = write_pages(printed, Path(path))
    say(f"{path}: {printed.title}, {plural(pages, 'page')}", err=err)


def mail_pdf(client: SiteClient, words: str, where: dict[str, str], to: str, anonymous: bool) -> None:
    """Mail the document of a period."""
    from lazy_quarry.cli.options import print_outcomes
    from lazy_quarry.draw.pages.printed_mail import mail_report

    print_outcomes([mail_report(client, words, where, to, own_zone(), anonymous)])


def cron_line(where: dict[str, str], to: str, anonymous: bool, state: str) -> str:
    """The line of a crontab that mails the last month's report in the morning of each month's first day."""
    words = [shutil.which("lq") or sys.argv[0], "report", "--period", "last month"]
    for name, value in where.items():
        words += [f"--{name}", value]
    words += [
        "--to",
        to,
        *(["--anonymous"] if anonymous else []),
        *(["--state", os.path.abspath(os.path.expanduser(state))] if state else []),
    ]
    # In a crontab a percent sign ends the command, unless it is quoted with a backslash (crontab(5)).
    return f"0 7 1 * *  {shlex.join(words)}".replace("%", "\\%")


def write_formats(
    client: SiteClient, words: str, where: dict[str, str], paths: dict[str, str], anonymous: bool, err: bool
) -> None:
    """Write the jobs of a period in each form for which a path is given."""
    board = client.board()
    site, host = board.site.name, board.site.host
    for form, path in paths.items():
        if not path:
            continue
        records = all_records(client, words, where)
        if form == "usage_records":
            from lazy_quarry.core.formats.usage_records import usage_records

            count = write_counted(
                path,
                records,
                lambda some: usage_records(some, site, host, f"{site}.{host}" if host else site, board.now_ms),
            )
        elif form == "swf":
            from lazy_quarry.core.formats.workload_trace import workload_trace

            known = list(records)
            nodes = [node for node in board.nodes if node.queues]
            cores, count = sum(node.cores for node in nodes), len(known)
            lines = workload_trace(known, site, len(nodes), cores, named=not anonymous)
            write_pieces(path, (f"{line}\n" for line in lines))
        else:
            from lazy_quarry.core.formats.job_table import job_table

            known, user = list(records), board.person.user
            if anonymous:
                known = list(nameless(known, user))
            count = len(known)
            write_bytes(path, job_table(known))
        say(f"{path}: {plural(count, 'job')}", err=err)


def all_records(client: SiteClient, words: str, where: dict[str, str]) -> Iterator[JobRecord]:
    """All jobs and tasks that ended in a period, in the order of their ends."""
    after: tuple[int, int] | None = None
    while some := client.records(words, where, after):
        yield from some
        after = some[-1].ended_ms, some[-1].number


def nameless(records: Iterable[JobRecord], user: str) -> Iterator[JobRecord]:
    """Records in which other users have numbers for names."""
    numbers: dict[str, int] = {}
    for one in records:
        number = numbers.setdefault(one.user, len(numbers) + 1)
        yield one if one.user == user else replace(one, user=f"person {number}")


def write_counted(path: str, records: Iterator[JobRecord], made: Callable[[Iterator[JobRecord]], Iterable[str]]) -> int:
    """Write what is made of records piece by piece; returns how many there were."""
    count = 0

    def counted() -> Iterator[JobRecord]:
        nonlocal count
        for record in records:
            count += 1
            yield record

    write_pieces(path, made(counted()))
    return count
