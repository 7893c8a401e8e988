"""What can be done to the chosen bar, in a line to read and to click."""

from __future__ import annotations

from rich.cells import cell_len
from rich.text import Text
from textual import events
from textual.message import Message
from textual.widgets import Static

from brass_pebble.screen.base.palette import Palette

from .lanes import KEY_SIGNS, TOOLS


class Tools(Static):
    """A click does what the key beside the word does."""

    DEFAULT_CSS = "Tools { height: auto; padding: 0 0 0 1; }"

    class Clicked(Message):
        """A tool was clicked."""

        def __init__(self, action: str) -> None:
            super().__init__()
            self.action = action

    def __init__(self) -> None:
        super().__init__("", markup=False)
        # For each row, the cells of each tool and what it does.
        self._rows: list[list[tuple[int, int, str]]] = []

    def on_resize(self) -> None:
        """In as many rows as are needed."""
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        line, at = Text(no_wrap=True), 0
        self._rows = [[]]
        for key, action, word in TOOLS:
            sign = KEY_SIGNS.get(key, key)
            width = cell_len(f"{sign} {word}")
            if at and at + width > self.content_size.width:
                line.append("\n")
                self._rows.append([])
                at = 0
            line.append(sign, style=f"bold {palette.brass}").append(f" {word}  ", style=palette.dim)
            self._rows[-1].append((at, at + width, action))
            at += width + 2
        self.update(line)

    def on_click(self, event: events.Click) -> None:
        """Which one was meant."""
        for start, end, action in self._rows[event.y] if event.y < len(self._rows) else ():
            if start <= event.x - 1 < end:
                self.post_message(self.Clicked(action))
