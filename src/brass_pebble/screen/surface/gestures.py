"""What the selected control means, gesture by gesture."""

from __future__ import annotations

from rich.text import Text
from textual.message import Message
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from brass_pebble.core.desk.action import lead_in
from brass_pebble.core.desk.look.drawn import BindingRow, ControlRow, SurfaceRow
from brass_pebble.core.desk.look.shown import gestures_for, what_does
from brass_pebble.core.play.gesture import DOUBLE, HOLD, PRESS, WITH
from brass_pebble.screen.base.palette import Palette


class GestureList(OptionList):
    """One row for each gesture; Enter or a click on one binds it."""

    DEFAULT_CSS = """
    GestureList, GestureList:focus { height: auto; border: none; background: $panel; padding: 0; }
    """

    class Chosen(Message):
        """A gesture is to be bound."""

        def __init__(self, gesture: str) -> None:
            super().__init__()
            self.gesture = gesture

    def show(self, surface: SurfaceRow, control: ControlRow, sheet: str, palette: Palette) -> None:
        """Rows for a control: as its layers are on now, or as one sheet has it."""
        on = [sheet] if sheet else [layer.id for layer in surface.layers if layer.on]
        shown = what_does(control.id, surface.layers, on)
        bound = shown.gestures
        rows = [(gesture, bound.get(gesture)) for gesture in gestures_for(control, bound)]
        rows += [(row.gesture, row) for row in shown.together]
        at = self.highlighted
        self.clear_options()
        width = max(11, *(len(gesture) for gesture, _ in rows)) if any(
            not gesture.startswith(WITH) and len(gesture) > 11 for gesture, _ in rows) else 11
        self.add_options([Option(_line(gesture, row, surface, palette, width), id=gesture) for gesture, row in rows])
        self.highlighted = at if at is not None and at < len(rows) else 0

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """Bind this one."""
        event.stop()
        self.post_message(self.Chosen(str(event.option.id)))

    @property
    def chosen(self) -> str:
        """The gesture of the highlighted row."""
        if self.highlighted is None or not self.option_count:
            return PRESS
        return str(self.get_option_at_index(self.highlighted).id)


def _line(gesture: str, row: BindingRow | None, surface: SurfaceRow, palette: Palette, width: int) -> Text:
    line = Text(f"{gesture:{width}} ")
    if row is None:
        line.append("·", style=palette.dim)
        return line
    label, words = row.label, row.words.strip("“”")
    line.append(f"{row.glyph} ", style=palette.brass)
    line.append(label, style=f"bold {palette.tint(row.tint)}")
    if words != label:
        line.append(f"  {lead_in(row.kind, words)}", style=palette.text)
    for extra in extras(gesture, row, surface):
        line.append(f"\n{'':{width + 3}}{extra}", style=palette.dim)
    return line


def extras(gesture: str, row: BindingRow, surface: SurfaceRow) -> list[str]:
    """What goes with a binding: its times, how it plays."""
    found = []
    if gesture == HOLD:
        found.append(f"after {row.hold_after or f'{surface.hold_after_ms:g} ms'}")
    if gesture == DOUBLE:
        found.append(f"within {row.second_within or f'{surface.second_within_ms:g} ms'}")
        if row.adds:
            found.append("the first tap acts at once")
    found += [f"{word} {value}" for value, word in (
        (row.every, "every"), (row.back, "first again after"), (row.each, "each")) if value]
    if row.by_strength:
        found.append("the faster the further")
    if row.plays != "once":
        found.append(row.plays)
    if row.note:
        found.append(f"“{row.note}”")
    return found
