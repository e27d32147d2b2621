"""A chain file read from a disk, with the scripts that it names."""

import os

from lazy_quarry.core.chain.chain_file import scripts_named
from lazy_quarry.core.header.script_file import decode_script
from lazy_quarry.core.paths import name_of_script
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.files import given
from lazy_quarry.views.chain_views import ChainSource


def read_source(path: str, settings: tuple[str, ...] = (), folder: str = "", text: str = "") -> ChainSource:
    """The file at ``path``, or a ``text`` that it will have. Scripts are looked for in its folder; without a path, in ``folder``.

    Raises :class:`QuarryError` saying what is wrong with the file.
    """
    if path and not text:
        try:
            text = given.read_by_command(path).decode()
        except FileNotFoundError:
            raise QuarryError(f"{path} is not there") from None
        except (OSError, UnicodeDecodeError) as fault:
            raise QuarryError(
                f"{path} cannot be read: {getattr(fault, 'strerror', None) or 'it is not text'}"
            ) from None
    if path:
        folder = os.path.abspath(os.path.dirname(path) or ".")
    return ChainSource(
        text=text,
        path=os.path.abspath(path) if path else "",
        folder=folder,
        scripts={named: _script(os.path.join(folder, named)) for named in scripts_named(text)},
        settings=settings,
        environment=tuple(os.environ.items()),
        name=name_of_script(path) if path else "",
    )


def _script(path: str) -> str | None:
    try:
        return decode_script(given.read_whole(path))
    except (OSError, BadValue, ValueError):
        return None
