"""The command about metrics."""

import click

from lazy_quarry.cli.options import client_of, say, state_option

LOOPBACK = "127.0.0.1"


@click.command("metrics")
@click.option(
    "--serve", metavar="PORT", type=click.IntRange(0, 65_535), help="answer on this port of this machine alone"
)
@state_option
def metrics_command(serve: int | None, state: str) -> None:
    """Print how the site is doing as metrics in the OpenMetrics text format, or answer with them under /metrics."""
    from lazy_quarry.wording.metrics import metrics_text, registry_of

    client = client_of(state)
    if serve is None:
        click.echo(metrics_text(client.board()), nl=False)
        return
    from prometheus_client import start_http_server

    from lazy_quarry.errors import QuarryError

    try:
        server, thread = start_http_server(serve, LOOPBACK, registry_of(client.board))
    except OSError as fault:
        raise QuarryError(f"port {serve} of {LOOPBACK} cannot be used: {fault.strerror}") from None
    say(f"http://{LOOPBACK}:{server.server_port}/metrics; ctrl+c ends it")
    try:
        thread.join()
    except KeyboardInterrupt:
        server.shutdown()
