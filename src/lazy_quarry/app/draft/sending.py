"""Submitting the draft, and trying one task of it."""

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from textual.widget import Widget

from lazy_quarry.app.draft.trial_report import Trial, receipt_words, task_words
from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.messages import Say
from lazy_quarry.app.shared.quarry import Quarry
from lazy_quarry.core.header.diagnostic import Severity
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.units import clock_time, plural
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.probe.script import looked_up
from lazy_quarry.site.trial_values import asked_of
from lazy_quarry.views.draft_view import DraftReport
from lazy_quarry.views.foretold import foretold_words
from lazy_quarry.views.outcomes import Receipt


class DraftSending:
    """Sends drafts in workers of ``owner``. ``sent`` is called when one was submitted."""

    def __init__(self, quarry: Quarry, owner: Widget, sent: Callable[[], None]) -> None:
        self.quarry, self.owner, self._sent = quarry, owner, sent
        self.trial: Trial | None = None
        """The last trial of the draft."""

    def submit(self, submission: Submission) -> None:
        """Submit it as it stands."""
        self._work(partial(self._submit, submission))

    def ask_try(self, words: str, submission: Submission, report: DraftReport | None) -> None:
        """Run one task in the trial tier, by its number or its values in words, none meaning the first; say first what that is."""
        try:
            task, parameter, trials = task_words(words)
        except BadValue as fault:
            self._say(str(fault), bad=True)
            return
        walltime_s = report.shape.walltime_s if report else 0
        then = partial(self._work, partial(self._try, submission, task, parameter, trials, walltime_s))
        self._work(partial(self._look_ahead, submission, task, trials, then))

    def _look_ahead(
        self, submission: Submission, task: int | None, trials: list[dict[str, str]], then: Callable[[], None]
    ) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            sending = looked_up(submission)
            found = [client.would_try(sending, task, values or None) for values in trials]
        except QuarryError as fault:
            self._say(f"Not tried: {fault}", bad=True)
            return
        if refused := next((one.refused for one in found if one.refused), ""):
            self._say(f"Not tried: {refused}. {key_of('next_check')} goes there.", bad=True)
            return
        together = replace(found[0], jobs=tuple(job for one in found for job in one.jobs))
        what = "it" if len(found) == 1 else f"{plural(len(found), 'size')} of it"
        question = f"Try {what} now? {foretold_words(together, self.quarry.zone)}."
        self.quarry.hand_over(partial(self.quarry.ask, question, then, yes="Try it", no="Leave it"))

    def _work(self, work: Callable[[], None]) -> None:
        self.owner.run_worker(work, thread=True, exclusive=True, group="submit")

    def _say(self, words: str, bad: bool = False) -> None:
        self.owner.post_message(Say(words, bad=bad))

    def _submit(self, submission: Submission) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            receipt = client.submit(looked_up(submission))
        except QuarryError as fault:
            self._say(f"Not submitted: {fault}", bad=True)
            return
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
        self._say(f"Submitted as {job}; {words} esc, then 4, watches it.")
        self.quarry.read_board()

    def _try(
        self, submission: Submission, task: int | None, parameter: str, trials: list[dict[str, str]], walltime_s: int
    ) -> None:
        client = self.quarry.client
        if client is None:
            return
        jobs = list[int]()
        try:
            sending = looked_up(submission)
            for values in trials:
                receipt = client.try_one(sending, task, values or None)
                if receipt.job is None:
                    self._refused("Not tried", receipt)
                    return
                jobs.append(receipt.job)
            trial_walltime = client.job(jobs[0]).walltime_s
            array = client.expand(sending).request.array if parameter and client.check(sending).shape.tasks else None
        except QuarryError as fault:
            self._say(f"Not tried: {fault}", bad=True)
            return
        self._say(receipt_words(jobs, trial_walltime))
        asked = asked_of(walltime_s, parameter, submission.script, array)
        self.quarry.hand_over(self._tried, Trial(tuple(jobs), asked))

    def _tried(self, trial: Trial) -> None:
        self.trial = trial
        self.quarry.read_board()

    def _refused(self, what: str, receipt: Receipt) -> None:
        worst = next(one for one in receipt.diagnostics if one.severity is Severity.ERROR)
        self._say(f"{what}: line {worst.line}, {worst.message}. {key_of('next_check')} goes there.", bad=True)
