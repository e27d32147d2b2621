"""The mail of a site: what was written, sent, refused, or waits."""

import time

import click

from lazy_quarry.cli.options import (
    Usage,
    client_of,
    format_option,
    is_json,
    own_zone,
    print_json,
    print_lines,
    say,
    state_option,
)
from lazy_quarry.core.units import clock_time, format_instant
from lazy_quarry.site.mail.mail_folder import MOST_KEPT


@click.command("mail")
@click.argument("number", metavar="[N]", required=False, type=click.IntRange(1))
@click.option(
    "--limit", metavar="N", type=click.IntRange(1, 1000), default=30, help="list so many at most; 30 if not given"
)
@state_option
@format_option
def mail_command(number: int | None, limit: int, state: str, form: str) -> None:
    json_too = is_json(form)
    letters = client_of(state).letters(limit if number is None else MOST_KEPT)
    if number is not None:
        letter = next((one for one in letters if one.number == number), None)
        if letter is None:
            raise Usage(f"there is no mail {number}, or no longer; lq mail lists what there is, the newest first")
        say(f"To: {letter.to}")
        say(f"Subject: {letter.subject}")
        say(f"{letter.state}{f': {letter.why}' if letter.why else ''}")
        say("")
        say(letter.text.rstrip())
    elif json_too:
        print_json(
            [
                {
                    "number": one.number,
                    "at": format_instant(one.at_ms),
                    "to": one.to,
                    "subject": one.subject,
                    "job": one.job or None,
                    "state": one.state,
                    "why": one.why or None,
                    "text": one.text,
                }
                for one in letters
            ]
        )
    else:
        now = int(time.time() * 1000)
        print_lines(
            f"{one.number:>3}  {clock_time(one.at_ms, now, own_zone()):>14}  {one.state:<8} {one.to}  {one.subject}"
            for one in letters
        )
        if not letters:
            say("no mail; a header asks for it with notify")
