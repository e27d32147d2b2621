"""The command about chains: a file before it is submitted, and one that was, by its number."""

import os
from collections.abc import Iterator
from datetime import tzinfo
from typing import TYPE_CHECKING, Any

import click

from lazy_quarry.cli.options import (
    Usage,
    asked_again,
    client_of,
    draw_to,
    file_option,
    is_json,
    number_format_option,
    own_zone,
    print_foretold,
    print_json,
    print_lines,
    print_outcomes,
    say,
    say_number,
    state_option,
    why_option,
)
from lazy_quarry.core.units import core_hours

if TYPE_CHECKING:
    from lazy_quarry.core.header.diagnostic import Diagnostic
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.chain_views import ChainReceipt, ChainReport, ChainSource, ChainView

_SIGNS = {"error": "✕", "warning": "·", "hint": " "}


@click.command("chain")
@click.argument("what", metavar="FILE|NUMBER", required=False, default="")
@click.option("--check", is_flag=True, help="say what is wrong in the file, and no more")
@click.option(
    "--rehearse",
    is_flag=True,
    help="say when each job would start and end, as the queue is now; with --continue what would run again",
)
@click.option("--submit", is_flag=True, help="submit all of its jobs as one chain")
@click.option(
    "--set", "settings", multiple=True, metavar="NAME=VALUE", help="another value of a parameter of the chain"
)
@click.option("--fails", multiple=True, metavar="JOB", help="rehearse: suppose that this job fails")
@click.option(
    "--slower", multiple=True, metavar="JOB=FACTOR", help="rehearse: suppose that it takes so many times as long"
)
@click.option("--hold", is_flag=True, help="hold what waits of a chain")
@click.option("--release", is_flag=True, help="release what is held of it")
@click.option("--cancel", is_flag=True, help="cancel all of it that has not ended")
@why_option
@click.option(
    "--continue", "go_on", is_flag=True, help="run again what failed, and what follows it; what is done stays"
)
@click.option("--from", "first", default="", metavar="JOB", help="continue: run again all from this job on")
@click.option(
    "--file", "file", default="", metavar="FILE", help="continue: by this file; else by its own, as it is now"
)
@file_option("--svg", "draw its graph as SVG")
@file_option("--pdf", "draw its graph as PDF")
@click.option("--schema", is_flag=True, help="print the JSON Schema of chain files, for editors")
@click.option("--quiet", is_flag=True, help="submit: print the chain's number alone")
@state_option
@number_format_option
def chain_command(what: str, state: str, form: str, **given: Any) -> None:
    """Check, rehearse and submit a chain file; show, hold, cancel and continue a chain by its number. Alone: list all."""
    json_too = is_json(form)
    if given["schema"]:
        from lazy_quarry.core.chain.chain_schema import chain_schema

        print_json(chain_schema())
        return
    client = client_of(state)
    if what and (given["svg"] or given["pdf"]):
        from lazy_quarry.draw.figures.chain_figures import chain_figure

        figure = chain_figure(view_of(client, what, given["settings"]), client.board().site.name, own_zone())
        draw_to(figure, given["svg"], given["pdf"])
        return
    if not what:
        views = client.chains()
        print_json([chain_json(view) for view in views]) if json_too else print_lines(_list(views, own_zone()))
    elif what.isdecimal() and not os.path.exists(what):
        _numbered(client, int(what), form, given)
    else:
        _file(client, what, form, given)


