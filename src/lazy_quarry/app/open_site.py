"""Opening the application on a site."""

import shutil
import sys
from datetime import UTC, datetime
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

from lazy_quarry.app.app import QuarryApp
from lazy_quarry.app.draft_shelf import DraftShelf

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient


def _folder(name: str, given: str = "") -> Path:
    import os

    chosen = given or os.environ.get("LQ_STATE")
    base = Path(chosen).expanduser().absolute() if chosen else Path(platformdirs.user_state_dir("lazy-quarry", False))
    return base if chosen and name == "machine" else base / name


def demo_app(speed: int, paused: bool, seed: int, past_days: int = 90) -> QuarryApp:
    """The application on the demo site; your folder is filled with the example scripts that aren't there."""
    folder = _folder("oxbow")
    scripts = folder / "scripts"
    scripts.mkdir(parents=True, exist_ok=True)
    for example in resources.files("lazy_quarry.demo").joinpath("scripts").iterdir():
        target = scripts / example.name
        if not target.exists():
            with resources.as_file(example) as source:
                shutil.copyfile(source, target)

    def connect() -> "SiteClient":
        from lazy_quarry.demo.session import DemoClient

        return DemoClient(speed, paused, seed, past_days)

    return QuarryApp(connect, scripts, DraftShelf(folder, "oxbow"), UTC)


def open_demo(speed: int, paused: bool, seed: int) -> None:
    """Run the application on the demo site until the person leaves."""
    _need_terminal()
    demo_app(speed, paused, seed).run()


def machine_app(state: str) -> QuarryApp:
    """The application on this machine's site."""
    folder = _folder("machine", state)

    def connect() -> "SiteClient":
        from lazy_quarry.link.client import SocketClient

        return SocketClient(folder)

    zone = datetime.now().astimezone().tzinfo or UTC
    return QuarryApp(connect, Path.cwd(), DraftShelf(folder, "machine"), zone)


def open_machine(state: str) -> None:
    """Run the application on this machine's site until the person leaves; jobs go on."""
    _need_terminal()
    machine_app(state).run()


def _need_terminal() -> None:
    from lazy_quarry.errors import QuarryError

    if not sys.stdin.isatty() or not sys.stdout.isatty():
        raise QuarryError("the application needs a terminal; lazy-quarry --help lists what works without one")
