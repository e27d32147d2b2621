"""The calls about the books: reports of a period, the jobs behind them, and studies of the past."""

# The mark over each call makes it; its body only says what it is.
# mypy: disable-error-code=empty-body

from __future__ import annotations

from typing import TYPE_CHECKING

from lazy_quarry.link.call_marks import Asking, call
from lazy_quarry.views.rights import ALL

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.burn import BudgetEnd
    from lazy_quarry.core.ledger.job_record import JobRecord
    from lazy_quarry.core.ledger.report import BySize, OverTime, Report, Rhythm, ShareLine, Waste
    from lazy_quarry.views.outcomes import Outcome
    from lazy_quarry.views.study_view import StudyView


class BookCalls(Asking):
    """The calls about a site's books."""

    @call("ledger", ALL, long="yes")
    def report(
        self, period: str, by: list[str] | None = None, where: dict[str, str] | None = None, waits: bool = True
    ) -> Report:
        """Report charges of a period in plain words, and where they went; by account, user, queue, tier, name, month, two at most.

        ``where`` chooses: account, user, queue, tier or name, several by commas. Without ``waits`` nothing is told of these.
        Raises :class:`BadValue` for a period, key or choice that there isn't.
        """
        ...

    @call("ledger", ALL, long="yes")
    def over_time(self, period: str, split: str, where: dict[str, str] | None = None) -> OverTime:
        """Report charges over a period, by days, weeks or months as these suit it, split by one key."""
        ...

    @call("ledger", ALL, long="yes")
    def waits(self, period: str, where: dict[str, str] | None = None) -> BySize:
        """Report the waits of jobs that ended in a period, by the number of cores they held."""
        ...

    @call("ledger", ALL, long="yes")
    def rhythm(self, period: str, where: dict[str, str] | None = None) -> Rhythm:
        """Core-hours held in a period by weekday and hour, in the zone of the site."""
        ...

    @call("ledger", ALL)
    def shares(self) -> tuple[ShareLine, ...]:
        """Report each account's share of the cluster, its use of late by days, and how far its jobs stand ahead for it."""
        ...

    @call("ledger", ALL, long="yes")
    def waste(self, period: str, where: dict[str, str] | None = None) -> Waste:
        """Report requests that were not used in a period, the names with most of them, and what advice would have saved."""
        ...

    @call("ledger", ALL, long="yes")
    def budget_ends(self) -> dict[str, BudgetEnd]:
        """Report when each account's budget ends at the present rate, for those that were used in the last 30 days."""
        ...

    @call("ledger", ALL, long="yes")
    def records(
        self, period: str, where: dict[str, str] | None = None, after: tuple[int, int] | None = None
    ) -> list[JobRecord]:
        """Jobs and tasks that ended in a period, in the order of their ends; some at a time, as open formats have them.

        ``after`` are the end and number of the last one before; an empty answer says that there are no more.
        """
        ...

    @call("mailer", ALL)
    def post(self, to: str, subject: str, text: str, name: str, document: str) -> Outcome:
        """Mail a document to somebody, as notices are: ``document`` is a PDF in base64 (RFC 4648), ``name`` its file's."""
        ...

    # -- studies

    @call("studies", ALL)
    def begin_study(
        self, policies: list[str], since: str = "", settings: list[str] | None = None, sample: int = 0
    ) -> StudyView:
        """Begin to study the site's own past, of the last 30 days or since then, under policies and with settings.

        With a ``sample`` it also tries the forecasts that the site would have made of so many jobs at their submission.
        Raises :class:`BadValue`, and :class:`Refused` while another study is at work.
        """
        ...

    @call("studies", ALL)
    def studied(self) -> StudyView:
        """Report progress and findings of the last study."""
        ...

    @call("studies", ALL)
    def stop_study(self) -> StudyView:
        """Stop the study that is at work."""
        ...