def _file(client: "SiteClient", path: str, form: str, given: dict[str, Any]) -> None:
    json_too = form == "json"
    from lazy_quarry.errors import Refused

    source = source_of(path, given["settings"])
    if given["submit"]:
        try:
            _told(client.submit_chain(source), path, form, given["quiet"])
        except Refused as fault:
            raise Usage(str(fault)) from None
        return
    fails, slower = list(given["fails"]), dict(map(_factor, given["slower"]))

    def open_(one: "ChainReport") -> bool:
        view = one.chain if given["rehearse"] and not fails and not slower else None
        return view is not None and view.ends_ms is not None and view.likely_end_ms is None and len(view.parts) > 1

    try:
        report = asked_again(client, lambda: client.report_chain(source, fails, slower), open_)
    except Refused as fault:
        raise Usage(str(fault)) from None
    refused = any(one.severity == "error" for _, one in report.findings)
    if given["rehearse"] and report.chain is not None:
        _print_findings(report.findings, path, err=True)
        if json_too:
            print_json(rehearsal_json(report.chain))
        else:
            print_lines(chain_lines(report.chain, own_zone()))
        return
    if json_too:
        print_json([finding_json(file or path, one) for file, one in report.findings])
    elif not report.findings:
        say(f"{path}: nothing to say")
    else:
        _print_findings(report.findings, path)
    if refused:
        raise click.exceptions.Exit(1)


def _numbered(client: "SiteClient", number: int, form: str, given: dict[str, Any]) -> None:
    json_too = form == "json"
    from lazy_quarry.errors import Refused

    acts = {"hold": client.hold_chain, "release": client.release_chain, "cancel": client.cancel_chain}
    for name, act in acts.items():
        if given[name]:
            print_outcomes(act(number, given["why"]))
            return
    if given["go_on"]:
        text, known, folder = client.chain_source(number)
        path = given["file"] or known
        there = bool(path) and os.path.exists(path)
        if given["file"] and not there:
            raise Usage(f"{path} is not there")
        source = source_of(path, given["settings"], folder) if there else source_of("", given["settings"], folder, text)
        if given["rehearse"]:
            print_foretold(client.would_continue(number, source, given["first"]), json_too)
            return
        try:
            receipt = client.continue_chain(number, source, given["first"])
            _told(receipt, path or f"chain {number}", form, given["quiet"])
        except Refused as fault:
            say(f"lazy-quarry: {fault}", err=True)
            raise click.exceptions.Exit(1) from None
        return
    view = client.chain(number)
    if json_too:
        print_json(chain_json(view))
    else:
        print_lines(chain_lines(view, own_zone()))


def view_of(client: "SiteClient", what: str, settings: tuple[str, ...] = ()) -> "ChainView":
    """A chain by its number, or a file of one rehearsed."""
    if what.isdecimal() and not os.path.exists(what):
        return client.chain(int(what))
    report = client.report_chain(source_of(what, settings), [], {})
    if report.chain is None:
        _print_findings(report.findings, what, err=True)
        raise click.exceptions.Exit(1)
    return report.chain


def _factor(text: str) -> tuple[str, float]:
    name, _, factor = text.partition("=")
    try:
        value = float(factor)
    except ValueError:
        value = 0.0
    if not name or not 0 < value <= 1000:
        raise Usage(f"--slower {text}: write JOB=FACTOR, such as run=2")
    return name, value


def source_of(path: str, settings: tuple[str, ...], folder: str = "", text: str = "") -> "ChainSource":
    """A chain file with the scripts that it names."""
    from lazy_quarry.errors import QuarryError
    from lazy_quarry.site.chain_source import read_source

    try:
        return read_source(path, settings, folder, text)
    except QuarryError as fault:
        raise Usage(str(fault)) from None


def _told(receipt: "ChainReceipt", path: str, form: str, quiet: bool) -> None:
    if receipt.chain is None:
        _print_findings(receipt.findings, path, err=True)
        raise click.exceptions.Exit(1)
    _print_findings(receipt.findings, path, err=True)
    if form == "json":
        print_json({"chain": receipt.chain, "jobs": dict(receipt.jobs)})
    else:
        jobs = ", ".join(f"{name} {number}" for name, number in receipt.jobs)
        say_number([receipt.chain], f"chain {receipt.chain}: {jobs}", form, quiet)


def _print_findings(findings: "tuple[tuple[str, Diagnostic], ...]", path: str, err: bool = False) -> None:
    for file, one in findings:
        fix = f" (fix: {one.fix.label})" if one.fix else ""
        say(f"{_SIGNS[one.severity]} {file or path}:{one.line}  {one.message}{fix}  [{one.code}]", err=err)


# -- text and JSON --------------------------------------------------------------------------------


