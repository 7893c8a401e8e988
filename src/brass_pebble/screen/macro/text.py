"""The text of a macro, with an Enter that knows blocks."""

from __future__ import annotations

from textual import events
from textual.widgets import TextArea

OPENERS = ("repeat", "keep", "beat", "if", "otherwise")


# Texts of fewer lines are wrapped.
WRAPPED = 500


class MacroText(TextArea):
    """Plain text; a new line begins where the one before did, deeper below a line that opens a block."""

    DEFAULT_CSS = """
    MacroText, MacroText:focus { border: none; padding: 0 1; background: $background; width: 44%; height: 1fr;
        scrollbar-size: 0 1; scrollbar-color: $panel; scrollbar-background: $background; }
    MacroText > .text-area--cursor-line { background: $panel; }
    MacroText > .text-area--gutter { color: $text-muted; background: $background; }
    MacroText > .text-area--cursor-gutter { color: $primary; background: $panel; }
    """

    def __init__(self) -> None:
        super().__init__(show_line_numbers=True, soft_wrap=False, tab_behavior="focus", highlight_cursor_line=True,
                         id="text")

    def load_text(self, text: str) -> None:
        """Another text: long lines go on below, unless there are so many lines that wrapping them would take time."""
        self.soft_wrap = text.count("\n") < WRAPPED
        super().load_text(text)

    async def _on_key(self, event: events.Key) -> None:
        if event.key != "enter":
            await super()._on_key(event)
            return
        event.stop()
        event.prevent_default()
        row, column = self.cursor_location
        line = self.document.get_line(row)
        indent = line[: len(line) - len(line.lstrip(" "))]
        words = line[:column].split()
        deeper = "  " if words and (words[0] in OPENERS or words[:2] in (["type", "lines"], ["paste", "lines"])) else ""
        start, end = self.selection
        self._replace_via_keyboard("\n" + indent + deeper, start, end)
