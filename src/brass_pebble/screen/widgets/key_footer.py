"""The foot of a view: its keys, as many as fit, each of them to be clicked; and how to see the rest."""

from __future__ import annotations

from rich.cells import cell_len
from rich.text import Text
from textual import events
from textual.app import RenderResult
from textual.binding import Binding
from textual.screen import Screen
from textual.widget import Widget

from brass_pebble.screen.base.key_help import say_key
from brass_pebble.screen.base.palette import Palette

# What stands first, whatever else there is: help, and the way out.
FIRST = ("question_mark", "f1", "escape", "q")
MORE = "… more"
GAP = 2


class KeyFooter(Widget):
    """Bindings that show, the help and the way out first, then in the order of the view's list."""

    DEFAULT_CSS = "KeyFooter { dock: bottom; height: 1; width: 100%; background: $panel; }"
    can_focus = False

    def __init__(self) -> None:
        super().__init__()
        # The cells of each part and the key that a click there presses.
        self._parts: list[tuple[int, int, str]] = []

    def on_mount(self) -> None:
        """Other keys are shown when others are there."""
        self.screen.bindings_updated_signal.subscribe(self, self._changed)

    def _changed(self, screen: Screen[object]) -> None:
        if screen is self.screen:
            self.refresh()

    def _shown(self) -> list[tuple[Binding, bool]]:
        found: dict[str, tuple[Binding, bool]] = {}
        for _, binding, enabled, _ in self.screen.active_bindings.values():
            if binding.show and binding.description:
                found.setdefault(binding.action, (binding, enabled))
        return sorted(found.values(), key=lambda row: FIRST.index(row[0].key) if row[0].key in FIRST else len(FIRST))

    def render(self) -> RenderResult:
        """One line."""
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        rows = [(binding, enabled, say_key(binding.key), binding.description) for binding, enabled in self._shown()]
        widths = [cell_len(f"{key} {words}") for _, _, key, words in rows]
        room = self.size.width - 1
        if sum(widths) + GAP * len(widths) > room:
            room -= cell_len(MORE)
        line, at = Text(" ", no_wrap=True), 1
        self._parts = []
        for (binding, enabled, key, words), width in zip(rows, widths, strict=True):
            if at + width > room:
                line.append(MORE, style=f"bold {palette.brass}")
                self._parts.append((at, at + cell_len(MORE), rows[0][0].key))
                break
            line.append(key, style=f"bold {palette.brass}" if enabled else palette.dim)
            line.append(f" {words}{' ' * GAP}", style=palette.dim)
            self._parts.append((at, at + width, binding.key))
            at += width + GAP
        return line

    def on_click(self, event: events.Click) -> None:
        """Press the key under the pointer."""
        event.stop()
        for start, end, key in self._parts:
            if start <= event.x < end:
                self.app.simulate_key(key)
