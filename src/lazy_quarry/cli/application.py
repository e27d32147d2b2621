"""Opening the application."""

import click

from lazy_quarry.cli.options import Usage


@click.command("demo")
@click.option("--speed", type=int, default=60, help="how much faster than real time, 1 to 3600")
@click.option("--paused", is_flag=True, help="pause the clock at first")
@click.option("--seed", type=int, default=7, help="another seed makes another past and present")
def demo_command(speed: int, paused: bool, seed: int) -> None:
    if not 1 <= speed <= 3600:
        raise Usage(f"--speed {speed}: it goes from 1 to 3600")
    from lazy_quarry.app.open_site import open_demo

    open_demo(speed, paused, seed)
