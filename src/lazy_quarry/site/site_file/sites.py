"""A person's sites: this machine, and each that they have a site file of."""

import os
import re
from contextlib import suppress
from pathlib import Path

import platformdirs
from msgspec import Struct

from lazy_quarry.store.folder import MACHINE, chosen_site, default_state

_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}")


def sites_folder() -> Path:
    """The folder of site files; ``LQ_SITES`` names another one."""
    folder = os.environ.get("LQ_SITES")
    return Path(folder) if folder else platformdirs.user_config_path("lazy-quarry") / "sites"


def site_names() -> list[str]:
    """The names of this person's sites, this machine's first."""
    found = list[str]()
    with suppress(OSError):
        found = sorted(path.stem for path in sites_folder().iterdir() if path.suffix == ".toml")
    return [MACHINE, *(name for name in found if _NAME.fullmatch(name) and name != MACHINE)]


class KnownSite(Struct, frozen=True):
    """A site of this person's: its file, which need not be there for this machine, and where all is kept that is written of it."""

    name: str
    chosen: bool
    file: Path
    state: Path


def known_sites() -> list[KnownSite]:
    """Every site of this person's, this machine's first."""
    chosen, found = chosen_site(), []
    for name in site_names():
        given = os.environ.get("LQ_STATE") if name == chosen else None
        folder = Path(given) if given else default_state(name)
        found.append(KnownSite(name, name == chosen, sites_folder() / f"{name}.toml", folder))
    return found
