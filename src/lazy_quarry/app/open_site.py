"""Opening the application on a site."""

import faulthandler
import os
import shutil
import sys
from datetime import UTC
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING

from lazy_quarry.app.app import QuarryApp
from lazy_quarry.app.shared.draft_shelf import DraftShelf
from lazy_quarry.probe.zone import local_zone
from lazy_quarry.site.site_file.sites import site_names
from lazy_quarry.store.folder import chosen_site, state_folder

if TYPE_CHECKING:
    from lazy_quarry.demo.virtual_clock import OnVirtualClock
    from lazy_quarry.link.site_client import SiteClient


def _demo_folder() -> Path:
    """Where the demo keeps drafts and scripts: beside the real site's state, when that has a folder of its own."""
    folder = state_folder("oxbow", None)
    return folder / "oxbow" if os.environ.get("LQ_STATE") else folder


def demo_app(speed: int, paused: bool, seed: int, past_days: int) -> QuarryApp:
    """The application on the demo site; your folder is filled with the example scripts that aren't there."""
    folder = _demo_folder()
    scripts = folder / "scripts"
    scripts.mkdir(parents=True, exist_ok=True)
    for example in resources.files("lazy_quarry.demo").joinpath("scripts").iterdir():
        target = scripts / example.name
        if example.is_file() and not target.exists():  # an installed package has a folder of compiled files there
            with resources.as_file(example) as source:
                shutil.copyfile(source, target)

    def connect() -> "SiteClient":
        from lazy_quarry.demo.session import DemoClient

        return DemoClient(speed, paused, seed, past_days)

    return QuarryApp(connect, scripts, DraftShelf(folder, "oxbow"), UTC)


def open_demo(speed: int, paused: bool, seed: int, past_days: int) -> None:
    """Run the application on the demo site until the person leaves."""
    _take_terminal()
    demo_app(speed, paused, seed, past_days).run()


def open_rehearsal(rehearsed: "OnVirtualClock", name: str, speed: int, paused: bool) -> None:
    """Run the application on a rehearsal site of one's own until the person leaves."""
    _take_terminal()
    rehearsal_app(rehearsed, name, speed, paused).run()


def rehearsal_app(rehearsed: "OnVirtualClock", name: str, speed: int, paused: bool) -> QuarryApp:
    """The application on a rehearsal site of one's own."""
    folder = _demo_folder().parent / "".join(sign if sign.isalnum() or sign in "-_" else "-" for sign in name)
    folder.mkdir(parents=True, exist_ok=True)

    def connect() -> "SiteClient":
        from lazy_quarry.demo.session import DemoClient

        return DemoClient(speed, paused, past_days=1, rehearsed=rehearsed)

    return QuarryApp(connect, Path.cwd(), DraftShelf(folder, name), UTC)


def machine_app(state: str) -> QuarryApp:
    """The application on the chosen site."""
    folder = state_folder(chosen_site(), state or None)

    def connect() -> "SiteClient":
        from lazy_quarry.link.client import SocketClient

        return SocketClient(folder)

    others = tuple(name for name in site_names() if name != chosen_site())
    return QuarryApp(connect, Path.cwd(), DraftShelf(folder, chosen_site()), local_zone(), sites=others)


def open_machine(state: str) -> None:
    """Run the application on the chosen site, then on those that the person goes on to, until they leave; jobs go on."""
    _take_terminal()
    while True:
        app = machine_app(state)
        app.run()
        if not app.next_site:
            return
        state, os.environ["LQ_SITE"] = "", app.next_site
        os.environ.pop("LQ_STATE", None)  # that is the folder of the site that was left


def _take_terminal() -> None:
    from lazy_quarry.errors import QuarryError

    if not sys.stdin.isatty() or not sys.stdout.isatty():
        raise QuarryError("the application needs a terminal; lazy-quarry --help lists what works without one")
    if not sys.stderr.isatty():  # where Textual would draw; what is redirected stays as it is
        sys.__stderr__ = sys.__stdout__  # type: ignore[misc]
    faulthandler.enable(sys.stdout)  # what ends the process at once leaves its trace there
