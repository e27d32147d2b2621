"""The command line. Exit 0: done. 1: the answer is no. 2: it could not be done, with one line on stderr."""

import os
import sys
from typing import Annotated, Any, NoReturn

import typer

from lazy_quarry.errors import NoSuchJob, QuarryError

app = typer.Typer(add_completion=False, rich_markup_mode=None, pretty_exceptions_enable=False, no_args_is_help=False)

_COMMAND: list[str] = []
"""What stood behind ``--``, split off before anything is parsed."""

StateOption = Annotated[str, typer.Option("--state", metavar="DIR", help="keep all that is written here")]
FormatOption = Annotated[str, typer.Option("--format", metavar="text|json", help="for people, or for programs")]
JobsArgument = Annotated[list[str], typer.Argument(metavar="JOB...", help="numbers, such as 4127")]
SetOption = Annotated[list[str], typer.Option("--set", metavar="KEY=VALUE", help="a header key, for this time only")]


class Usage(QuarryError):
    """The command line itself is wrong."""


def _client(state: str) -> Any:
    from lazy_quarry.link.client import SocketClient, newer_here
    from lazy_quarry.store.folder import state_folder

    _check_site()
    client = SocketClient(state_folder("machine", state or None))
    if newer_here(client):
        words = f"this engine is of version {client.engine_version}; lazy-quarry renew replaces it, jobs go on"
        typer.echo(f"lazy-quarry: {words}", err=True)
    return client


def _json(value: Any) -> None:
    import json

    typer.echo(json.dumps(value, indent=2, ensure_ascii=False))


def _as_json(form: str) -> bool:
    if form not in ("text", "json"):
        raise Usage(f'--format {form}: there are "text" and "json"')
    return form == "json"


def _numbers(client: Any, jobs: list[str]) -> list[int]:
    """The jobs and tasks that are named: 4127, 4127/5, 4127/5..9."""
    from lazy_quarry.core.job.job import task_id
    from lazy_quarry.core.job.sweep import Array, parse_tasks
    from lazy_quarry.errors import BadValue

    numbers = []
    for word in jobs:
        job, slash, tasks = word.partition("/")
        if not job.isdecimal():
            raise Usage(f'"{word}" is not a job\'s number; lazy-quarry jobs lists them')
        if not slash:
            numbers.append(int(job))
            continue
        rows = client.job(int(job)).rows
        if not rows:
            raise NoSuchJob(f"{job} is not an array, so it has no tasks")
        try:
            wanted = Array(parse_tasks(tasks))
        except BadValue as fault:
            raise Usage(f"{word}: {fault}") from None
        for place in range(wanted.count):
            index = Array(rows).index(wanted.number(place))
            if index is None:
                raise NoSuchJob(f"{job} has no task {wanted.number(place)}")
            numbers.append(task_id(int(job), index))
    return numbers


@app.callback(invoke_without_command=True)
def start(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", help="print the version")] = False,
    state: StateOption = "",
) -> None:
    """Write, place, run, watch and account for batch jobs. Without a command: open this machine's site."""
    if version:
        from lazy_quarry import __version__

        typer.echo(f"lazy-quarry {__version__}")
    elif context.invoked_subcommand is None:
        from lazy_quarry.app.open_site import open_machine

        _check_site()
        open_machine(state)


def _check_site() -> None:
    site = os.environ.get("LQ_SITE", "machine")
    if site != "machine":
        raise Usage(f'there is no site "{site}"; there is "machine", and the demo')


@app.command()
def demo(
    speed: Annotated[int, typer.Option(help="how much faster than time, 1 to 3600")] = 60,
    paused: Annotated[bool, typer.Option("--paused", help="let the clock stand at first")] = False,
    seed: Annotated[int, typer.Option(help="another seed makes another past and present")] = 7,
) -> None:
    """Open the demo site: a rehearsal cluster in memory."""
    if not 1 <= speed <= 3600:
        raise Usage(f"--speed {speed}: it goes from 1 to 3600")
    from lazy_quarry.app.open_site import open_demo

    open_demo(speed, paused, seed)


