"""A list whose rows open with ``enter``."""

from textual import events

from lazy_quarry.app.messages import Opened
from lazy_quarry.app.widgets.drawing import Rows


class OpeningRows(Rows):
    """Says that the row under the cursor is to be opened."""

    def on_key(self, event: events.Key) -> None:
        """``enter`` opens what is under the cursor; the arrows move it."""
        if event.key == "enter":
            event.stop()
            self.post_message(Opened())
