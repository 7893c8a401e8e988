"""What the Labels view asks: an icon, and what is to be saved."""

from __future__ import annotations

from typing import Any

from textual import on
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.widgets import Input, Label, OptionList

from brass_pebble.screen.base.choosing import ChoosingSheet
from brass_pebble.screen.base.key_line import KeyLine


class Choice(ChoosingSheet[Any]):
    """Returns what was chosen of a few things that can be narrowed by typing; None for nothing."""

    DEFAULT_CSS = """
    Choice { align: center middle; }
    Choice > Vertical { width: 72; max-width: 96%; height: auto; max-height: 90%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    Choice Input, Choice Input:focus { border: none; background: $background; height: 1; padding: 0 1; }
    Choice OptionList { height: auto; max-height: 18; border: none; background: $panel; margin: 1 0; padding: 0; }
    Choice Label { color: $text-muted; width: 100%; }
    """

    def __init__(self, title: str, says: str, rows: list[tuple[str, Any]]) -> None:
        super().__init__()
        self._title, self._says, self._rows = title, says, rows

    def compose(self) -> ComposeResult:
        """A field, and what fits."""
        with Vertical() as box:
            box.border_title = self._title
            yield Label(self._says, markup=False)
            yield Input(placeholder="type to narrow")
            yield OptionList(markup=False)
            yield KeyLine("↑ ↓ choose   Enter: OK   Esc: cancel", types=True)

    def on_mount(self) -> None:
        """Begin in the field."""
        self.query_one(Input).focus()
        self.offer(self._rows)

    @on(Input.Changed)
    def _typed(self, event: Input.Changed) -> None:
        words = event.value.casefold().split()
        self.offer([row for row in self._rows if all(word in row[0].casefold() for word in words)])

    def take(self, choice: Any) -> None:
        self.dismiss(choice)

    def action_leave(self) -> None:
        """Nothing."""
        self.dismiss(None)
