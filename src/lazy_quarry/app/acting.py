"""The effect of keys and clicks: an act of the present place, or of the whole; and what is said where one does nothing."""

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from textual.dom import DOMNode

from lazy_quarry.app.key_table import acts_by_place
from lazy_quarry.app.place_navigation import Going
from lazy_quarry.app.shared.acts import ACTS, Bound, act_of_key, key_of, shown
from lazy_quarry.app.shared.messages import Say
from lazy_quarry.app.shared.place import Place

if TYPE_CHECKING:
    from lazy_quarry.views.board import Board


class Acting(Going):
    """An application whose keys are acts: none is silent, and a click asks where it would cost."""

    place: str
    board: "Board | None"
    sites: tuple[str, ...] = ()
    """Other sites of this person's, which may be opened in place of this one."""

    async def open_site(self, name: str) -> None:
        """Leave this site and open another; the application does it."""
        raise NotImplementedError

    def place_in_sight(self) -> Place | None:
        """The place in sight; the application knows it."""
        raise NotImplementedError

    def ask(self, question: str, then: Callable[[], object], *, yes: str, no: str) -> None:
        """Do something only when the person says so; the application asks."""
        raise NotImplementedError

    def say_unused(self, key: str, character: str | None, place: Place) -> None:
        """Say of a key that does nothing here what it does elsewhere, or how the keys are listed."""
        act, all_keys = act_of_key(key), key_of("keys")
        elsewhere = [name.capitalize() for name, acts in acts_by_place().items() if act in acts]
        if act and elsewhere:
            words = f"{shown(key)} ({ACTS[act].words}) does nothing in {self.place.capitalize()}; it works in {_listed(elsewhere)}."
        else:
            sign = character if character and character.isprintable() and character.strip() else key.replace("_", " ")
            words = f"{sign} does nothing here; {all_keys} lists all keys, ctrl+p finds what can be done."
        self.post_message(Say(words))

    def action_turn_ring(self) -> None:
        """Change by what the end of a job is told; the application does it."""
        raise NotImplementedError

    async def run_action(
        self,
        action: Any,
        default_namespace: DOMNode | None = None,
        namespaces: Mapping[str, DOMNode] | None = None,
    ) -> bool:
        """Run what a key is bound to, or say why it can't be done to what is under the cursor."""
        if isinstance(default_namespace, Place) and isinstance(action, str):
            why = default_namespace.why_not_run(action)
            if why and default_namespace.check_action(action.partition("(")[0], ()):
                self.post_message(Say(why))
                return True
        return await super().run_action(action, default_namespace, namespaces)

    async def action_act(self, name: str) -> None:
        """Do an act, as its key does."""
        place = self.place_in_sight()
        if place is not None and (one := place.bound_acts().get(name)):
            await self.run_action(one.action, place)
        elif one := next((one for one in self.BINDINGS if isinstance(one, Bound) and one.act == name), None):
            await self.run_action(one.action)

    async def action_click(self, name: str) -> None:
        """Do an act that was clicked on the line of keys; one that submits asks first, for a click is soon made."""
        place = self.place_in_sight()
        question = place.costs(name) if place is not None and not place.why_not(name) else ""
        if question:
            self.ask(question, lambda: self.call_next(self.action_act, name), yes="Do it", no="Leave it")
        else:
            await self.action_act(name)


def _listed(names: Sequence[str]) -> str:
    """Names as people list them."""
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
