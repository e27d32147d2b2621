"""Commands about the hosts that are reached by SSH."""

from __future__ import annotations

import click

from lazy_quarry.cli.options import Usage, format_option, is_json, print_json, print_lines


@click.command("hosts")
@click.argument("what", metavar="check")
@click.argument("names", metavar="NAME...", nargs=-1)
@click.option(
    "--folder",
    "folders",
    metavar="DIR",
    multiple=True,
    help="does it see this folder? As it is: home, and the one this is typed in",
)
@click.option("--python", default="python3", metavar="PATH", help="the Python there, 3.9 or newer")
@click.option("--spool", default="", metavar="DIR", help="where our files are kept there, on a disk of its own")
@format_option
@click.pass_context
def hosts_command(
    context: click.Context,
    what: str,
    names: tuple[str, ...],
    folders: tuple[str, ...],
    python: str,
    spool: str,
    form: str,
) -> None:
    """Check hosts: reached by SSH, what they have, which folders they see too, what is in the way. Exit 1 when something is."""
    from pathlib import Path

    from lazy_quarry.cli.output.hosts_text import hosts_json, hosts_lines
    from lazy_quarry.run.hosts.check import check_hosts

    json_too = is_json(form)
    if what != "check":
        raise Usage(f'hosts {what}: there is "check"')
    if not names:
        raise Usage("hosts check needs the names of hosts, as ssh takes them")
    if bad := next((name for name in names if name.startswith("-") or not name.strip()), None):
        raise Usage(f"{bad!r} is no name of a host")
    wanted = [str(Path(each).expanduser().absolute()) for each in folders] or [str(Path.home()), str(Path.cwd())]
    found = check_hosts(names, wanted, python, spool)
    if json_too:
        print_json(hosts_json(found))
    else:
        print_lines(hosts_lines(found))
    context.exit(int(any(each.problems for each in found)))
