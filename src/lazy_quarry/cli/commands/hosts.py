"""Commands about the hosts that are reached by SSH, and about the sites that are made of them."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from lazy_quarry.cli.options import (
    Usage,
    ask,
    check_site,
    client_of,
    format_option,
    is_json,
    print_json,
    print_lines,
    running_client,
    say,
    state_option,
)

if TYPE_CHECKING:
    from lazy_quarry.core.site import Site
    from lazy_quarry.run.hosts.check import HostCheck
    from lazy_quarry.site.site_file.host_edits import FoundHost

_WHAT = ("list", "check", "add", "remove", "drop")


@click.command("hosts")
@click.argument("what", metavar="[list|check|add|remove|drop]", default="list")
@click.argument("names", metavar="[NAME...]", nargs=-1)
@click.option(
    "--folder",
    "folders",
    metavar="DIR",
    multiple=True,
    help="check: does it see this folder? As it is: home, and the one this is typed in",
)
@click.option("--python", default="python3", metavar="PATH", help="check and add: the Python there, 3.9 or newer")
@click.option(
    "--spool", default="", metavar="DIR", help="check and add: where our files are kept there, on a disk of its own"
)
@click.option("--queue", default="", metavar="QUEUE", help="add: a queue of the site file that gets them too")
@click.option("--dry-run", is_flag=True, help="add and remove: print the site file as it would be, and write nothing")
@click.option("--kept", is_flag=True, help="list: what stays there after jobs, for later")
@click.option("--yes", is_flag=True, help="drop: don't ask about results that aren't here yet")
@state_option
@format_option
@click.pass_context
def hosts_command(
    context: click.Context,
    what: str,
    names: tuple[str, ...],
    folders: tuple[str, ...],
    python: str,
    spool: str,
    queue: str,
    dry_run: bool,
    kept: bool,
    yes: bool,
    state: str,
    form: str,
) -> None:
    """List the site's hosts; check hosts: reached by SSH, what they have, which folders they see too, what is in the way; add them
    to the site file as they were measured; remove them. Exit 1 when something is in the way. drop HOST NAME... removes what --kept
    lists there.
    """
    json_too = is_json(form)
    if what not in _WHAT:
        raise Usage(f'hosts {what}: there are "list", "check", "add", "remove" and "drop"')
    if bad := next((name for name in names if name.startswith("-") or not name.strip()), None):
        raise Usage(f"{bad!r} is no name of a host")
    if what == "list" and kept:
        _list_kept(names, state, json_too)
    elif what == "list":
        _list(names, state, json_too)
    elif what == "drop":
        context.exit(_drop(names, state, yes))
    elif what == "check":
        wanted = [str(Path(each).expanduser().absolute()) for each in folders] or [str(Path.home()), str(Path.cwd())]
        context.exit(_check(names, wanted, python, spool, json_too))
    elif not names:
        raise Usage(f"hosts {what} needs the names of hosts" + (", as ssh takes them" if what == "add" else ""))
    elif what == "add":
        context.exit(_add(names, python, spool, queue, dry_run))
    else:
        _remove(names, state, dry_run)


def _list(names: tuple[str, ...], state: str, json_too: bool) -> None:
    from lazy_quarry.cli.output.hosts_text import host_list_json, host_list_lines

    client = client_of(state)
    board, found = client.board(), client.hosts()
    if unknown := [name for name in names if name not in {each.node for each in found}]:
        raise Usage(f"the site has no host {unknown[0]}; lq hosts lists them")
    chosen = [each for each in found if not names or each.node in names]
    if json_too:
        print_json(host_list_json(board, chosen))
    else:
        print_lines(host_list_lines(board, chosen))


def _list_kept(names: tuple[str, ...], state: str, json_too: bool) -> None:
    from lazy_quarry.cli.output.hosts_text import kept_json, kept_lines
    from lazy_quarry.errors import Refused

    client = client_of(state)
    known = [each.node for each in client.hosts()]
    if unknown := [name for name in names if name not in known]:
        raise Usage(f"the site has no host {unknown[0]}; lq hosts lists them")
    found, gone = [], []
    for node in names or known:
        try:
            found += client.kept(node)
        except Refused as fault:
            gone.append(str(fault))
    if json_too:
        print_json(kept_json(found))
    else:
        print_lines(kept_lines(found, now_ms=client.board().now_ms))
    for words in gone:
        say(words, err=True)


def _drop(names: tuple[str, ...], state: str, yes: bool) -> int:
    if len(names) < 2:
        raise Usage("hosts drop needs a host, and names of what is kept there, as lq hosts --kept lists them")
    from lazy_quarry.run.node.kept_here import RESULTS

    client, (node, *items) = client_of(state), names
    if any(item.startswith(RESULTS) for item in items) and not yes:
        words = f"{', '.join(items)}: results that aren't here yet would be lost"
        ask(f"{words}. Remove them?", f"{words}; if that is meant, add --yes")
    told = [client.drop_kept(node, item) for item in items]
    for one in told:
        say(one.message, err=not one.done)
    return 0 if all(one.done for one in told) else 2


def _check(names: tuple[str, ...], folders: list[str], python: str, spool: str, json_too: bool) -> int:
    from lazy_quarry.cli.output.hosts_text import hosts_json, hosts_lines
    from lazy_quarry.run.hosts.check import HostAsked, check_hosts
    from lazy_quarry.site.site_file.site_file import local_site

    check_site()
    site = local_site()
    known = {node.name: node.way for node in site.nodes if node.way is not None and node.remote}
    folders = [*folders, *(area.path for area in site.storage)] if known else folders
    if not names and not known:
        raise Usage("hosts check needs the names of hosts, as ssh takes them: the site has none of its own yet")
    asked = [
        HostAsked(way.host, way.python, way.spool) if (way := known.get(name)) else HostAsked(name, python, spool)
        for name in names or known
    ]
    found = check_hosts(asked, folders)
    if json_too:
        print_json(hosts_json(found))
    else:
        print_lines(hosts_lines(found))
    return int(any(each.problems for each in found))


def _add(names: tuple[str, ...], python: str, spool: str, queue: str, dry_run: bool) -> int:
    from lazy_quarry.cli.output.hosts_text import added_line, hosts_lines
    from lazy_quarry.errors import Refused
    from lazy_quarry.run.hosts.check import HostAsked, check_hosts
    from lazy_quarry.site.site_file.host_edits import hosts_in, of_this_machine, with_hosts

    text, site = _site_file()
    there = hosts_in(site)
    if again := next((name for name in names if name in there), None):
        raise Refused(f"{again} is a node already: {there[again]}")
    found = check_hosts([HostAsked(name, python, spool) for name in dict.fromkeys(names)], [str(Path.home())])
    if any(each.problems for each in found):
        print_lines(hosts_lines(found))
        say("nothing was added", err=True)
        return 1
    hosts: list[FoundHost] = []
    for each in found:
        hosts.append(
            _measured(each, [*(node.name for node in site.nodes), *(one.node for one in hosts)], python, spool)
        )
    first = [] if there else [of_this_machine(site.nodes[0])]
    edited = with_hosts(text, [*first, *hosts], queue)
    _write(edited, dry_run)
    for one in () if dry_run else (*first, *hosts):
        say(added_line(one))
    return 0


def _measured(check: HostCheck, taken: list[str], python: str, spool: str) -> FoundHost:
    """Make the table of a host for the site file."""
    from lazy_quarry.run.node.about_host import gpus_of
    from lazy_quarry.site.site_file.host_edits import FoundHost, node_name

    facts = check.facts
    return FoundHost(
        node=node_name(check.host, taken),
        host=check.host,
        cores=facts["cores"],
        memory_mib=facts["memory_mib"] or 1024,
        scratch_mib=facts["free_mib"],
        gpus=gpus_of(facts["gpus"]),
        traits=tuple(facts["instructions"]),
        python="" if python == "python3" else python,
        spool=spool,
    )


def _remove(names: tuple[str, ...], state: str, dry_run: bool) -> None:
    from lazy_quarry.core.units import plural
    from lazy_quarry.errors import Refused
    from lazy_quarry.site.site_file.host_edits import hosts_in, without_host

    text, site = _site_file()
    by_host, client = hosts_in(site), running_client(state)
    board = client.board() if client is not None else None
    nodes = [by_host.get(name, name) for name in names]
    for node in nodes:
        busy = next((one.occupants for one in board.nodes if one.name == node), ()) if board is not None else ()
        if busy:
            jobs = ", ".join(one.label for one in busy[:5])
            words = f"{node} has {plural(len(busy), 'job')}: {jobs}; lq node close {node} gives it no more"
            raise Refused(f"{words}, and when they have ended it can be removed")
        text = without_host(text, node)
    _write(text, dry_run)
    for node in () if dry_run else nodes:
        say(f"{node} is no node any more")


def _site_file() -> tuple[str, Site]:
    """The chosen site's file, an empty text where there is none, and the site with it. Raises :class:`SiteFileError`."""
    from lazy_quarry.site.site_file.site_file import local_site, read_text, site_file

    check_site()
    try:
        return read_text(site_file()), local_site()
    except FileNotFoundError:
        return "", local_site()


def _write(text: str, dry_run: bool) -> None:
    """Write the site file, when it can be used as it would be then. Raises :class:`SiteFileError`."""
    from lazy_quarry.files import given
    from lazy_quarry.probe.machine import this_machine
    from lazy_quarry.site.site_file.site_file import site_file, site_of

    path = site_file()
    site_of(this_machine(), text, str(path))
    if dry_run:
        say(text, nl=False)
        return
    path.parent.mkdir(parents=True, exist_ok=True)
    with given.replacing(str(path)) as out:
        out.write(text.encode())
    if running_client("") is not None:
        say(f"{path} was written; lq renew makes the engine read it")
    else:
        say(f"{path} was written")


@click.command("sites")
@format_option
def sites_command(form: str) -> None:
    """List your sites: this machine, and each that has a site file."""
    from lazy_quarry.cli.output.hosts_text import site_lines
    from lazy_quarry.site.site_file.sites import known_sites

    found = known_sites()
    if is_json(form):
        print_json([{**vars(each), "file": str(each.file), "state": str(each.state)} for each in found])
    else:
        print_lines(site_lines(found))
