"""A shell as a job."""

import click

from lazy_quarry.cli.options import client_of, set_option, state_option


@click.command("shell")
@click.option("--cores", type=int, default=1, metavar="N", help="cores to have")
@click.option("--walltime", default="1h", metavar="D", help="it ends then, with a warning before")
@click.option("--memory", default="", metavar="SIZE", help="for each core, unless it says /job")
@set_option
@state_option
def shell_command(cores: int, walltime: str, memory: str, settings: tuple[str, ...], state: str) -> None:
    from lazy_quarry.cli.shell_terminal import open_shell, shell_submission, warning_before
    from lazy_quarry.core.units import exact_duration, parse_duration
    from lazy_quarry.store.folder import chosen_site, state_folder

    seconds = parse_duration(walltime)
    client = client_of(state)
    default = next(queue.memory_default_mib for queue in client.board().site.queues)
    size = memory or f"{default} MiB"
    size = size if "/" in size else f"{size}/core"
    submission = shell_submission(cores, exact_duration(seconds), size, warning_before(seconds), settings)
    done = open_shell(client, submission, state_folder(chosen_site(), state or None), click.echo)
    raise click.exceptions.Exit(done)
