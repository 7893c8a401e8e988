"""The line of a sheet that says its keys: each of them can be clicked, too."""

from __future__ import annotations

import re

from rich.cells import cell_len
from rich.text import Text
from textual import events
from textual.widgets import Static

from .palette import Palette

# What a part of the line begins with, and the key that it means.
_BEGINS = re.compile(r"(↑ ↓|Enter|Esc|Tab|Space|Del|F\d{1,2}|[A-Za-z?<>])(?=[: ,]|$)")
_KEYS = {"Enter": "enter", "Esc": "escape", "Tab": "tab", "Space": "space", "Del": "delete", "?": "question_mark",
         "<": "less_than_sign", ">": "greater_than_sign"}


class KeyLine(Static):
    """Parts stand apart by three blanks: `Enter: OK   Esc: cancel`.  A click on one presses its key."""

    DEFAULT_CSS = "KeyLine { height: auto; width: 100%; color: $text-muted; }"

    def __init__(self, text: str = "", *, id: str | None = None, types: bool = False) -> None:
        super().__init__("", id=id, markup=False)
        self._says, self._types = text, types
        # For each row, the cells of each part and its key.
        self._parts: list[list[tuple[int, int, str]]] = []

    def on_mount(self) -> None:
        """Show it; where something is typed, with the keyboard on the screen if that was wanted before."""
        self.say(self._says)
        if self._types:
            self.app.offer_screen_keys()  # type: ignore[attr-defined]

    def say(self, text: str) -> None:
        """Another line."""
        self._says = text
        if self._types and "F12" not in text:
            text += "   F12: on-screen keys"
        width = max(20, self.size.width or 76)
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        shown, self._parts = Text(), [[]]
        x = 0
        for part in (part for part in re.split(r" {3,}", text.strip()) if part):
            wide = cell_len(part)
            if x and x + wide > width:
                shown.append("\n")
                self._parts.append([])
                x = 0
            begins = _BEGINS.match(part)
            key = begins[1] if begins else ""
            shown.append(key, style=f"bold {palette.brass}").append(part[len(key):]).append("   ")
            self._parts[-1].append((x, x + wide, key))
            x += wide + 3
        self.update(shown)

    def on_resize(self) -> None:
        """Set in lines for the new width."""
        self.say(self._says)

    def on_click(self, event: events.Click) -> None:
        """Press the key of the part under the pointer; of the arrows, the one that was hit."""
        event.stop()
        parts = self._parts[event.y] if 0 <= event.y < len(self._parts) else []
        for start, end, key in parts:
            if start <= event.x < end and key:
                arrow = "up" if event.x - start < 2 else "down"
                self.app.simulate_key(arrow if key == "↑ ↓" else _KEYS.get(key, key.lower() if key[0] == "F" and
                                                                         len(key) > 1 else key))
                return
