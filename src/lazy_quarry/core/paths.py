"""Every path that follows from a script and a job: its start folder, its output, its name.

Nothing here looks at a disk. A relative path is taken from the folder where the job starts, and that folder, when
the header names it with a relative path, from the folder where the job was submitted.
"""

import re
from collections.abc import Mapping

from msgspec import Struct

JOINED = "joined"
"""The value of ``errors`` that sends errors into the output file."""


_PLACEHOLDER = re.compile(r"\{([^{}]+)\}")


def fill_in(template: str, words: Mapping[str, str]) -> str:
    """Text with each ``{placeholder}`` filled in for which ``words`` has a word; the others stay as they are."""
    if "{" not in template:
        return template
    return _PLACEHOLDER.sub(lambda found: words.get(found[1], found[0]), template)


def filled_path(template: str, words: Mapping[str, str]) -> str:
    """A path with its placeholders filled in; no word becomes a folder."""
    if "{" not in template:
        return template
    return _PLACEHOLDER.sub(lambda found: words.get(found[1], found[0]).replace("/", "-"), template)


def within(folder: str, path: str) -> str:
    """A path as seen from a folder: absolute paths stay, and so does everything while the folder is unknown."""
    if not folder or path.startswith("/"):
        return path
    return f"{folder.rstrip('/')}/{path}"


def start_folder(submitted_from: str, directory: str) -> str:
    """Where a job starts: its header's ``directory``, else the folder where it was submitted."""
    return within(submitted_from, directory) if directory else submitted_from


def name_of_script(path: str) -> str:
    """The name of a job whose header gives none: its file's name without the ending, made of allowed characters."""
    stem = re.sub(r"\.[A-Za-z0-9]+$", "", path.rsplit("/", 1)[-1])
    return re.sub(r"[^A-Za-z0-9._-]+", "-", stem).lstrip("._-").rstrip("-")[:64] or "script"


def better_output(path: str, placeholders: str) -> str:
    """An output path with placeholders put before its ending: ``out.txt`` becomes ``out-{job}.txt``."""
    stem, dot, ending = path.rpartition(".")
    return f"{stem}-{placeholders}{dot}{ending}" if dot and "/" not in ending and stem else f"{path}-{placeholders}"


class JobPaths(Struct, frozen=True):
    """The paths of one job. ``words`` are the values of its placeholders, by name."""

    folder: str
    """Where it starts."""
    output_template: str
    errors_template: str
    input_template: str
    words: Mapping[str, str]

    @property
    def output(self) -> str:
        """Where its output goes; absolute unless its folder is unknown."""
        return self._filled(self.output_template)

    @property
    def errors(self) -> str:
        """Where its errors go, which may be the output."""
        return self.output if self.errors_template == JOINED else self._filled(self.errors_template)

    @property
    def input(self) -> str:
        """The file for its standard input, or empty."""
        return within(self.folder, self.input_template) if self.input_template else ""

    @property
    def written(self) -> tuple[str, ...]:
        """The files for output and errors, each once."""
        return tuple(dict.fromkeys((self.output, self.errors)))

    def _filled(self, template: str) -> str:
        return within(self.folder, filled_path(template, self.words))