@app.command()
def check(
    scripts: Annotated[list[str], typer.Argument(metavar="SCRIPT...")] = [],  # noqa: B006
    set_: SetOption = [],  # noqa: B006
    codes: Annotated[bool, typer.Option("--codes", help="list all checks that there are, as Markdown")] = False,
    format_: FormatOption = "text",
) -> None:
    """Check scripts; exit 1 when something in one of them must change."""
    if codes:
        from lazy_quarry.core.header.codes import table
        from lazy_quarry.probe.shell import SLIPS

        sys.stdout.write(table({number: (severity.value, words) for number, (severity, words) in SLIPS.items()}))
        return
    if not scripts:
        raise Usage("check what? name one script or more")
    from lazy_quarry.cli.actions import check_files

    json_too = _as_json(format_)
    found, refused = check_files(scripts, set_)
    if json_too:
        from lazy_quarry.cli.json_form import diagnostic_json

        _json([diagnostic_json(file, one) for file, diagnostics in found for one in diagnostics])
    else:
        for file, diagnostics in found:
            _print_checks(file, diagnostics)
    if refused:
        raise typer.Exit(1)


def _print_checks(file: str, diagnostics: Any, err: bool = False) -> None:
    typer.echo(f"{file}: {'nothing to say' if not diagnostics else ''}", err=err)
    for one in diagnostics:
        sign = {"error": "✕", "warning": "·", "hint": " "}[one.severity.value]
        fix = f" (fix: {one.fix.label})" if one.fix else ""
        typer.echo(f"  {sign} {one.line:4d}  {one.message}{fix}  [{one.code}]", err=err)


@app.command()
def submit(
    script: Annotated[str, typer.Argument(metavar="SCRIPT|-", help="a script, or - for standard input")] = "",
    arguments: Annotated[list[str], typer.Argument(metavar="[ARGUMENT...]")] = [],  # noqa: B006
    set_: SetOption = [],  # noqa: B006
    state: StateOption = "",
    format_: FormatOption = "text",
) -> None:
    """Submit a script with its arguments, standard input (-), or one command line (-- COMMAND...)."""
    from lazy_quarry.cli.actions import submission_of

    json_too = _as_json(format_)
    if _COMMAND and script:
        raise Usage("submit takes a script or a command after --, not both")
    if not _COMMAND and not script:
        raise Usage("submit what? name a script, - for standard input, or -- COMMAND")
    submission = submission_of(script, arguments, _COMMAND, set_)
    client = _client(state)
    receipt = client.submit(submission)
    if receipt.job is None:
        if json_too:
            from lazy_quarry.cli.json_form import diagnostic_json

            _json([diagnostic_json(submission.path or "-", one) for one in receipt.diagnostics])
        _print_checks(submission.path or "(command)" if _COMMAND else script, receipt.diagnostics, err=True)
        typer.echo("not submitted: something must change first", err=True)
        raise typer.Exit(1)
    from lazy_quarry.core.units import clock_time, format_instant

    if json_too:
        forecast = None if receipt.forecast_ms is None else format_instant(receipt.forecast_ms)
        _json({"job": receipt.job, "tasks": receipt.tasks, "forecast": forecast})
        return
    warnings = [one for one in receipt.diagnostics if one.severity != "hint"]
    if warnings:
        _print_checks(submission.path or "(command)", warnings, err=True)
    when = "no forecast yet"
    if receipt.forecast_ms is not None:
        soon = receipt.forecast_ms <= receipt.now_ms
        when = "started" if soon else f"starts about {clock_time(receipt.forecast_ms, receipt.now_ms, _zone())}"
    tasks = f", {receipt.tasks:,} tasks" if receipt.tasks is not None else ""
    typer.echo(f"{receipt.job} submitted{tasks}, {when}")


def _zone() -> Any:
    from datetime import datetime

    return datetime.now().astimezone().tzinfo


@app.command()
def jobs(
    mine: Annotated[bool, typer.Option("--mine/--everyone", help="only my own, or everyone's")] = True,
    ended: Annotated[bool, typer.Option("--ended", help="those that have ended, newest first")] = False,
    since: Annotated[str, typer.Option(metavar="T", help="ended since then: 2h ago, or 2026-11-23T08:00")] = "",
    columns: Annotated[str, typer.Option(metavar="a,b", help="which columns to print")] = "",
    state: StateOption = "",
    format_: FormatOption = "text",
) -> None:
    """List jobs that wait or run, or that have ended."""
    from lazy_quarry.cli.actions import jobs_table, since_ms

    json_too = _as_json(format_)
    from_ms = since_ms(since) if since else None
    found = _client(state).jobs(ended or bool(since), from_ms, not mine, 1000)
    if json_too:
        from lazy_quarry.cli.json_form import job_json

        _json([job_json(view) for view in found])
    else:
        for line in jobs_table(found, columns, _zone()):
            typer.echo(line)


