"""Commands that change jobs."""

from typing import Literal

import click

from lazy_quarry.cli.options import (
    Usage,
    client_of,
    is_json,
    jobs_argument,
    number_format_option,
    numbers_of,
    print_foretold,
    print_json,
    print_outcomes,
    rehearse_option,
    say_number,
    set_option,
    state_option,
    why_option,
)


@click.command("hold")
@jobs_argument
@why_option
@state_option
def hold_command(jobs: tuple[str, ...], why: str, state: str) -> None:
    client = client_of(state)
    print_outcomes(client.hold(numbers_of(client, jobs), why))


@click.command("release")
@jobs_argument
@why_option
@state_option
def release_command(jobs: tuple[str, ...], why: str, state: str) -> None:
    client = client_of(state)
    print_outcomes(client.release(numbers_of(client, jobs), why))


@click.command("cancel")
@jobs_argument
@click.option("--waiting", "only", flag_value="waiting", help="of an array, the tasks that have not started")
@click.option("--running", "only", flag_value="running", help="of an array, the tasks that run")
@why_option
@state_option
def cancel_command(jobs: tuple[str, ...], only: Literal["waiting", "running"] | None, why: str, state: str) -> None:
    client = client_of(state)
    print_outcomes(client.cancel(numbers_of(client, jobs), only or "", why))


@click.command("again")
@jobs_argument
@set_option
@click.option("--failed", is_flag=True, help="of an array, the tasks that failed")
@click.option("--quiet", is_flag=True, help="print the new numbers alone")
@rehearse_option
@state_option
@number_format_option
def again_command(
    jobs: tuple[str, ...], settings: tuple[str, ...], failed: bool, quiet: bool, rehearse: bool, state: str, form: str
) -> None:
    client, json_too = client_of(state), is_json(form)
    if rehearse:
        print_foretold(client.would_run_again(numbers_of(client, jobs), list(settings), failed), json_too)
        return
    outcomes = client.again(numbers_of(client, jobs), list(settings), failed)
    if json_too:
        print_json([{"job": one.job, "done": one.done, "message": one.message} for one in outcomes])
    for one in outcomes if not json_too else ():
        if one.done:
            say_number([one.job], one.message, form, quiet)
    print_outcomes([one for one in outcomes if not one.done])


@click.command("change")
@jobs_argument
@set_option
@why_option
@rehearse_option
@state_option
def change_command(jobs: tuple[str, ...], settings: tuple[str, ...], why: str, rehearse: bool, state: str) -> None:
    if not settings:
        raise Usage("change what? give --set KEY=VALUE")
    client = client_of(state)
    if rehearse:
        print_foretold(client.would_change(numbers_of(client, jobs), list(settings)), False)
        return
    print_outcomes(client.change(numbers_of(client, jobs), list(settings), why))


@click.command("order")
@jobs_argument
@state_option
def order_command(jobs: tuple[str, ...], state: str) -> None:
    client = client_of(state)
    print_outcomes([client.order(numbers_of(client, jobs))])
