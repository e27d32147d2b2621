"""Commands about scripts: check, forecast, try, submit."""

from __future__ import annotations

import os
import sys
from typing import TYPE_CHECKING

import click

from lazy_quarry.cli.options import (
    OwnOptionsFirst,
    Usage,
    asked_again,
    behind_dashes,
    client_of,
    file_option,
    format_option,
    is_json,
    number_format_option,
    own_zone,
    print_foretold,
    print_json,
    print_lines,
    quiet_option,
    rehearse_option,
    say,
    say_number,
    set_option,
    state_option,
    unknown_option,
)
from lazy_quarry.errors import BadValue, QuarryError

if TYPE_CHECKING:
    from collections.abc import Iterable

    from lazy_quarry.core.header.diagnostic import Diagnostic
    from lazy_quarry.core.header.submission import Submission
    from lazy_quarry.probe.language import LanguageCheck

_FOR_SCRIPT = {"ignore_unknown_options": True}
"""Settings by which unknown options, and all behind ``--``, go to the script."""
script_argument = click.argument("script", metavar="SCRIPT|-")
arguments_argument = click.argument("arguments", metavar="[ARGUMENT...]", nargs=-1, type=click.UNPROCESSED)


def _print_checks(file: str, diagnostics: Iterable[Diagnostic], err: bool = False) -> None:
    from lazy_quarry.cli.output.draft_text import check_lines

    print_lines(check_lines(file, diagnostics), err=err)


# -- what is submitted ----------------------------------------------------------------------------


class _Sending:
    """A script on its way to the engine. What its own language says of it is found out while the link is made."""

    def __init__(self, script: str, arguments: tuple[str, ...], command: list[str], settings: tuple[str, ...]) -> None:
        from lazy_quarry.cli.files import read_script
        from lazy_quarry.probe.language import LanguageCheck

        self.path = ""
        self.label = script if script and script != "-" else "standard input" if script else f"-- {_shortened(command)}"
        """Its name in messages."""
        if script.startswith("--"):
            raise Usage(unknown_option(script, arguments))
        if command:
            self.text = _command_script(command)
        else:
            try:
                self.text = read_script(script)
            except BadValue as fault:
                raise QuarryError(f"{script}: {fault}") from None
            self.path = "" if script == "-" else os.path.abspath(script)
        self.arguments, self.settings = arguments, settings
        self._checking: LanguageCheck = LanguageCheck(self.text)

    def submission(self) -> Submission:
        """The submission, with what its language said. The engine looks up files and programs by itself."""
        from lazy_quarry.core.header.submission import Submission

        return Submission(
            script=self.text,
            path=self.path,
            directory=os.getcwd(),
            overrides=self.settings,
            arguments=self.arguments,
            environment=tuple(os.environ.items()),
            findings=self._checking.findings(),
        )


def _shortened(command: list[str]) -> str:
    import shlex

    words = shlex.join(command)
    return words if len(words) <= 60 else f"{words[:59]}…"


def _command_script(command: list[str]) -> str:
    """A command line as a script with a header."""
    import re
    import shlex

    line = shlex.join(command) if len(command) > 1 else command[0]
    first = os.path.basename(line.split()[0]) if line.strip() else ""
    name = re.sub(r"[^A-Za-z0-9._-]+", "", first)[:64] or "command"
    return f'#!/bin/sh\n# /// job\n# name = "{name}"\n# ///\n{line}\n'


# -- the commands ---------------------------------------------------------------------------------