@app.command()
def show(
    job: Annotated[str, typer.Argument(metavar="JOB")],
    state: StateOption = "",
    format_: FormatOption = "text",
) -> None:
    """Show everything about a job."""
    from lazy_quarry.cli.actions import show_lines

    json_too = _as_json(format_)
    client = _client(state)
    detail = client.detail(_numbers(client, [job])[0])
    if json_too:
        from lazy_quarry.cli.json_form import detail_json

        _json(detail_json(detail))
        return
    for line in show_lines(detail, _zone()):
        typer.echo(line)


@app.command()
def output(
    job: Annotated[str, typer.Argument(metavar="JOB")],
    errors: Annotated[bool, typer.Option("--errors", help="what it wrote to standard error")] = False,
    follow: Annotated[bool, typer.Option("--follow", help="go on until the job has ended")] = False,
    state: StateOption = "",
) -> None:
    """Print what a job printed."""
    from lazy_quarry.cli.actions import follow_output

    client = _client(state)
    number = _numbers(client, [job])[0]
    problem = ""
    for piece in follow_output(client, number, "errors" if errors else "output", follow):
        sys.stdout.write(piece.text)
        sys.stdout.flush()
        problem = piece.problem
    if problem:
        typer.echo(problem, err=True)
        raise typer.Exit(1)


@app.command()
def why(
    job: Annotated[str, typer.Argument(metavar="JOB")],
    than: Annotated[str, typer.Option("--than", metavar="JOB", help="compare with another job that waits")] = "",
    state: StateOption = "",
    format_: FormatOption = "text",
) -> None:
    """Say what a job waits for, when it should start, who is ahead and why, and what would start sooner."""
    from lazy_quarry.cli.actions import why_lines

    json_too = _as_json(format_)
    client = _client(state)
    if than:
        typer.echo(client.compare(*_numbers(client, [job, than])))
        return
    detail = client.detail(_numbers(client, [job])[0])
    if json_too:
        from lazy_quarry.cli.json_form import why_json

        _json(why_json(detail))
    elif detail.view.why:
        for line in why_lines(detail):
            typer.echo(line)
    else:
        typer.echo(f"{detail.view.label} {detail.view.name} waits for nothing: {detail.verdict or detail.view.phase}")


@app.command()
def wait(jobs: JobsArgument, state: StateOption = "") -> None:
    """Wait until jobs have ended; exit 1 unless all are done."""
    from lazy_quarry.cli.actions import wait_for
    from lazy_quarry.site.sentences import verdict

    good = True
    client = _client(state)
    for view in wait_for(client, _numbers(client, jobs)):
        typer.echo(f"{view.label} {view.name}: {verdict(view)}")
        good = good and view.phase == "done"
    if not good:
        raise typer.Exit(1)


def _tell(told: list) -> None:
    for one in told:
        typer.echo(one.message, err=not one.done)
    if any(not one.known for one in told):
        raise typer.Exit(2)
    if any(not one.done for one in told):
        raise typer.Exit(1)


@app.command()
def cancel(jobs: JobsArgument, state: StateOption = "") -> None:
    """Take waiting jobs out, and stop running ones."""
    client = _client(state)
    _tell(client.cancel(_numbers(client, jobs)))


@app.command()
def hold(jobs: JobsArgument, state: StateOption = "") -> None:
    """Keep waiting jobs from starting."""
    client = _client(state)
    _tell(client.hold(_numbers(client, jobs)))


@app.command()
def release(jobs: JobsArgument, state: StateOption = "") -> None:
    """Let held jobs start."""
    client = _client(state)
    _tell(client.release(_numbers(client, jobs)))


@app.command()
def again(jobs: JobsArgument, state: StateOption = "") -> None:
    """Submit jobs again, each as it was."""
    client = _client(state)
    _tell(client.again(_numbers(client, jobs)))


@app.command()
def change(jobs: JobsArgument, set_: SetOption = [], state: StateOption = "") -> None:  # noqa: B006
    """Ask for something else on behalf of waiting jobs (--set walltime=2h); they keep number and standing."""
    if not set_:
        raise Usage("change what? give --set KEY=VALUE")
    client = _client(state)
    _tell(client.change(_numbers(client, jobs), set_))


