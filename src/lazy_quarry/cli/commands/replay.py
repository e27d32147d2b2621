"""Traces under the policies of the plan."""

import click
from msgspec.structs import asdict

from lazy_quarry.cli.options import Usage, file_option, format_option, is_json, print_json, print_lines, say
from lazy_quarry.core.units import plural


@click.command("replay")
@click.argument("trace", metavar="TRACE.swf")
@click.option("--nodes", type=int, default=64, metavar="N", help="nodes of the cluster")
@click.option("--cores", type=int, default=32, metavar="C", help="cores of each node; jobs may span nodes")
@click.option("--policy", default="planned", metavar="P", help="first-come, easy or planned")
@click.option("--compare", default="", metavar="P,P", help="several policies side by side")
@file_option("--schedule", "write when each job ran", metavar="OUT.csv")
@file_option("--forecasts", "try forecasts of jobs that wait; needs the policy planned", metavar="OUT.csv")
@click.option(
    "--sample", type=int, default=0, metavar="N", help="of so many jobs, spread over the trace; all, if not given"
)
@file_option("--svg", "draw use and queue over time; OUT.pdf for PDF", metavar="OUT.svg")
@click.option("--make", type=int, default=0, metavar="COUNT", help="write a made-up trace of so many jobs")
@click.option("--seed", type=int, default=1, help="of a made-up trace")
@click.option(
    "--load", type=float, default=0.85, help="of a made-up trace: its work in parts of what the cluster can do"
)
@format_option
def replay_command(
    trace: str,
    nodes: int,
    cores: int,
    policy: str,
    compare: str,
    schedule: str,
    forecasts: str,
    sample: int,
    svg: str,
    make: int,
    seed: int,
    load: float,
    form: str,
) -> None:
    from lazy_quarry.cli.output import replay_text
    from lazy_quarry.study.forecast_groups import by_group
    from lazy_quarry.wording.forecast_words import forecast_lines

    json_too = is_json(form)
    if nodes < 1 or cores < 1 or make < 0 or load <= 0:
        raise Usage("--nodes, --cores, --make and --load must be more than 0")
    if make:
        say(replay_text.make(trace, make, nodes * cores, load, seed))
        return
    policies = replay_text.policies_of(compare or policy)
    if schedule and len(policies) > 1:
        raise Usage("--schedule writes one policy's; name it with --policy, without --compare")
    if sample < 0 or (sample and not forecasts):
        raise Usage("--sample says of how many jobs --forecasts are tried")
    read = replay_text.read_file(trace, nodes * cores)
    if forecasts:
        if policies != ["planned"]:
            raise Usage("--forecasts tries those of the policy planned; leave --policy and --compare out")
        made = replay_text.forecast(read, nodes * cores, sample, forecasts, json_too)
        if json_too:
            print_json([asdict(one) for one in by_group(made)])
        else:
            print_lines(forecast_lines(made))
        return
    found = replay_text.run(read, nodes * cores, policies, json_too)
    if schedule:
        replay_text.write_schedule(schedule, found[0], cores)
    if svg:
        from pathlib import Path

        from lazy_quarry.draw.figures.replay_picture import draw_replays

        name = "standard input" if trace == "-" else Path(trace).name
        draw_replays(
            found,
            Path(svg),
            f"{name}: {plural(len(read.jobs), 'job')} on {plural(nodes, 'node')} of {plural(cores, 'core')}",
        )
    if json_too:
        print_json([replay_text.as_json(one) for one in found])
    else:
        print_lines(replay_text.table(found))
