"""How the screen looks: a theme with its colours, the letters on the caps, and the signs that this terminal draws."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar, get_args

from rich.style import Style
from rich.text import Text
from textual import on
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from brass_pebble.screen.outside import Letters, Signs

from .key_line import KeyLine
from .palette import PALETTES, Palette
from .signs import AS_IT_IS

LETTERS: tuple[Letters, ...] = get_args(Letters)
MEANS: dict[Letters, str] = {
    "by room": "large on a surface shown alone that has room for all",
    "large": "large on every surface that has room for most", "plain": "plain everywhere"}
THEMES = {"basalt": "brass on dark stone", "paper": "for bright rooms", "beacon": "highest contrast"}
SIGNS: dict[Signs, str] = {"plain": "what every font has", "full": "if all of these show: "}
# Signs of every kind that the screen draws: lines, blocks, circles, marks.
SAMPLE = "╭─╮ ╎ ▛▜▖ ▂▅█ ● ◌ ◐ ✓ ✗ ☾ ↻ ▸"
_TINTS = ("clay", "moss", "sky", "rose")


def _theme_row(name: str) -> Text:
    palette = PALETTES[name]
    sample = Text()
    for tint, words in zip(_TINTS, (" cut ", " mark ", " wide ", " record "), strict=True):
        sample.append(words, Style(color=palette.ground, bgcolor=palette.tint(tint), bold=True))
        sample.append(" ", Style(bgcolor=palette.ground))
    sample.append(" live ", Style(color=palette.on_brass, bgcolor=palette.brass, bold=True))
    return Text.assemble((f"{name:8}", ""), sample, f"  {THEMES[name]}")


class LookSheet(ModalScreen[None]):
    """Each row takes effect at once and is remembered; `changed` draws what lies below again."""

    DEFAULT_CSS = """
    LookSheet { align: center middle; }
    LookSheet > Vertical { width: 92; max-width: 98%; height: auto; max-height: 96%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 1; }
    LookSheet OptionList { height: auto; max-height: 100%; border: none; background: $panel; padding: 0; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [("escape,t", "leave", "close")]

    def __init__(self, changed: Callable[[], None]) -> None:
        super().__init__()
        self._changed = changed

    @property
    def _palette(self) -> Palette:
        return self.app.palette  # type: ignore[attr-defined,no-any-return]

    def compose(self) -> ComposeResult:
        """The rows, the present ones marked."""
        with Vertical() as box:
            box.border_title = "Look"
            yield OptionList(*self._options())
            yield KeyLine("Enter: take it   Esc: close")

    def on_mount(self) -> None:
        """The present theme is chosen first."""
        self.query_one(OptionList).highlighted = 1 + list(PALETTES).index(self._palette.name)

    def _options(self) -> list[Option]:
        app: Any = self.app
        strong = f"bold {self._palette.brass}"

        def row(present: bool, text: Text, id: str) -> Option:
            return Option(Text.assemble(("● " if present else "○ ", strong if present else ""), text), id=id)

        def heading(words: str) -> Option:
            return Option(Text(words, style=strong), disabled=True)

        signs = {"plain": Text(f"plain    {SIGNS['plain']}"),
                 "full": Text.assemble(f"full     {SIGNS['full']}", (SAMPLE, Style(meta=AS_IT_IS)))}
        here = f" ({app.look.key})" if app.look.key else ""
        return [
            heading("Theme"),
            *(row(self._palette.name == name, _theme_row(name), f"theme {name}") for name in PALETTES),
            heading("Letters on the caps"),
            *(row(app.known.letters == name, Text(f"{name:8} {MEANS[name]}"), f"letters {name}") for name in LETTERS),
            heading(f"Signs in this terminal{here}"),
            *(row(app.look.signs == name, signs[name], f"signs {name}") for name in SIGNS)]

    @on(OptionList.OptionSelected)
    def _take(self, event: OptionList.OptionSelected) -> None:
        kind, _, name = (event.option.id or "").partition(" ")
        app: Any = self.app
        if kind == "theme":
            app.theme = name
        elif kind == "letters":
            app.known.letters = name
        else:
            app.draw_signs(name)
        app.remember()
        rows = self.query_one(OptionList)
        at = rows.highlighted
        rows.clear_options()
        rows.add_options(self._options())
        rows.highlighted = at
        self._changed()

    def action_leave(self) -> None:
        """Back to the view."""
        self.dismiss()
