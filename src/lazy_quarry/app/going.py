"""Going from one place to another with something in hand."""

from typing import Any

from textual import work

from lazy_quarry.app.keys_in_order import KeysInOrder
from lazy_quarry.app.messages import OpenChain, OpenJob, SearchRuns
from lazy_quarry.app.places.place import Place
from lazy_quarry.site.views import RoomView


class Going(KeysInOrder):
    """An application whose places hand things to one another."""

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
