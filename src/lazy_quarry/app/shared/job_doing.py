"""Acts on jobs, in each place that shows them: held, released, cancelled, run again; nothing costly unasked."""

from collections.abc import Callable, Sequence
from functools import partial

from lazy_quarry.app.shared import doing_sentences
from lazy_quarry.app.shared.acts import ACTS, key_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.job_commands import JobCommands, ShowLadder
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.shared.run_again import RunAgain
from lazy_quarry.core.job.job import Phase
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.job_view import JobView
from lazy_quarry.views.outcomes import Outcome

_LACKED = (Phase.OVERTIME, Phase.OVERMEMORY)


class JobDoing(Feature):
    """Holds, releases, cancels and runs again the jobs that a place has chosen."""

    NAME = "doing"

    def __init__(self, place: Place, chosen: Callable[[], Sequence[JobView]], ladder: ShowLadder | None = None) -> None:
        super().__init__(place)
        self._chosen = chosen
        self.commands = JobCommands(place, self._commanded, ladder)

    def _commanded(self, outcomes: list[Outcome], settings: str) -> None:
        """Say the outcome, with the jobs that it is about."""
        bad = any(not one.done for one in outcomes)
        self.say(doing_sentences.outcome_words(outcomes, settings), bad=bad)

    def _nothing(self, act: str) -> None:
        """Say that there is no job to do this to."""
        self.say(f"There is no job under the cursor to {ACTS[act].words}.")

    def do(self, verb: str) -> None:
        """Hold or release."""
        if views := self._chosen():
            self.commands.do(verb, [view.job for view in views])
        else:
            self._nothing(verb)

    def cancel(self) -> None:
        """Cancel, after a question: what runs would be lost, and what waits would lose its turn."""
        views = [view for view in self._chosen() if not view.phase.final]
        if not views:
            self.say(f"Nothing to cancel: what {key_of('cancel')} would act on has ended.")
            return
        jobs = [view.job for view in views]
        question = doing_sentences.cancel_question(views)
        self.quarry.ask(question, lambda: self.commands.do("cancel", jobs), yes="Cancel", no="Leave as it is")

    def again(self) -> None:
        """Run again, after saying what that would come to."""
        self._ask_again(self._chosen(), False)

    def again_failed(self) -> None:
        """Run again what failed of an array, with what was learnt from it filled in."""
        self._ask_again(self._chosen(), True)

    def _ask_again(self, views: Sequence[JobView], failed: bool) -> None:
        if not views:
            self._nothing("again")
        elif live := next((view for view in views if not view.phase.final and not failed), None):
            self.say(f"{live.label} has not ended, so it can't run again yet.")
        elif failed and (single := next((view for view in views if not view.rows), None)):
            self.say(f"{single.label} is not an array; {key_of('again')} runs it again.")
        else:
            self._learn_first(list(views), failed)

    @apart("again")
    def _learn_first(self, views: list[JobView], failed: bool) -> None:
        """Read what is advised, where something was lacking; then ask."""
        settings, reason = list[str](), ""
        if len(views) == 1 and (failed or views[0].phase in _LACKED):
            try:
                advised = self.client.advise(str(views[0].parent or views[0].job))
                settings = [f"{key}={value}" for key, value in advised.settings]
                reason = f"Advised: {advised.reason}" if settings else ""
            except QuarryError:
                reason = ""  # there is nothing to learn from yet
        self.quarry.hand_over(self._ask_settings, views, failed, settings, reason)

    def _ask_settings(self, views: list[JobView], failed: bool, settings: list[str], reason: str) -> None:
        jobs = [view.job for view in views]

        def answered(given: list[str] | None) -> None:
            if given is not None:
                self.commands.again(jobs, given, failed)

        def look(given: list[str]):  # type: ignore[no-untyped-def]
            return self.client.would_run_again(jobs, given, failed)

        question = doing_sentences.again_question(views, failed)
        self.place.app.push_screen(RunAgain(question, settings, reason, partial(look)), answered)

    def script(self) -> None:
        """The script of the job as it was submitted, in Draft."""
        if views := self._chosen():
            self.quarry.draft_job(views[0].job)
        else:
            self._nothing("script")
