"""Choose a macro to open, or name a new one."""

from __future__ import annotations

from typing import ClassVar

from textual import on
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Input, Label, OptionList
from textual.widgets.option_list import Option

from brass_pebble.core.durations import MS, say_duration
from brass_pebble.screen.state import DeskState


class MacroPicker(ModalScreen[tuple[str, str]]):
    """Returns (id, "") of a macro that is there, ("", name) for a new one, or two empty texts."""

    DEFAULT_CSS = """
    MacroPicker { align: center middle; }
    MacroPicker > Vertical { width: 76; max-width: 96%; height: auto; max-height: 90%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    MacroPicker Input, MacroPicker Input:focus { border: none; background: $background; height: 1; padding: 0 1; }
    MacroPicker OptionList { height: auto; max-height: 16; background: $panel; margin: 1 0; padding: 0; }
    MacroPicker Label { color: $text-muted; width: 100%; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        ("escape", "leave", "leave"), ("down", "choose(1)", ""), ("up", "choose(-1)", ""),
    ]

    def __init__(self, state: DeskState) -> None:
        super().__init__()
        self.state = state
        self._choices: list[tuple[str, str]] = []

    def compose(self) -> ComposeResult:
        """One field, and what fits."""
        with Vertical() as box:
            box.border_title = "Macros"
            yield Label("A part of a macro's name, or the name of a new one:")
            yield Input()
            yield OptionList(markup=False)
            yield Label("↑ ↓ choose   Enter opens   Esc leaves")

    def on_mount(self) -> None:
        """All of them at first."""
        self.query_one(OptionList).can_focus = False
        self.query_one(Input).focus()
        self._fill("")

    @on(Input.Changed)
    def _typed(self, event: Input.Changed) -> None:
        self._fill(event.value.strip())

    def _fill(self, text: str) -> None:
        options = self.query_one(OptionList)
        options.clear_options()
        self._choices = []
        desk = self.state.desk
        for macro in desk["macros"]:
            if text.casefold() in macro["name"].casefold() or text.casefold() in macro["id"]:
                self._choices.append((macro["id"], ""))
                live = ", depends on the press" if macro["live"] else ""
                options.add_option(Option(f"▸  {macro['name']}   {say_duration(round(macro['length_ms'] * MS))}, "
                                          f"{macro['events']} events{live}"))
        for name, why in desk["broken_macros"].items():
            if text.casefold() in name.casefold():
                self._choices.append((name, ""))
                options.add_option(Option(f"✗  {why}"))
        if text and text.casefold() not in (m["name"].casefold() for m in desk["macros"]):
            self._choices.append(("", text))
            options.add_option(Option(f"+  a new macro “{text}”"))
        options.highlighted = 0 if self._choices else None

    def action_choose(self, step: int) -> None:
        """Move among them."""
        options = self.query_one(OptionList)
        if self._choices:
            options.highlighted = ((options.highlighted or 0) + step) % len(self._choices)

    @on(Input.Submitted)
    def _submitted(self) -> None:
        index = self.query_one(OptionList).highlighted
        if index is not None and self._choices:
            self.dismiss(self._choices[index])

    @on(OptionList.OptionSelected)
    def _clicked(self, event: OptionList.OptionSelected) -> None:
        self.dismiss(self._choices[event.option_index])

    def action_leave(self) -> None:
        """None of them."""
        self.dismiss(("", ""))
