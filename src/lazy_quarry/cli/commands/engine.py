"""Commands about the engine and its state folder."""

import click

from lazy_quarry.cli.options import say, state_option


@click.command("adopt")
@state_option
def adopt_command(state: str) -> None:
    from lazy_quarry.store.folder import chosen_site, state_folder
    from lazy_quarry.store.journal_location import adopt

    folder = state_folder(chosen_site(), state or None)
    adopt(folder)
    say(f"{folder} is a site of its own now")


@click.command("renew")
@state_option
def renew_command(state: str) -> None:
    from lazy_quarry.link.client import SocketClient
    from lazy_quarry.store.folder import chosen_site, state_folder

    folder = state_folder(chosen_site(), state or None)
    SocketClient(folder).leave()
    SocketClient(folder).close()
    say("the engine was replaced; jobs went on")
