"""A list whose rows open with ``enter``."""

from textual import events

from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.messages import Opened


class OpeningRows(Rows):
    """Says that the row under the cursor is to be opened."""

    def on_key(self, event: events.Key) -> None:
        """``enter`` opens what is under the cursor; the arrows move it."""
        if event.key == "enter":
            event.stop()
            self.post_message(Opened())
