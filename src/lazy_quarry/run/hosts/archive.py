"""The agent as one file (PEP 441): what is sent to a host, from the modules that run there."""

from __future__ import annotations

import hashlib
import io
import zipfile
import zlib
from functools import cache, cached_property
from pathlib import Path

from msgspec import Struct

_PACKAGES = ("", "run", "run/node", "files", "inside", "inside/python")
"""Folders of modules that are sent, below this package; of the first two only what makes packages of them."""
_BARE = ("", "run")
_MAIN = b"from lazy_quarry.run.node.remote import main\n\nmain()\n"
_BEGINNING = (1980, 1, 1, 0, 0, 0)
"""The instant that all files in it have: the same modules make the same archive."""


class Archive(Struct, frozen=True, dict=True):
    """The agent's archive, and the SHA-256 that names it on a host."""

    content: bytes
    digest: str

    @cached_property
    def check(self) -> int:
        """Its CRC-32, by which a host sees that all of it is there."""
        return zlib.crc32(self.content)


@cache
def agent_archive() -> Archive:
    """Put the archive together from this program's own modules."""
    root = Path(__file__).resolve().parents[2]
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as archive:
        for package in _PACKAGES:
            folder = root / package
            modules = {"__init__.py": b""}  # a folder without one is no package in an archive
            modules |= {each.name: each.read_bytes() for each in sorted(folder.glob("*.py"))}
            for name, content in modules.items():
                if package not in _BARE or name == "__init__.py":
                    _put(archive, (Path("lazy_quarry") / package / name).as_posix(), content)
        _put(archive, "__main__.py", _MAIN)
    content = held.getvalue()
    return Archive(content, hashlib.sha256(content).hexdigest())


def _put(archive: zipfile.ZipFile, name: str, content: bytes) -> None:
    archive.writestr(zipfile.ZipInfo(name, _BEGINNING), content, zipfile.ZIP_DEFLATED)
