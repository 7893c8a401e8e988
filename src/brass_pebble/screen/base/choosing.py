"""A field to type in, and below it what may be meant: shared by the sheets that ask in this way."""

from __future__ import annotations

from typing import Any, ClassVar, TypeVar

from textual import on
from textual.binding import BindingType
from textual.screen import ModalScreen
from textual.widgets import Input, OptionList
from textual.widgets.option_list import Option

Result = TypeVar("Result")


class ChoosingSheet(ModalScreen[Result]):
    """Arrows choose while the cursor stays in the field; Enter or a click takes.  Subclasses say what in `take`."""

    BINDINGS: ClassVar[list[BindingType]] = [
        ("escape", "leave", "cancel"), ("down", "choose(1)", ""), ("up", "choose(-1)", ""),
    ]

    def __init__(self) -> None:
        super().__init__()
        self.choices: list[Any] = []

    def offer(self, rows: list[tuple[str, Any]]) -> None:
        """Show these, each a text and what it stands for; the first is chosen."""
        self.choices = [choice for _, choice in rows]
        options = self.query_one(OptionList)
        options.can_focus = False
        options.clear_options()
        options.add_options([Option(text) for text, _ in rows])
        options.highlighted = 0 if rows else None

    def take(self, choice: Any) -> None:
        """One was taken."""

    def action_choose(self, by: int) -> None:
        """Move among them."""
        options = self.query_one(OptionList)
        if self.choices:
            options.highlighted = ((options.highlighted or 0) + by) % len(self.choices)

    @on(Input.Submitted)
    def _submitted(self) -> None:
        index = self.query_one(OptionList).highlighted
        if index is not None and self.choices:
            self.take(self.choices[index])

    @on(OptionList.OptionSelected)
    def _clicked(self, event: OptionList.OptionSelected) -> None:
        self.take(self.choices[event.option_index])
