"""The mail of a site: what was written, sent, refused, or waits; the text of the one under the cursor."""

from collections.abc import Sequence

from lazy_quarry.app.shared.cells import Pen, wrap
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.core.units import clock_time
from lazy_quarry.site.mail.mail_folder import Letter

HEAD = 2
_TONES = {"kept": "moss", "sent": "moss", "waits": "river", "refused": "rust", "given up": "rust"}


class LetterRows(Rows):
    """A row a letter, the newest first; its text opens below it."""

    DEFAULT_CSS = "LetterRows { width: 1fr; height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="letters")
        self.letters: Sequence[Letter] = ()
        self.now_ms = 0

    def show(self, letters: Sequence[Letter], now_ms: int) -> None:
        """These letters."""
        self.letters, self.now_ms = letters, now_ms
        self.cursor = max(HEAD, self.cursor)
        self.refit()

    @property
    def current(self) -> int:
        """The place of the letter whose text is open."""
        return max(0, min(self.cursor - HEAD, len(self.letters) - 1))

    def _text(self) -> list[str]:
        if not self.letters:
            return []
        letter = self.letters[self.current]
        why = wrap(letter.why, max(20, self.room - 6), 3) if letter.why else []
        return ["", f"To: {letter.to}", *why, "", *letter.text.rstrip().split("\n")]

    def row_count(self) -> int:
        """The letters, and the text of one."""
        return HEAD + len(self.letters) + len(self._text())

    def move(self, to: int) -> None:
        """The cursor stays on the letters."""
        super().move(max(HEAD, min(to, HEAD + len(self.letters) - 1)))
        self.refit()

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One line."""
        if row == 0:
            pen.write(" MAIL", bold=True)
            words = "the newest first" if self.letters else "none was written; a header asks for it with notify"
            pen.write(f"   {words}", "dim")
            return
        if row < HEAD:
            return
        if row - HEAD < len(self.letters):
            letter = self.letters[row - HEAD]
            at = clock_time(letter.at_ms, self.now_ms, self.quarry.zone)
            pen.cell(f"{letter.number}", 5, "dim", right=True).cell(f"  {at}", 14, "dim").cell(
                letter.state, 9, _TONES[letter.state]
            )
            pen.cell(letter.subject.partition("] ")[2] or letter.subject, max(8, self.room - 29), "ink", bold=current)
            return
        text = self._text()
        pen.write(f"     {text[row - HEAD - len(self.letters)]}", "ink")
