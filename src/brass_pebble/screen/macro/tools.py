"""What can be done to the chosen bar, in a line to read and to click."""

from __future__ import annotations

from rich.text import Text
from textual import events
from textual.message import Message
from textual.widgets import Static

from brass_pebble.screen.base.palette import Palette

from .lanes import KEY_SIGNS, TOOLS


class Tools(Static):
    """A click does what the key beside the word does."""

    DEFAULT_CSS = "Tools { height: 1; padding: 0 0 0 1; }"

    class Clicked(Message):
        """A tool was clicked."""

        def __init__(self, action: str) -> None:
            super().__init__()
            self.action = action

    def __init__(self) -> None:
        super().__init__("", markup=False)
        self._spans: list[tuple[int, int, str]] = []

    def on_mount(self) -> None:
        """The line never changes."""
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        line = Text(no_wrap=True, overflow="ellipsis")
        self._spans = []
        for key, action, word in TOOLS:
            start = line.cell_len
            line.append(KEY_SIGNS.get(key, key), style=f"bold {palette.brass}")
            line.append(f" {word}", style=palette.dim)
            self._spans.append((start, line.cell_len, action))
            line.append("  ")
        self.update(line)

    def on_click(self, event: events.Click) -> None:
        """Which one was meant."""
        for start, end, action in self._spans:
            if start <= event.x - 1 < end:
                self.post_message(self.Clicked(action))