@app.command()
def order(jobs: JobsArgument, state: StateOption = "") -> None:
    """Put your waiting jobs in order, these first; it moves nobody else's."""
    client = _client(state)
    _tell([client.order(_numbers(client, jobs))])


@app.command()
def adopt(state: StateOption = "") -> None:
    """Make a copied state folder a site of its own: what it records as running is lost, what waits is held."""
    from lazy_quarry.store.folder import state_folder
    from lazy_quarry.store.journal import adopt as adopt_journal

    folder = state_folder("machine", state or None)
    adopt_journal(folder)
    typer.echo(f"{folder} is a site of its own now")


@app.command()
def renew(state: StateOption = "") -> None:
    """Replace the engine by one of this program's version; jobs go on meanwhile."""
    from lazy_quarry.link.client import SocketClient
    from lazy_quarry.store.folder import state_folder

    folder = state_folder("machine", state or None)
    old = SocketClient(folder)
    old.leave()
    SocketClient(folder).close()
    typer.echo("the engine is new; jobs went on")


@app.command(name="try")
def try_(
    script: Annotated[str, typer.Argument(metavar="SCRIPT|-", help="a script, or - for standard input")],
    arguments: Annotated[list[str], typer.Argument(metavar="[ARGUMENT...]")] = [],  # noqa: B006
    task: Annotated[int | None, typer.Option(metavar="N", help="of an array, this task; else its first")] = None,
    value: Annotated[list[str], typer.Option(metavar="NAME=VALUE", help="of a sweep, values of your choice")] = [],  # noqa: B006
    set_: SetOption = [],  # noqa: B006
    state: StateOption = "",
) -> None:
    """Run one of it in the trial tier, wait, and say what it used and what to ask for."""
    from lazy_quarry.cli.actions import submission_of, trial_lines, wait_for

    values = dict(one.split("=", 1) for one in value if "=" in one)
    if len(values) != len(value):
        raise Usage("--value takes NAME=VALUE")
    submission = submission_of(script, arguments, [], set_)
    client = _client(state)
    asked = client.check(submission).walltime_s
    receipt = client.try_one(submission, task, values or None)
    if receipt.job is None:
        _print_checks(script, receipt.diagnostics, err=True)
        typer.echo("not tried: something must change first", err=True)
        raise typer.Exit(1)
    typer.echo(f"trying one as {receipt.job}")
    for view in wait_for(client, [receipt.job]):
        for line in trial_lines(view, asked or view.walltime_s):
            typer.echo(line)
        if view.phase != "done":
            raise typer.Exit(1)


@app.command()
def forecast(
    script: Annotated[str, typer.Argument(metavar="SCRIPT|-", help="a script, or - for standard input")],
    set_: SetOption = [],  # noqa: B006
    state: StateOption = "",
    format_: FormatOption = "text",
) -> None:
    """Say where a script would run, when it would start as it is and otherwise, and what it would cost."""
    from lazy_quarry.cli.actions import forecast_lines, submission_of

    json_too = _as_json(format_)
    report = _client(state).check(submission_of(script, [], [], set_))
    if json_too:
        from lazy_quarry.cli.json_form import report_json

        _json(report_json(script, report))
    else:
        for line in forecast_lines(report, _zone()):
            typer.echo(line)
    if report.refused:
        _print_checks(script, [one for one in report.diagnostics if one.severity == "error"], err=True)
        raise typer.Exit(1)


@app.command()
def survey(state: StateOption = "", format_: FormatOption = "text") -> None:
    """Say what there is: queues, nodes, room now, accounts, tiers, storage, modules."""
    from lazy_quarry.cli.actions import survey_lines

    json_too = _as_json(format_)
    client = _client(state)
    board = client.board()
    rooms = [room for queue in board.queues for room in client.room(queue.name)]
    if json_too:
        from lazy_quarry.cli.json_form import survey_json

        _json(survey_json(board, rooms))
        return
    for line in survey_lines(board, rooms, _zone()):
        typer.echo(line)


