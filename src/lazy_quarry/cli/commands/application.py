"""Opening the application."""

import click

from lazy_quarry.cli.options import Usage


@click.command("demo")
@click.option("--speed", type=int, default=60, help="how much faster than real time, 1 to 3600")
@click.option("--paused", is_flag=True, help="pause the clock at first")
@click.option("--seed", type=int, default=7, help="another seed makes another past and present")
@click.option("--past", type=int, metavar="DAYS", default=90, help="days that it has behind it, 1 to 365")
@click.option("--history", metavar="TRACE.swf", default="", help="a workload trace as the past of a rehearsal site")
@click.option(
    "--of", "file", metavar="SITE.toml", default="", help="a rehearsal site of a site file with nodes and queues"
)
@click.option("--site", "file", hidden=True, default="")
def demo_command(speed: int, paused: bool, seed: int, past: int, history: str, file: str) -> None:
    if not 1 <= speed <= 3600:
        raise Usage(f"--speed {speed}: it goes from 1 to 3600")
    if not 1 <= past <= 365:
        raise Usage(f"--past {past}: it goes from 1 to 365")
    if history or file:
        _open_own(history, file, speed, paused, seed)
        return
    from lazy_quarry.app.open_site import open_demo

    open_demo(speed, paused, seed, past)


def _open_own(history: str, file: str, speed: int, paused: bool, seed: int) -> None:
    """Open a rehearsal site of one's own: its nodes from a site file, its past from a trace."""
    from lazy_quarry.app.open_site import open_rehearsal
    from lazy_quarry.demo.own_site import own_rehearsal

    rehearsed, name = own_rehearsal(history, file, seed)
    open_rehearsal(rehearsed, name, speed, paused)
