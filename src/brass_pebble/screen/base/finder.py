"""Everything that is bound, found by typing: which control plays this macro, which one sends that chord?"""

from __future__ import annotations

from dataclasses import dataclass

from textual import on
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.widgets import Input, Label, OptionList

from brass_pebble.core.desk.action import lead_in
from brass_pebble.core.desk.look.drawn import BindingRow
from brass_pebble.core.say.counts import say_count
from brass_pebble.screen.known import Known

from .choosing import ChoosingSheet
from .key_line import KeyLine

MOST = 200


@dataclass(frozen=True)
class Found:
    """A binding's place."""

    surface: str
    layer: str
    control: str
    gesture: str


def everything(known: Known) -> list[tuple[str, Found]]:
    """All bindings as lines."""
    lines = []
    for surface in known.desk.surfaces:
        legends = {control.id: control.legend for control in surface.controls}
        for layer in surface.layers:
            for row in layer.bindings:
                where = f"{surface.name} {legends.get(row.control, row.control)}, {row.gesture}"
                text = f"{row.glyph} {row.label:12} {_words(row):34} {where}, in {layer.name}"
                lines.append((text, Found(surface.id, layer.id, row.control, row.gesture)))
    return lines


def _words(row: BindingRow) -> str:
    words = lead_in(row.kind, row.words.strip("“”"))
    return f"{words} ({row.target})" if row.kind == "play" else words


class Finder(ChoosingSheet[Found | None]):
    """Returns the binding that was chosen."""

    DEFAULT_CSS = """
    Finder { align: center middle; }
    Finder > Vertical { width: 104; max-width: 96%; height: auto; max-height: 90%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    Finder Input, Finder Input:focus { border: none; background: $background; height: 1; padding: 0 1; }
    Finder OptionList { height: auto; max-height: 20; border: none; background: $panel; margin: 1 0; padding: 0; }
    Finder Label { color: $text-muted; width: 100%; }
    """

    def __init__(self, known: Known, text: str = "") -> None:
        super().__init__()
        self._lines = everything(known)
        self._text = text

    def compose(self) -> ComposeResult:
        """A field, and what fits."""
        with Vertical() as box:
            box.border_title = "Find a control"
            yield Label(f"{say_count(len(self._lines), 'binding')}. Type a macro's name, a chord, a label, a "
                        "control:", markup=False)
            yield Input(self._text, placeholder="macro, chord, label, control")
            yield OptionList(markup=False)
            yield KeyLine("↑ ↓ choose   Enter: go there   Esc: close", types=True)

    def on_mount(self) -> None:
        """Begin in the field."""
        self.query_one(Input).focus()
        self._narrow(self._text)

    @on(Input.Changed)
    def _typed(self, event: Input.Changed) -> None:
        self._narrow(event.value)

    def _narrow(self, text: str) -> None:
        words = text.casefold().split()
        self.offer([line for line in self._lines if all(word in line[0].casefold() for word in words)][:MOST])

    def take(self, choice: Found) -> None:
        self.dismiss(choice)

    def action_leave(self) -> None:
        """Nothing was looked for."""
        self.dismiss(None)
