"""What could be written next, in one line below the text: by Ctrl+Space, or by a click."""

from __future__ import annotations

from rich.cells import cell_len
from rich.text import Text
from textual import events
from textual.message import Message
from textual.widgets import Static

from brass_pebble.core.macro.help.words import Offer
from brass_pebble.screen.base.palette import Palette


class OfferLine(Static):
    """Offers, as many as there is room for; the one that was taken last is marked."""

    DEFAULT_CSS = "OfferLine { height: 1; padding: 0 1; background: $panel; }"

    class Taken(Message):
        """An offer was clicked."""

        def __init__(self, index: int) -> None:
            super().__init__()
            self.index = index

    def __init__(self) -> None:
        super().__init__("", markup=False)
        # For each that is shown, its first and last cell.
        self._cells: list[tuple[int, int]] = []

    def show(self, offers: list[Offer], taken: int = -1) -> None:
        """Show other offers."""
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        text, self._cells = Text(no_wrap=True), []
        if offers:
            text.append("Ctrl+Space ", style=palette.dim)
        at, room = cell_len("Ctrl+Space "), max(20, self.content_size.width)
        first = max(0, taken - 2)
        for index, offer in enumerate(offers):
            if index < first:
                self._cells.append((-1, -1))
                continue
            wide = cell_len(offer.word)
            if at + wide > room:
                text.append("…", style=palette.dim)
                break
            self._cells.append((at, at + wide))
            text.append(offer.word, style=f"bold {palette.on_brass} on {palette.brass}" if index == taken
                        else palette.text)
            text.append("  ")
            at += wide + 2
        self.update(text)

    def on_click(self, event: events.Click) -> None:
        """Take the one under the pointer."""
        x = event.x - 1
        for index, (start, end) in enumerate(self._cells):
            if start <= x < end:
                self.post_message(self.Taken(index))
                return