@click.command("check")
@click.argument("scripts", metavar="SCRIPT...", nargs=-1)
@set_option
@click.option("--codes", is_flag=True, help="list all checks that there are, as Markdown")
@format_option
def check_command(scripts: tuple[str, ...], settings: tuple[str, ...], codes: bool, form: str) -> None:
    if codes:
        from lazy_quarry.core.header.codes import table
        from lazy_quarry.probe.shellcheck import SLIPS

        sys.stdout.write(table({number: (severity.value, words) for number, (severity, words) in SLIPS.items()}))
        return
    if not scripts:
        raise Usage("check what? name one script or more")
    json_too = is_json(form)
    found = _checked(scripts, settings)
    if json_too:
        from lazy_quarry.wording.json_form import diagnostic_json

        print_json([diagnostic_json(file, one) for file, diagnostics in found for one in diagnostics])
    else:
        for file, diagnostics in found:
            _print_checks(file, diagnostics)
    if any(one.severity == "error" for _, diagnostics in found for one in diagnostics):
        absent = any(script != "-" and not os.path.exists(script) for script in scripts)
        raise click.exceptions.Exit(2 if absent else 1)


def _checked(paths: tuple[str, ...], settings: tuple[str, ...]) -> list[tuple[str, list[Diagnostic]]]:
    """Check each file. This process does it: an engine is needed only where accounts have budgets, or nodes are hosts."""
    from lazy_quarry.cli.files import submission_of
    from lazy_quarry.core.header.check import CheckContext, check_script
    from lazy_quarry.core.header.diagnostic import error
    from lazy_quarry.probe.machine import user_name
    from lazy_quarry.probe.script import looked_up
    from lazy_quarry.run.agent_link import taken_words
    from lazy_quarry.site.site_file.site_file import watched_site
    from lazy_quarry.store.folder import chosen_site, state_folder

    folder = state_folder(chosen_site(), None)
    watch = watched_site(folder)
    if note := watch.note():
        say(f"lazy-quarry: {note}", err=True)
    if taken := taken_words(folder / "spool"):
        say(f"lazy-quarry: nothing starts now: {taken}", err=True)
    site, user, found = watch.site, user_name(), []
    # Only an engine reads the journal, for what is left of a budget, and asks hosts which folders they see.
    asks = site.apart or any(one.budget_core_hours is not None for one in site.accounts)
    client = client_of("") if asks else None
    for path in paths:
        try:
            submission = submission_of(path, settings)
        except BadValue as fault:
            found.append((path, [error("unreadable", str(fault), 1)]))
            continue
        if client is not None:
            found.append((path, list(client.check(submission).diagnostics)))
            continue
        checked = check_script(submission.script, site, CheckContext(user, looked_up(submission)))
        found.append((path, list(checked.diagnostics)))
    return found


@click.command("forecast")
@script_argument
@set_option
@state_option
@format_option
def forecast_command(script: str, settings: tuple[str, ...], state: str, form: str) -> None:
    json_too = is_json(form)
    sending = _Sending(script, (), [], settings)
    client = client_of(state)
    report = asked_again(
        client,
        lambda: client.check(sending.submission()),
        lambda one: one.range is None and (one.place.start_ms or 0) > one.now_ms,
    )
    if json_too:
        from lazy_quarry.wording.json_form import report_json

        print_json(report_json(script, report))
    else:
        from lazy_quarry.cli.output.draft_text import forecast_lines

        print_lines(forecast_lines(report, own_zone()))
    if report.refused:
        _print_checks(script, [one for one in report.diagnostics if one.severity == "error"], err=True)
        raise click.exceptions.Exit(1)


