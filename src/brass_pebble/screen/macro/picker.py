"""Choose a macro to open, or name a new one."""

from __future__ import annotations

from textual import on
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.widgets import Input, Label, OptionList

from brass_pebble.core.macro.help.marks import MARKS
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.screen.base.choosing import ChoosingSheet
from brass_pebble.screen.base.key_line import KeyLine
from brass_pebble.screen.known import Known


class MacroPicker(ChoosingSheet[tuple[str, str]]):
    """Returns (id, "") of a macro that is there, ("", name) for a new one, or two empty texts."""

    DEFAULT_CSS = """
    MacroPicker { align: center middle; }
    MacroPicker > Vertical { width: 76; max-width: 96%; height: auto; max-height: 90%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    MacroPicker Input, MacroPicker Input:focus { border: none; background: $background; height: 1; padding: 0 1; }
    MacroPicker OptionList { height: auto; max-height: 16; background: $panel; margin: 1 0; padding: 0; }
    MacroPicker Label { color: $text-muted; width: 100%; }
    """
    def __init__(self, known: Known) -> None:
        super().__init__()
        self.known = known

    def compose(self) -> ComposeResult:
        """One field, and what fits."""
        with Vertical() as box:
            box.border_title = "Macros"
            yield Label("Part of a macro's name, or the name of a new macro:")
            yield Input()
            yield OptionList(markup=False)
            yield Label("   ".join(f"{mark.glyph} {mark.word}" for mark in MARKS))
            yield KeyLine("↑ ↓ choose   Enter: open   Esc: cancel", types=True)

    def on_mount(self) -> None:
        """All of them at first."""
        self.query_one(Input).focus()
        self._fill("")

    @on(Input.Changed)
    def _typed(self, event: Input.Changed) -> None:
        self._fill(event.value.strip())

    def _fill(self, text: str) -> None:
        desk, folded = self.known.desk, text.casefold()
        rows: list[tuple[str, tuple[str, str]]] = []
        for macro in desk.macros:
            if folded in macro.name.casefold() or folded in macro.id:
                live = ", depends on the press" if macro.live else ""
                marks = "".join(mark.glyph if mark.glyph in macro.marks else " " for mark in MARKS)
                rows.append((f"▸  {marks}  {macro.name}   {say_duration(round(macro.length_ms * MS))}, "
                             f"{say_count(macro.events, 'event')}{live}", (macro.id, "")))
        rows += [(f"✗  {why}", (name, "")) for name, why in desk.broken_macros.items() if folded in name.casefold()]
        if text and folded not in (m.name.casefold() for m in desk.macros):
            rows.append((f"+  new macro “{text}”", ("", text)))
        self.offer(rows)

    def take(self, choice: tuple[str, str]) -> None:
        """Open it, or begin it."""
        self.dismiss(choice)

    def action_leave(self) -> None:
        """None of them."""
        self.dismiss(("", ""))