def _list(views: "list[ChainView]", zone: tzinfo) -> Iterator[str]:
    from lazy_quarry.core.units import clock_time, plural

    if not views:
        yield "none"
    for view in views:
        ends = f", done about {clock_time(view.ends_ms, view.now_ms, zone)}" if view.left and view.ends_ms else ""
        yield f"{view.number}  {view.name}  {view.state}  {plural(len(view.parts), 'job')}, {view.left} left{ends}"


def chain_lines(view: "ChainView", zone: tzinfo) -> Iterator[str]:
    """A chain for people: a line for all, a line for each job."""
    from lazy_quarry.core.units import clock_time, format_core_hours, format_duration, plural
    from lazy_quarry.wording.sentences import all_done_words, range_words

    head = f"chain {view.number} {view.name}: {view.state}" if view.number else f"{view.name}, as the queue is now"
    ends = all_done_words(view, zone) or "no end in sight"
    told = ends if view.left or not view.number else f"ended {clock_time(view.ends_ms or 0, view.now_ms, zone)}"
    cost = f", at most {format_core_hours(view.most_core_ms)} core-hours" if view.most_core_ms else ""
    if view.likely_core_ms is not None:
        cost += f", probably {format_core_hours(view.likely_core_ms)} by earlier runs"
    yield f"{head}; {plural(len(view.parts), 'job')}, {view.left} left; {told}{cost}"
    width = max([4, *(len(one.name) for one in view.parts)])
    for one in view.parts:
        number = f"{one.job or ''}" if view.number else ""
        state = one.phase.value if one.phase else ("" if one.ends_ms else "doesn't run")
        begins = clock_time(one.starts_ms, view.now_ms, zone) if one.starts_ms else ""
        until = clock_time(one.ends_ms, view.now_ms, zone) if one.ends_ms else ""
        slack = ""
        if one.slack_ms is not None:
            slack = "critical" if one.critical else f"may slip {format_duration(one.slack_ms / 1000)}"
        tasks = plural(one.tasks, "task") if one.tasks and not one.reason.startswith("of its tasks") else ""
        after = ", ".join(f"after {other} {condition}" for other, condition in one.after)
        ranged = range_words(one.range, None, view.now_ms, zone)
        words = "; ".join(word for word in (tasks, after, one.reason, f"starts {ranged}" if ranged else "") if word)
        yield f"  {number:>7} {one.name:<{width}}  {state:<11} {begins:>9} {until:>9}  {slack:<18} {words}".rstrip()


def chain_json(view: "ChainView") -> dict[str, Any]:
    """A chain as JSON."""
    return {
        "chain": view.number or None,
        "name": view.name,
        "state": view.state,
        "left": view.left,
        **rehearsal_json(view),
    }


def rehearsal_json(view: "ChainView") -> dict[str, Any]:
    """When a chain is done, what it costs at most, and its jobs."""
    from lazy_quarry.core.units import format_instant
    from lazy_quarry.wording.json_form import range_json

    def instant(at_ms: int | None) -> str | None:
        return None if at_ms is None else format_instant(at_ms)

    return {
        "ends": instant(view.ends_ms),
        "ends_likely": instant(view.likely_end_ms),
        "core_hours_at_most": core_hours(view.most_core_ms),
        "core_hours_probably": None if view.likely_core_ms is None else core_hours(view.likely_core_ms),
        "jobs": [
            {
                "name": one.name,
                "job": one.job or None,
                "state": one.phase.value if one.phase else None,
                "starts": instant(one.starts_ms),
                **range_json(one.range),
                "ends": instant(one.ends_ms),
                "critical": one.critical,
                "slack_s": None if one.slack_ms is None else one.slack_ms // 1000,
                "after": dict(one.after),
                "reason": one.reason or None,
            }
            for one in view.parts
        ],
    }


def finding_json(file: str, one: "Diagnostic") -> dict[str, Any]:
    """A finding as `lq check` gives them, with its file."""
    return {"file": file, "line": one.line, "severity": one.severity.value, "code": one.code, "message": one.message}