@app.command()
def shell(
    cores: Annotated[int, typer.Option(metavar="N", help="cores to have")] = 1,
    walltime: Annotated[str, typer.Option(metavar="D", help="it ends then, with a warning before")] = "1h",
    memory: Annotated[str, typer.Option(metavar="SIZE", help="for each core, unless it says /job")] = "",
    set_: SetOption = [],  # noqa: B006
    state: StateOption = "",
) -> None:
    """Open a shell on cores of a node, within limits, charged like a job."""
    from lazy_quarry.cli.shell_terminal import open_shell, shell_submission, warning_before
    from lazy_quarry.core.units import exact_duration, parse_duration
    from lazy_quarry.store.folder import state_folder

    seconds = parse_duration(walltime)
    client = _client(state)
    default = next(queue.memory_default_mib for queue in client.board().queues)
    size = memory or f"{default} MiB"
    size = size if "/" in size else f"{size}/core"
    submission = shell_submission(cores, exact_duration(seconds), size, warning_before(seconds), tuple(set_))
    done = open_shell(client, submission, state_folder("machine", state or None), typer.echo)
    raise typer.Exit(done)


@app.command()
def replay(
    trace: Annotated[str, typer.Argument(metavar="TRACE.swf", help="what to read, - for standard input; or to --make")],
    nodes: Annotated[int, typer.Option(metavar="N", help="nodes of the cluster")] = 64,
    cores: Annotated[int, typer.Option(metavar="C", help="cores of each node; jobs may span nodes")] = 32,
    policy: Annotated[str, typer.Option(metavar="P", help="first-come, easy or planned")] = "planned",
    compare: Annotated[str, typer.Option(metavar="P,P", help="several policies side by side")] = "",
    schedule: Annotated[str, typer.Option(metavar="OUT.csv", help="write when each job ran")] = "",
    svg: Annotated[str, typer.Option(metavar="OUT.svg", help="draw use and queue over time; OUT.pdf for PDF")] = "",
    make: Annotated[int, typer.Option(metavar="COUNT", help="write a made-up trace of so many jobs")] = 0,
    seed: Annotated[int, typer.Option(help="of a made-up trace")] = 1,
    load: Annotated[float, typer.Option(help="of a made-up trace: work against what the cluster could do")] = 0.85,
    format_: FormatOption = "text",
) -> None:
    """Put a workload trace (Standard Workload Format) through the policies of the plan, or make one up."""
    from lazy_quarry.cli import studies

    json_too = _as_json(format_)
    if nodes < 1 or cores < 1 or make < 0 or load <= 0:
        raise Usage("--nodes, --cores, --make and --load are more than nothing")
    if make:
        typer.echo(studies.make(trace, make, nodes * cores, load, seed))
        return
    policies = studies.policies_of(compare or policy)
    if schedule and len(policies) > 1:
        raise Usage("--schedule writes one policy's; name it with --policy, without --compare")
    read = studies.read_file(trace, nodes * cores)
    found = studies.run(read, nodes * cores, policies, json_too)
    if schedule:
        studies.write_schedule(schedule, found[0], cores)
    if svg:
        from pathlib import Path

        from lazy_quarry.draw.study import draw_replays

        name = "standard input" if trace == "-" else Path(trace).name
        draw_replays(found, Path(svg), f"{name}: {len(read.jobs):,} jobs on {nodes} nodes of {cores} cores")
    if json_too:
        _json([studies.as_json(one) for one in found])
    else:
        for line in studies.table(found):
            typer.echo(line)


def _fail(message: str, code: int) -> NoReturn:
    print(f"lazy-quarry: {message}", file=sys.stderr)
    sys.exit(code)


def main(arguments: list[str] | None = None) -> None:
    """The entry point of ``lazy-quarry`` and ``lq``."""
    from lazy_quarry.cli import nodes as _nodes  # noqa: F401  its commands are added to these

    words = list(sys.argv[1:] if arguments is None else arguments)
    if "--" in words:
        at = words.index("--")
        _COMMAND[:] = words[at + 1 :]
        words = words[:at]
    try:
        sys.exit(app(words, prog_name="lazy-quarry", standalone_mode=False) or 0)
    except typer.Exit as fault:
        sys.exit(fault.exit_code)
    except typer.Abort:
        _fail("stopped", 2)
    except QuarryError as fault:
        _fail(str(fault), 2)
    except KeyboardInterrupt:
        _fail("stopped", 130)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(0)
    except Exception as fault:
        format_message = getattr(fault, "format_message", None)
        if format_message is None:
            raise
        _fail(f"{format_message().rstrip('.')}; lazy-quarry --help lists what there is", 2)
