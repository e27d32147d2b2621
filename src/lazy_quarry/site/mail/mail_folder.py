"""Mail of a site on disk: what is still to be sent, and a Maildir with all that was written.

A message is in ``outbox`` until a relay has taken it, or has refused it for good. Of events up to the number ``mark`` all mail is
written; what an engine wrote of later ones before it was killed is known by its name, and not written twice.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import suppress
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from msgspec import Struct
from msgspec.structs import asdict

from lazy_quarry.core.values import replace
from lazy_quarry.errors import StateFolderError
from lazy_quarry.files import ours

if TYPE_CHECKING:
    from email.message import EmailMessage

MOST_KEPT = 1_000
"""Messages that stay in the Maildir; older ones go."""
State = Literal["kept", "waits", "sent", "refused", "given up"]


class Letter(Struct, frozen=True):
    """A message: when it was written, to whom, of which job (0 for a chain), what became of it, and why."""

    name: str
    at_ms: int
    to: str
    subject: str
    job: int
    state: State
    why: str = ""
    text: str = ""
    number: int = 0
    """Its own for good, counted from 1 in each state folder."""
    user: str = ""
    """The person whose job or document it is about; empty for budgets, and for letters of an earlier version."""


class MailFolder:
    """The folder ``mail`` of a state folder; in memory when there is none."""

    def __init__(self, folder: Path | None) -> None:
        self.folder = folder / "mail" if folder is not None else None
        self.mark: int | None = None
        self.told: set[str] = set()
        """Mail that was due at an instant and is written: job, attempt and word."""
        self._letters: dict[str, Letter] = {}
        self._last = 0
        """The number of the newest letter that was ever written."""
        self._messages: dict[str, bytes] = {}
        if self.folder is not None:
            with suppress(OSError, ValueError, TypeError, KeyError):
                known = json.loads(ours.read(self.folder / "state.json"))
                self.mark, self.told = int(known["mark"]), set(map(str, known["told"]))
                self._letters = {name: Letter(**one) for name, one in known["letters"].items()}
                self._last = int(known.get("last", 0))
                for name, letter in self._letters.items():
                    if not letter.number:  # an earlier version did not count them
                        self._letters[name] = self._numbered(letter)

    # -- writing -----------------------------------------------------------------------------------

    def knows(self, name: str) -> bool:
        """True when a letter of this name was written."""
        return name in self._letters

    def write(self, letter: Letter, message: EmailMessage, told: str = "") -> None:
        """Keep a message, and have it sent if it ``waits``. Raises :class:`StateFolderError`, and then it is written later."""
        raw = message.as_bytes()  # by the policy that it was made with: RFC 5322 line ends
        if letter.state == "waits":
            self._put(letter.name, raw)
        if letter.name not in self._letters:
            self._deliver(raw)
        before = self._letters.get(letter.name)
        kept = replace(letter, text="", number=before.number) if before is not None else self._numbered(letter)
        self._letters[letter.name] = replace(kept, text="")
        self._messages[letter.name] = raw if self.folder is None else b""
        if told:
            self.told.add(told)
        self._keep()

    def _numbered(self, letter: Letter) -> Letter:
        self._last += 1
        return replace(letter, number=self._last)

    def _put(self, name: str, raw: bytes) -> None:
        if self.folder is None:
            return
        try:
            (self.folder / "outbox").mkdir(parents=True, exist_ok=True, mode=0o700)
            ours.write_whole(self.folder / "outbox" / f"{name}.eml", raw)
        except OSError as fault:
            raise StateFolderError(f"mail cannot be kept in {self.folder}: {fault.strerror}") from None

    def _deliver(self, raw: bytes) -> None:
        """Put a copy into the Maildir."""
        if self.folder is None:
            return
        import mailbox  # only who writes mail pays for it

        try:
            self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            box = mailbox.Maildir(self.folder / "box", create=True)
            added = box.add(raw)
            (self.folder / "box" / "new" / added).chmod(0o600)  # mailbox leaves that to the umask
            names = sorted(path.name for sub in ("new", "cur") for path in (self.folder / "box" / sub).iterdir())
            for name in names[:-MOST_KEPT]:
                for sub in ("new", "cur"):
                    (self.folder / "box" / sub / name).unlink(missing_ok=True)
        except OSError as fault:
            raise StateFolderError(f"mail cannot be kept in {self.folder}: {fault.strerror}") from None

    def begin(self, mark: int) -> None:
        """All mail about events up to this one is written, or it was before there was any."""
        self.mark = mark
        self._keep()

    def settle(self, name: str, state: State, why: str = "") -> None:
        """Note what became of a message; one that is sent or refused leaves the outbox."""
        letter = self._letters.get(name)
        if letter is not None:
            self._letters[name] = replace(letter, state=state, why=why)
        if state != "waits" and self.folder is not None:
            (self.folder / "outbox" / f"{name}.eml").unlink(missing_ok=True)
        self._keep()

    def _keep(self) -> None:
        while len(self._letters) > MOST_KEPT:
            oldest = next(iter(self._letters))
            if self._letters[oldest].state == "waits":
                break
            del self._letters[oldest]
            self._messages.pop(oldest, None)
        if self.folder is None:
            return
        state = {
            "mark": self.mark or 0,
            "last": self._last,
            "told": sorted(self.told)[-5 * MOST_KEPT :],
            "letters": {name: asdict(one) for name, one in self._letters.items()},
        }
        try:
            self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            ours.write_whole(str(self.folder / "state.json"), json.dumps(state))
        except OSError as fault:
            raise StateFolderError(f"mail cannot be kept in {self.folder}: {fault.strerror}") from None

    # -- reading -----------------------------------------------------------------------------------

    def waits(self, name: str) -> bool:
        """True while a letter is still to be sent."""
        letter = self._letters.get(name)
        return letter is not None and letter.state == "waits"

    def waiting(self) -> Iterator[tuple[str, bytes, float]]:
        """The messages that are still to be sent, the oldest first, and since when they are (seconds since 1970)."""
        if self.folder is None:
            return
        with suppress(OSError):
            for path in sorted((self.folder / "outbox").glob("*.eml")):
                with suppress(OSError):
                    yield path.stem, ours.read(path), path.stat().st_mtime

    def letters(self, most: int, among: Callable[[Letter], bool] = lambda letter: True) -> list[Letter]:
        """The newest letters among those that are meant, each with its text."""
        newest = list(islice(filter(among, reversed(self._letters.values())), max(0, most)))
        texts = self._texts({letter.name for letter in newest})
        return [replace(letter, text=texts.get(letter.name, "")) for letter in newest]

    def _texts(self, names: set[str]) -> dict[str, str]:
        if self.folder is None:
            return {name: text_of(raw) for name, raw in self._messages.items() if name in names}
        from email import message_from_bytes, policy

        found = dict[str, str]()
        with suppress(OSError):
            for path in [*(self.folder / "box" / "new").iterdir(), *(self.folder / "box" / "cur").iterdir()]:
                with suppress(OSError):
                    raw = ours.read(path)
                    name = str(message_from_bytes(raw, policy=policy.default).get("X-Lazy-Quarry-Notice", ""))
                    if name in names:
                        found[name] = text_of(raw)
        return found


def text_of(raw: bytes) -> str:
    """The text of a message."""
    from email import message_from_bytes, policy

    message = message_from_bytes(raw, policy=policy.default)
    body = message.get_body(("plain",))
    return str(body.get_content()).replace("\r\n", "\n") if body is not None else ""
