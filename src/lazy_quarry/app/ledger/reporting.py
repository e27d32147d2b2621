"""The report of what Ledger shows: written as PDF, or sent by mail after a question."""

from functools import partial
from pathlib import Path

from lazy_quarry.app.ledger.seen_books import STILL, SeenBooks
from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.units import plural


class Reporting(Feature):
    """Makes the report of the period and of what is chosen in it."""

    NAME = "reporting"
    BOUND = (
        bound_of(NAME, "save", "print", "save a report of what is seen as PDF", priority=True),
        bound_of(NAME, "submit", "ask_address", "send that report to somebody by mail, after asking", priority=True),
    )

    def __init__(self, place: Place, seen: SeenBooks) -> None:
        super().__init__(place)
        self.seen = seen

    def print(self) -> None:
        """Write the report of what is seen as PDF into the present folder."""
        if self.seen.found is None:
            self.say(STILL)
            return
        span = self.seen.found.period
        name = "-".join(filter(None, ("report", self.seen.account, self.seen.user, span.name.replace(" ", "-"))))
        path = self.quarry.folder / f"{''.join(sign if sign.isalnum() or sign in '-_.' else '-' for sign in name)}.pdf"
        self.say(f"{path} is being written …")
        self._print(f"{span.first} to {span.last}", self.seen.where, path)

    @apart("print", exclusive=False)
    def _print(self, words: str, where: dict[str, str], path: Path) -> None:
        from lazy_quarry.draw.pages.period_document import printed_report, read_answers
        from lazy_quarry.draw.pages.printed_pages import write_pages

        pages = write_pages(printed_report(read_answers(self.client, words, where), self.quarry.zone), path)
        self.quarry.hand_over(self.say, f"{path} was written: {plural(pages, 'page')}.")

    def ask_address(self) -> None:
        """Ask to whom the report of what is seen is to be mailed."""
        if self.seen.found is None:
            self.say(STILL)
        else:
            span = self.seen.found.period
            self.type_in("#asked-address", "")
            self.say(
                f"Mail the report of {span.name} to whom? An address, as noor@example.org; enter asks once more.",
            )

    def take(self, to: str) -> None:
        """Ask once more, then send."""
        from lazy_quarry.site.mail.mailer import ADDRESS

        if not ADDRESS.fullmatch(to):
            self.say(f"{shortened(to)} is not a mail address.", bad=True)
            return
        if self.seen.found is None:
            return
        span = self.seen.found.period
        of = " of " + " and ".join(self.seen.where.values()) if self.seen.where else ""
        then = partial(self._send, f"{span.first} to {span.last}", self.seen.where, to)
        question = f"Mail the report{of} for {span.name}, {span.span}, to {to}?"
        self.quarry.ask(question, then, yes="Send it", no="Leave it")

    @apart("print", exclusive=False)
    def _send(self, words: str, where: dict[str, str], to: str) -> None:
        from lazy_quarry.draw.pages.printed_mail import mail_report

        outcome = mail_report(self.client, words, where, to, self.quarry.zone)
        told = f"{outcome.message[:1].upper()}{outcome.message[1:]}."
        self.quarry.hand_over(self.say, told, not outcome.done)