@click.command("try", cls=OwnOptionsFirst, context_settings=_FOR_SCRIPT)
@script_argument
@arguments_argument
@click.option("--task", type=int, metavar="N", help="this task of an array; else its first")
@click.option(
    "--value",
    "values",
    metavar="NAME=VALUE",
    multiple=True,
    help="a parameter's value, or a variable's; NAME=2,4,8 tries several sizes",
)
@click.option("--whole", type=float, metavar="SIZE", help="how large the whole is, where the script doesn't say")
@file_option("--draft", "write the script with what is advised there", metavar="FILE")
@quiet_option
@set_option
@rehearse_option
@state_option
@number_format_option
def try_command(
    script: str,
    arguments: tuple[str, ...],
    task: int | None,
    values: tuple[str, ...],
    whole: float | None,
    draft: str,
    quiet: bool,
    settings: tuple[str, ...],
    rehearse: bool,
    state: str,
    form: str,
) -> None:
    if is_json(form) and not rehearse:
        raise Usage("--format json: lq show has the runs in that form; text is the report")
    from lazy_quarry.cli.files import write_text
    from lazy_quarry.cli.output.draft_text import trial_lines
    from lazy_quarry.cli.output.following import wait_for
    from lazy_quarry.core.header.edit import set_key
    from lazy_quarry.core.units import plural
    from lazy_quarry.site.trial_values import advised_of, asked_of, sizes_in

    try:
        parameter, trials = sizes_in(values)
    except BadValue as fault:
        raise Usage(f"--value: {fault}") from None
    sending = _Sending(script, (*arguments, *behind_dashes()), [], settings)
    client = client_of(state)
    submission = sending.submission()
    if rehearse:
        for named in trials or [{}]:
            print_foretold(client.would_try(submission, task, named or None), is_json(form))
        return
    shape = client.check(submission).shape
    jobs = []
    for named in trials or [{}]:
        receipt = client.try_one(submission, task, named or None)
        if receipt.job is None:
            _print_checks(script, receipt.diagnostics, err=True)
            say("not tried: something must change first", err=True)
            raise click.exceptions.Exit(1)
        jobs.append(receipt.job)
    words = f"trying {'one' if len(jobs) == 1 else plural(len(jobs), 'size')} as {', '.join(map(str, jobs))}"
    say_number(jobs, words, form, quiet)
    aside = quiet or not (form == "text" or sys.stdout.isatty())
    views = sorted(wait_for(client, jobs), key=lambda view: jobs.index(view.job))
    array = client.expand(submission).request.array if shape.tasks else None
    asked = asked_of(shape.walltime_s or views[0].walltime_s, parameter, submission.script, array, whole)
    print_lines(trial_lines(views, asked), err=aside)
    if draft:
        text = sending.text
        for key, value in advised_of(views, asked):
            text = set_key(text, key, value)
        write_text(draft, text)
        say(f"written to {draft}", err=aside)
    if any(view.phase != "done" for view in views):
        raise click.exceptions.Exit(1)


@click.command("submit", cls=OwnOptionsFirst, context_settings=_FOR_SCRIPT)
@click.argument("script", metavar="SCRIPT|-", required=False, default="")
@arguments_argument
@quiet_option
@set_option
@state_option
@number_format_option
def submit_command(
    script: str, arguments: tuple[str, ...], quiet: bool, settings: tuple[str, ...], state: str, form: str
) -> None:
    json_too = is_json(form)
    behind = list(behind_dashes())
    command = [] if script else behind
    if not command and not script:
        raise Usage("submit what? name a script, - for standard input, or -- COMMAND")
    sending = _Sending(script, (*arguments, *(behind if script else ())), command, settings)
    client = client_of(state)
    receipt = client.submit(sending.submission())
    if receipt.job is None:
        if json_too:
            from lazy_quarry.wording.json_form import diagnostic_json

            print_json([diagnostic_json(sending.path or "-", one) for one in receipt.diagnostics])
        _print_checks(sending.label, receipt.diagnostics, err=True)
        say("not submitted: something must change first", err=True)
        raise click.exceptions.Exit(1)
    from lazy_quarry.core.units import clock_time, format_instant, plural

    if json_too:
        forecast = None if receipt.forecast_ms is None else format_instant(receipt.forecast_ms)
        print_json({"job": receipt.job, "tasks": receipt.tasks, "forecast": forecast})
        return
    warnings = [one for one in receipt.diagnostics if one.severity != "hint"]
    if warnings:
        _print_checks(sending.label, warnings, err=True)
    when = "no forecast yet"
    if receipt.forecast_ms is not None:
        soon = receipt.forecast_ms <= receipt.now_ms
        when = (
            "started"
            if soon
            else f"by the plan it starts about {clock_time(receipt.forecast_ms, receipt.now_ms, own_zone())}"
        )
    tasks = f", {plural(receipt.tasks, 'task')}" if receipt.tasks is not None else ""
    say_number([receipt.job], f"{receipt.job} submitted{tasks}, {when}", form, quiet)
