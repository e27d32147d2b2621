"""Scripts and commands in a person's folders, from which a draft may begin: found by a thread."""

import json
from pathlib import Path

from msgspec import Struct

from lazy_quarry.files import given, ours

ENDINGS = (".sh", ".bash", ".py", ".R", ".jl", ".pl", ".csh", ".zsh")
OWN, EXAMPLES = 12, 500
"""Scripts that are listed at most of a person's own folder, and of the site's examples."""


class ScriptsThere(Struct, frozen=True):
    """The newest scripts of a folder by name, each with its first words, and how many there are."""

    folder: str
    scripts: tuple[tuple[Path, str], ...] = ()
    count: int = 0


class ThingsThere(Struct, frozen=True):
    """Scripts of one's own and of the site, and the commands that worked in the last interactive shell."""

    own: ScriptsThere
    examples: ScriptsThere | None = None
    worked: tuple[str, ...] = ()


def things_there(own: Path, examples: str, commands: Path) -> ThingsThere:
    """All of it; what can't be read isn't there. ``examples`` is empty where the site has none."""
    there = scripts_there(Path(examples), EXAMPLES) if examples else None
    return ThingsThere(scripts_there(own, OWN), there, _commands(commands))


def scripts_there(folder: Path, most: int) -> ScriptsThere:
    """The newest scripts of a folder, so many at most."""
    try:
        found = [path for path in folder.iterdir() if path.suffix in ENDINGS and path.is_file()]
        newest = sorted(found, key=lambda path: -path.stat().st_mtime)[:most]
    except OSError:
        return ScriptsThere(str(folder))
    return ScriptsThere(str(folder), tuple((path, _first_words(path)) for path in sorted(newest)), len(found))


def _commands(path: Path) -> tuple[str, ...]:
    try:
        found = json.loads(ours.read(path))
    except (OSError, ValueError):
        return ()
    return tuple(str(one) for one in found) if isinstance(found, list) else ()


def _first_words(path: Path) -> str:
    """The first comment below the header, else nothing: what the script says of itself."""
    try:
        lines = given.read(path, 20_000).decode(errors="replace").splitlines()[:80]
    except OSError:
        return ""
    end = max((at for at, line in enumerate(lines) if line == "# ///"), default=0)
    return next((line[2:] for line in lines[end + 1 :] if line.startswith("# ")), "")
