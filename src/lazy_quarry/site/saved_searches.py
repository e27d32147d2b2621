"""Searches that a person keeps under a name, in ``searches.toml`` of their configuration folder."""

from pathlib import Path

import platformdirs
import tomlkit
from tomlkit.exceptions import TOMLKitError

from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.errors import QuarryError
from lazy_quarry.files import given, ours


class SavedSearches:
    """The file of saved searches: a name and a search on each line, as TOML 1.0; a person may edit it too."""

    def __init__(self, path: Path | None = None) -> None:
        self.path = path or Path(platformdirs.user_config_dir("lazy-quarry", appauthor=False)) / "searches.toml"

    def all(self) -> dict[str, str]:
        """Every search by its name. Raises :class:`QuarryError` for a file that is no TOML."""
        return {name: value for name, value in self._document().items() if isinstance(value, str)}

    def search(self, name: str) -> str:
        """The search of a name. Raises :class:`QuarryError` when there is none."""
        known = self.all()
        if name not in known:
            raise QuarryError(
                f'no search is saved as "{shortened(name)}"{nearest(name, known)}; {self.path} has those there are'
            )
        return known[name]

    def save(self, name: str, words: str) -> None:
        """Keep a search; without words it is removed. What else stands in the file stays as it is."""
        if not name.strip() or not name.isprintable():
            raise QuarryError("a saved search needs a name of one line")
        document = self._document()
        if words:
            document[name] = words
        else:
            document.pop(name, None)
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            ours.write_whole(str(self.path), tomlkit.dumps(document))
        except OSError as fault:
            raise QuarryError(f"{self.path}: {fault.strerror}; the search was not saved") from None

    def _document(self) -> tomlkit.TOMLDocument:
        try:
            return tomlkit.parse(given.read_whole(self.path).decode())
        except FileNotFoundError:
            return tomlkit.document()
        except (OSError, UnicodeDecodeError, TOMLKitError) as fault:
            raise QuarryError(f"{self.path} cannot be read as TOML: {fault}; mend or remove it") from None
