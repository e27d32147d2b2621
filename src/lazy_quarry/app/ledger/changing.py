"""Changes of accounts in Ledger: typed, looked at for what they would come to, and made after a question."""

from functools import partial

from lazy_quarry.app.ledger.account_change import HOW, AccountChange, change_question, parse_change
from lazy_quarry.app.ledger.account_rows import AccountRows
from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place


class AccountChanging(Feature):
    """Grants and moves core-hours of the account under the cursor, adds and removes members."""

    NAME = "changing"
    BOUND = (
        bound_of(
            NAME,
            "change",
            "ask",
            "grant or move core-hours of an account, add or remove members, after asking",
        ),
    )

    def __init__(self, place: Place) -> None:
        super().__init__(place)
        self._account = ""
        """The account that is being changed."""

    def ask(self) -> None:
        """Type what is to change of the account under the cursor."""
        line = self.one(AccountRows).current().line
        if line is None:
            self.say("Go to an account first.")
            return
        if why := self._may_not(line.account):
            self.say(why, bad=True)
            return
        self._account = line.account
        self.type_in("#asked-change", "")
        self.say(f"What is to change of {line.account}: {HOW}.")

    def _may_not(self, account: str, what: str = "") -> str:
        """Why this person may not do something to an account, or nothing at all; empty where they may."""
        person = self.board.person if self.board is not None else None
        if person is None or person.operator or (what != "grant" and account in person.answers_for):
            return ""
        if what == "grant":
            return f"Only who runs the site may grant core-hours to {account}; whoever answers for an account may move its own."
        return f"Only who answers for {account}, or runs the site, may change it; you are neither."

    def take(self, words: str) -> None:
        """Say what the change that was typed would come to, and ask; what one may not do is said at once.

        Raises :class:`BadValue` for words that name no change.
        """
        change = parse_change(words, self._account)
        assert self.board is not None
        if why := self._may_not(change.account, change.what):
            self.say(why, bad=True)
            return
        then = partial(self._change, change)
        self.quarry.ask(change_question(change, self.board.accounts), then, yes="Do it", no="Leave it")

    @apart("account", exclusive=False)
    def _change(self, change: AccountChange) -> None:
        outcome = change.made(self.client)
        self.quarry.hand_over(self.say, outcome.message, not outcome.done)
