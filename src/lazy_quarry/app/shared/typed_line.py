"""A line to type in, in our colours; among them the one in which jobs are searched."""

from textual.binding import Binding
from textual.widgets import Input

from lazy_quarry.app.shared.drawing import Drawing


class Typed(Drawing, Input):
    """KEY=VALUE by hand; up and down go through the list below."""

    DEFAULT_CSS = """
    Typed { border: none; height: 1; padding: 0 3; background: $raised; }
    Typed:focus { border: none; }
    """


class FindLine(Typed):
    """The words that rows are searched for. With enter the keys go back to the rows at once, so what is typed ahead gets there."""

    BINDINGS = [Binding("enter", "submit", "keep", show=False, priority=True)]  # before later keys are handed on

    def __init__(self, placeholder: str) -> None:
        super().__init__(placeholder=placeholder, id="find")

    async def action_submit(self) -> None:
        """Keep what was found."""
        self.display = False
        self.screen.set_focus(self.screen.query_one("#jobs"))
