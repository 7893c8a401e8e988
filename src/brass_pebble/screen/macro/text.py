"""The text of a macro, with an Enter that knows blocks, colours by the grammar, and offers of what could come next."""

from __future__ import annotations

from typing import ClassVar

from rich.style import Style
from textual import events
from textual.binding import Binding, BindingType
from textual.message import Message
from textual.widgets import TextArea
from textual.widgets.text_area import TextAreaTheme

from brass_pebble.core.macro.help import words
from brass_pebble.core.macro.help.words import Names, Offer, offers, pieces_of
from brass_pebble.core.macro.text_lines import content_lines
from brass_pebble.screen.base.palette import Palette

OPENERS = ("repeat", "keep", "beat", "if", "otherwise", "clock")
WITH_LINES = (["type", "lines"], ["paste", "lines"])


# Texts of fewer lines are wrapped.
WRAPPED = 500


class _Colours:
    """What stands where, worked out for a line when it is drawn; TextArea asks by the line's number."""

    def __init__(self, area: MacroText) -> None:
        self._area = area
        self._content: dict[int, int] | None = None

    def __bool__(self) -> bool:
        return True

    def clear(self) -> None:
        """The text has changed."""
        self._content = None

    def __getitem__(self, index: int) -> list[tuple[int, int | None, str]]:
        if self._content is None:
            self._content = content_lines(self._area.document.lines)
        line = self._area.document.get_line(index)
        if index in self._content:
            return [(0, None, words.TEXT)]
        # TextArea counts in bytes.
        return [(len(line[:piece.start].encode()), len(line[:piece.end].encode()), piece.what)
                for piece in pieces_of(line)]


def _theme(palette: Palette) -> TextAreaTheme:
    styles = {
        words.STEP: Style(color=palette.brass, bold=True), words.WORD: Style(color=palette.brass),
        words.KEY: Style(color=palette.tint("sky")), words.TEXT: Style(color=palette.tint("wheat")),
        words.NUMBER: Style(color=palette.tint("iris")), words.VALUE: Style(color=palette.verdigris, bold=True),
        words.FUNCTION: Style(color=palette.verdigris), words.NOTE: Style(color=palette.dim, italic=True),
    }
    return TextAreaTheme(name="macro", syntax_styles=styles)


class MacroText(TextArea):
    """Plain text; a new line begins where the one before did, deeper below a line that opens a block."""

    DEFAULT_CSS = """
    MacroText, MacroText:focus { border: none; padding: 0 1; background: $background; width: 1fr; height: 1fr;
        scrollbar-size: 0 1; scrollbar-color: $panel; scrollbar-background: $background; }
    MacroText > .text-area--cursor-line { background: $panel; }
    MacroText > .text-area--gutter { color: $text-muted; background: $background; }
    MacroText > .text-area--cursor-gutter { color: $primary; background: $panel; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("ctrl+@,ctrl+space", "complete", "complete", show=False,
                tooltip="write what is offered; again: the next"),
    ]

    class Offers(Message):
        """What could be written has changed."""

        def __init__(self, offers: list[Offer], taken: int) -> None:
            super().__init__()
            self.offers, self.taken = offers, taken

    def __init__(self) -> None:
        super().__init__(show_line_numbers=True, soft_wrap=False, tab_behavior="focus", highlight_cursor_line=True,
                         id="text")
        self.names = Names()
        self._offers: list[Offer] = []
        self._taken = -1
        # Where what was taken last ends.
        self._after: tuple[int, int] | None = None

    def on_mount(self) -> None:
        """The colours of the theme in use."""
        self.colour()
        self.watch(self.app, "theme", self.colour, init=False)

    def colour(self) -> None:
        """Take the colours of the theme in use."""
        self.register_theme(_theme(self.app.palette))  # type: ignore[attr-defined]
        self.theme = "css"
        self.theme = "macro"

    def _build_highlight_map(self) -> None:
        self._line_cache.clear()
        self._highlights = _Colours(self)  # type: ignore[assignment]

    def load_text(self, text: str) -> None:
        """Another text: long lines go on below, unless there are so many lines that wrapping them would take time."""
        self.soft_wrap = text.count("\n") < WRAPPED
        super().load_text(text)

    # What could be written.

    def look_ahead(self) -> None:
        """Work out what could be written where the cursor is."""
        if self.cursor_location == self._after:
            return
        row, column = self.cursor_location
        self._after, self._taken = None, -1
        found: list[Offer] = []
        if self.has_focus and self.selection.is_empty:
            line = self.document.get_line(row)
            behind = line[column:column + 1]
            if not behind or not (behind.isalnum() or behind in '_"'):
                found = offers(line, column, self.names)
        if found != self._offers or not found:
            self._offers = found
            self.post_message(self.Offers(found, -1))

    def action_complete(self) -> None:
        """Write the first offer; again, the next one in its place."""
        self.take((self._taken + 1) % len(self._offers) if self._offers else 0)

    def take(self, index: int) -> None:
        """Write an offer."""
        if not 0 <= index < len(self._offers):
            return
        offer, (row, column) = self._offers[index], self.cursor_location
        self._taken = index
        self._after = (row, offer.start + len(offer.word))
        self._replace_via_keyboard(offer.word, (row, offer.start), (row, column))
        self.post_message(self.Offers(self._offers, index))

    async def _on_key(self, event: events.Key) -> None:
        if event.key != "enter":
            await super()._on_key(event)
            return
        event.stop()
        event.prevent_default()
        row, column = self.cursor_location
        line = self.document.get_line(row)
        indent = line[: len(line) - len(line.lstrip(" "))]
        begun = line[:column].split()
        deeper = "  " if begun and (begun[0] in OPENERS or begun[:2] in WITH_LINES) else ""
        start, end = self.selection
        self._replace_via_keyboard("\n" + indent + deeper, start, end)
