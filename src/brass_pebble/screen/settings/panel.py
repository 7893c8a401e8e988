"""A panel of settings: a row each, as the core's table has them, changed at once."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping
from typing import Any, ClassVar

from textual import on, work
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Input, Label, OptionList
from textual.widgets.option_list import Option

from brass_pebble.core.say.setting import Setting, Text, Texts, settings_of
from brass_pebble.protocol.base import Reply
from brass_pebble.screen.base.key_line import KeyLine

Ask = Callable[..., Awaitable[Reply | None]]
FOLLOW_EVERY = 0.3


def written_value(row: Setting, written: Mapping[str, Any]) -> Any:
    """A setting as it is written, where `written` has those that differ from their default."""
    return written.get(row.name, row.kind.write(row.default))


def next_value(row: Setting, now: Any) -> Any:
    """The next of the values that a setting goes through; the first one if it has another."""
    values = row.proposals
    usual = row.kind.write(row.default)
    at = next((index for index, value in enumerate(values) if value == now or (value is None and now == usual)), -1)
    return values[(at + 1) % len(values)]


class SettingsPanel(ModalScreen[str]):
    """Settings that can be typed or gone through, and further rows below them.  Returns an empty text, or what a row
    further down wants."""

    DEFAULT_CSS = """
    SettingsPanel { align: center middle; }
    SettingsPanel > Vertical { width: 84; max-width: 96%; height: auto; max-height: 90%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    SettingsPanel OptionList { height: auto; border: none; background: $panel; padding: 0; margin: 1 0; }
    SettingsPanel Label { color: $text-muted; width: 100%; }
    SettingsPanel Input, SettingsPanel Input:focus { border: none; background: $background; height: 1; padding: 0 1;
        display: none; }
    SettingsPanel Input.shown { display: block; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [("escape", "leave", "back")]
    MODEL: ClassVar[type]

    def __init__(self, ask: Ask) -> None:
        super().__init__()
        self._ask = ask
        self._typing = ""
        self._shown: list[tuple[str, str]] = []

    # What a panel fills in.

    def heading(self) -> str:
        """What the settings are of."""
        raise NotImplementedError

    def written(self) -> Mapping[str, Any]:
        """The settings that differ from their defaults, as they are written."""
        raise NotImplementedError

    def about(self) -> str:
        """A line above the settings."""
        return ""

    def hint(self, what: str) -> str:
        """What an empty field says."""
        return ""

    def more(self) -> list[tuple[str, str]]:
        """Further rows: what each is chosen by, and its text."""
        return []

    async def put(self, what: str, value: Any) -> bool:
        """Have a setting changed; whether it was."""
        raise NotImplementedError

    async def choose(self, what: str) -> None:
        """A further row was chosen."""

    # The rest is the same for all.

    def settings(self) -> dict[str, Setting]:
        """What can be changed here."""
        return {name: row for name, row in settings_of(self.MODEL).items()
                if row.label and (row.proposals or isinstance(row.kind, Text | Texts))}

    def rows(self) -> list[tuple[str, str]]:
        """What can be changed, and how it is now."""
        written = self.written()
        return [*((name, f"{row.label:18} {row.say(written_value(row, written))}")
                  for name, row in self.settings().items()), *self.more()]

    def compose(self) -> ComposeResult:
        """One row for each setting."""
        with Vertical() as box:
            box.border_title = self.heading()
            yield Label(self.about(), id="about", markup=False)
            yield OptionList(markup=False)
            yield Input(id="typed", max_length=200)
            yield Label("", id="means", markup=False)
            yield KeyLine("Enter: change (takes effect at once; u on the desk undoes)   Esc: back", types=True)

    def on_mount(self) -> None:
        """Begin in the list."""
        self.fill()
        self.query_one(OptionList).focus()
        # What is changed elsewhere, or undone, shows here, too.
        self.set_interval(FOLLOW_EVERY, self._follow)

    def _follow(self) -> None:
        if self.is_current and self.rows() != self._shown:
            self.fill()

    def fill(self) -> None:
        """Show how everything is now."""
        options = self.query_one(OptionList)
        at = options.highlighted or 0
        options.clear_options()
        self._shown = self.rows()
        options.add_options([Option(text, id=name) for name, text in self._shown])
        options.highlighted = min(at, options.option_count - 1)

    @on(OptionList.OptionHighlighted)
    def _looked_at(self, event: OptionList.OptionHighlighted) -> None:
        row = self.settings().get(str(event.option.id))
        means = f"{row.means[:1].upper()}{row.means[1:]}." if row is not None else ""
        self.query_one("#means", Label).update(means.replace("`", "“", 1).replace("`", "”", 1))

    @on(OptionList.OptionSelected)
    def _chosen(self, event: OptionList.OptionSelected) -> None:
        what = str(event.option.id)
        row = self.settings().get(what)
        if row is None:
            self._do(what)
        elif row.proposals:
            self._change(what, next_value(row, written_value(row, self.written())))
        else:
            self._typing = what
            field = self.query_one(Input)
            field.add_class("shown")
            now = written_value(row, self.written())
            field.value = ", ".join(now) if isinstance(now, list) else now
            field.placeholder = self.hint(what)
            field.focus()

    @work(exclusive=True)
    async def _do(self, what: str) -> None:
        await self.choose(what)

    @work(exclusive=True)
    async def _change(self, what: str, value: Any) -> None:
        if await self.put(what, value):
            self.query_one(Vertical).border_title = self.heading()
            self.fill()

    @on(Input.Submitted)
    def _typed(self, event: Input.Submitted) -> None:
        text = event.value.strip()
        self._close_field()
        row = self.settings()[self._typing]
        now = written_value(row, self.written())
        value: Any = [part.strip() for part in text.split(",") if part.strip()] if isinstance(now, list) else text
        if value != now:
            self._change(self._typing, value or None)

    def _close_field(self) -> None:
        self.query_one(Input).remove_class("shown")
        self.query_one(OptionList).focus()

    def action_leave(self) -> None:
        """Out of the field, or back."""
        if self.query_one(Input).has_class("shown"):
            self._close_field()
        else:
            self.dismiss("")
