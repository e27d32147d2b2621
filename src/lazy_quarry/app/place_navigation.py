"""Going from one place to another with something in hand."""

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from textual import work

from lazy_quarry.app.shared.messages import OpenChain, OpenJob, Say, SearchRuns
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.textual_fixes.keys_in_order import KeysInOrder
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.outcomes import RoomView

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient


class Going(KeysInOrder):
    """An application whose places hand things to one another."""

    client: "SiteClient | None"

    def hand_over(self, then: Callable[..., object], *arguments: Any) -> None:
        """From a worker: have the interface do something; the application does it."""
        raise NotImplementedError

    async def action_go(self, name: str) -> Place:
        """Go to a place; the application does it."""
        raise NotImplementedError

    async def action_show_jobs(self, scope: str) -> None:
        """Go to Watch with a scope."""
        place: Any = await self.action_go("watch")
        place.set_scope(scope)

    async def on_open_job(self, message: OpenJob) -> None:
        """Show a job in Review."""
        place: Any = await self.action_go("review")
        place.open_job(message.job)

    async def on_search_runs(self, message: SearchRuns) -> None:
        """Show the runs that a search finds in Review."""
        place: Any = await self.action_go("review")
        place.search(message.words)

    async def on_open_chain(self, message: OpenChain) -> None:
        """Show a chain in Chain."""
        place: Any = await self.action_go("chain")
        place.open_chain(message.chain)

    @work
    async def draft_script(
        self, script: str, name: str, path: str = "", overrides: Any = (), keeper: Any = None
    ) -> None:
        """Take a script to Draft."""
        place: Any = await self.action_go("draft")
        place.opening.take_script(script, name, path, overrides, keeper)

    @work(thread=True, exclusive=True, group="script")
    def draft_job(self, job: int) -> None:
        """Take the script of a job to Draft, as it was submitted."""
        if self.client is None:
            return
        try:
            detail = self.client.detail(job)
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        self.hand_over(self.draft_script, detail.script, f"{detail.view.name}.sh", "", detail.overrides)

    @work
    async def draft_room(self, room: RoomView) -> None:
        """Take a room to Draft, as a script that asks for just that."""
        place: Any = await self.action_go("draft")
        place.put_room(room)

    @work
    async def draft_module(self, module: str) -> None:
        """Add a module to the draft."""
        place: Any = await self.action_go("draft")
        place.add_module(module)
