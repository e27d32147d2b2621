"""Submitting the draft, and trying one task of it."""

from collections.abc import Callable
from functools import partial

from lazy_quarry.app.draft.checks import DraftChecks
from lazy_quarry.app.draft.document import DraftDocument
from lazy_quarry.app.draft.report import ReportRows
from lazy_quarry.app.draft.trial_report import Trial, lines, receipt_words, task_words
from lazy_quarry.app.shared.acts import bound_of, key_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.header.diagnostic import Severity
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.units import clock_time, plural
from lazy_quarry.core.values import replace
from lazy_quarry.errors import BadValue
from lazy_quarry.probe.script import looked_up
from lazy_quarry.site.trial_values import asked_of, has_sizes
from lazy_quarry.views.draft_view import DraftReport
from lazy_quarry.views.foretold import foretold_words
from lazy_quarry.views.outcomes import Receipt


class DraftSending(Feature):
    """Submits the draft, tries tasks of it, and tells what became of these.

    ``ask_task`` asks which task is tried; ``sent`` is called when the draft was submitted.
    """

    NAME = "sending"
    BOUND = (
        bound_of(NAME, "submit", "submit", "submit the script as it stands", priority=True),
        bound_of(
            NAME,
            "try_one",
            "try_one",
            "run one task of it for a few minutes, after saying what that costs",
            priority=True,
        ),
    )

    def __init__(
        self,
        place: Place,
        document: DraftDocument,
        checks: DraftChecks,
        ask_task: Callable[[], None],
        sent: Callable[[], None],
    ) -> None:
        super().__init__(place)
        self.document, self.checks, self._ask_task, self._sent = document, checks, ask_task, sent
        self.trial: Trial | None = None
        """The last trial of the draft."""

    def submit(self) -> None:
        """Submit what is in the editor, as it stands."""
        if self.document.empty:
            self.say(f"There is nothing to submit yet; {key_of('begin')} shows what a script can begin from.", bad=True)
        else:
            self._submit(self.document.submission())

    def try_one(self) -> None:
        """Run one task in the trial tier; of an array, ask which."""
        if self.document.empty:
            self.say(f"There is nothing to try yet; {key_of('begin')} shows what a script can begin from.", bad=True)
        elif (self.checks.report is not None and self.checks.report.shape.tasks) or has_sizes(self.document.text):
            self._ask_task()
        else:
            self.try_task("")

    def try_task(self, words: str) -> None:
        """Try one task, by its number or values; nothing means the first. First say what that would be, and ask."""
        self._ask_try(words, self.document.submission(), self.checks.report)

    def tell_trial(self) -> None:
        """Tell what has become of the job that tries the draft."""
        if self.trial is not None and self.board is not None:
            self.one(ReportRows).show_trial(*lines(self.trial, self.board, self.quarry.zone))

    def _ask_try(self, words: str, submission: Submission, report: DraftReport | None) -> None:
        """Run one task in the trial tier, by its number or its values in words, none meaning the first; say first what that is."""
        try:
            task, parameter, trials = task_words(words)
        except BadValue as fault:
            self.say(str(fault), bad=True)
            return
        walltime_s = report.shape.walltime_s if report else 0
        self._look_ahead(submission, task, trials, partial(self._try, submission, task, parameter, trials, walltime_s))

    @apart("submit", exclusive=False, refused="Not tried: ")
    def _look_ahead(
        self, submission: Submission, task: int | None, trials: list[dict[str, str]], then: Callable[[], None]
    ) -> None:
        sending = looked_up(submission)
        found = [self.client.would_try(sending, task, values or None) for values in trials]
        if refused := next((one.refused for one in found if one.refused), ""):
            self.say(f"Not tried: {refused}. {key_of('next_check')} goes there.", bad=True)
            return
        together = replace(found[0], jobs=tuple(job for one in found for job in one.jobs))
        what = "it" if len(found) == 1 else f"{plural(len(found), 'size')} of it"
        question = f"Try {what} now? {foretold_words(together, self.quarry.zone)}."
        self.quarry.hand_over(partial(self.quarry.ask, question, then, yes="Try it", no="Leave it"))

    @apart("submit", exclusive=False, refused="Not submitted: ")
    def _submit(self, submission: Submission) -> None:
        receipt = self.client.submit(looked_up(submission))
        if receipt.job is None:
            self._refused("Not submitted", receipt)
            return
        when = "no forecast yet"
        if receipt.forecast_ms is not None:
            when = "it runs now"
            if receipt.forecast_ms > receipt.now_ms:
                when = (
                    f"by the plan it starts about {clock_time(receipt.forecast_ms, receipt.now_ms, self.quarry.zone)}"
                )
        once = f" With {', '.join(submission.overrides)}, for this time only." if submission.overrides else ""
        self.quarry.hand_over(self._submitted, receipt.job, f"{when}.{once}")

    def _submitted(self, job: int, words: str) -> None:
        self.quarry.looked_at = job
        self._sent()
        self.say(f"Submitted as {job}; {words} esc, then 4, watches it.")
        self.quarry.read_board()

    @apart("submit", exclusive=False, refused="Not tried: ")
    def _try(
        self, submission: Submission, task: int | None, parameter: str, trials: list[dict[str, str]], walltime_s: int
    ) -> None:
        jobs, sending, client = list[int](), looked_up(submission), self.client
        for values in trials:
            receipt = client.try_one(sending, task, values or None)
            if receipt.job is None:
                self._refused("Not tried", receipt)
                return
            jobs.append(receipt.job)
        trial_walltime = client.job(jobs[0]).walltime_s
        array = client.expand(sending).request.array if parameter and client.check(sending).shape.tasks else None
        self.say(receipt_words(jobs, trial_walltime))
        asked = asked_of(walltime_s, parameter, submission.script, array)
        self.quarry.hand_over(self._tried, Trial(tuple(jobs), asked))

    def _tried(self, trial: Trial) -> None:
        self.trial = trial
        self.quarry.read_board()

    def _refused(self, what: str, receipt: Receipt) -> None:
        worst = next(one for one in receipt.diagnostics if one.severity is Severity.ERROR)
        self.say(f"{what}: line {worst.line}, {worst.message}. {key_of('next_check')} goes there.", bad=True)
