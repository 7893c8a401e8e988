"""What is set for one layer, changed at once: its name, its tint, the window it follows."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Any, ClassVar

from textual import on, work
from textual.app import ComposeResult
from textual.binding import BindingType
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Input, Label, OptionList
from textual.widgets.option_list import Option

from brass_pebble.core.desk.look.drawn import LayerRow
from brass_pebble.core.desk.model import Layer
from brass_pebble.core.say.setting import settings_of
from brass_pebble.protocol.base import Reply
from brass_pebble.protocol.layers import Window, Windows
from brass_pebble.protocol.rows import WindowRow
from brass_pebble.screen.base.key_line import KeyLine
from brass_pebble.screen.known import NO_LAYER, NO_SURFACE, Known
from brass_pebble.screen.settings.panel import next_value

Ask = Callable[..., Awaitable[Reply | None]]
SETTINGS = settings_of(Layer)


class LayerPanel(ModalScreen[None]):
    """Rows to change; Escape closes."""

    DEFAULT_CSS = """
    LayerPanel { align: center middle; }
    LayerPanel > Vertical { width: 88; max-width: 96%; height: auto; max-height: 90%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    LayerPanel OptionList { height: auto; max-height: 14; border: none; background: $panel; padding: 0; margin: 1 0; }
    LayerPanel Label { color: $text-muted; width: 100%; }
    LayerPanel Input, LayerPanel Input:focus { border: none; background: $background; height: 1; padding: 0 1;
        display: none; }
    LayerPanel Input.shown { display: block; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [("escape", "leave", "back"), ("l", "leave", "back")]

    def __init__(self, surface_id: str, layer_id: str, known: Known, ask: Ask) -> None:
        super().__init__()
        self._surface, self._layer, self._known, self._ask = surface_id, layer_id, known, ask
        self._windows: list[WindowRow] = []
        self._typing = ""
        self._shown = "settings"

    @property
    def row(self) -> LayerRow:
        """The layer as it is now."""
        surface = self._known.surface(self._surface) or NO_SURFACE
        return next((layer for layer in surface.layers if layer.id == self._layer), NO_LAYER)

    def compose(self) -> ComposeResult:
        """One row for each setting."""
        surface = self._known.surface(self._surface) or NO_SURFACE
        with Vertical() as box:
            box.border_title = f"{surface.name} ▸ layer {self.row.name}"
            yield Label("", id="about", markup=False)
            yield OptionList(markup=False)
            yield Input(max_length=120)
            yield KeyLine("Enter: change (takes effect at once; u undoes)   Esc: back", types=True)

    def on_mount(self) -> None:
        """Begin in the list."""
        self._fill()
        self.query_one(OptionList).focus()

    def rows(self) -> list[tuple[str, str]]:
        """What can be changed, and how it is now."""
        row = self.row
        surface = self._known.surface(self._surface) or NO_SURFACE
        lowest = bool(surface.layers) and surface.layers[0].id == self._layer
        rule = row.follows.given() if row.follows else {}
        follows = " and ".join(f"{what} {value}" for what, value in rule.items())
        rows = [(name, f"{setting.label:15} {setting.say(getattr(row, name))}")
                for name, setting in SETTINGS.items() if not (lowest and name == "starts")]
        if not lowest:
            rows += [("follows", f"comes with      {'the window of ' + follows if follows else 'no window'}"),
                     ("class", "                choose an open window"),
                     ("click", "                the next window I click"),
                     ("type", "                type its class (* for anything)"),
                     ("title", "                type its title (* for anything)")]
        return [*rows, ("remove", "delete this layer (u undoes)")]

    def _fill(self) -> None:
        if not self.is_current:
            return
        options = self.query_one(OptionList)
        shown_before, at = self._shown, options.highlighted or 0
        self._shown = "windows" if self._windows else "settings"
        at = at if shown_before == self._shown else 0
        options.clear_options()
        if self._windows:
            options.add_options([Option(f"{window.cls or '?'}   {window.title[:60]}", id=f"window {index}")
                                 for index, window in enumerate(self._windows)])
            options.add_option(Option("none of them", id="none"))
        else:
            options.add_options([Option(text, id=name) for name, text in self.rows()])
        options.highlighted = min(at, options.option_count - 1)
        trouble = self._known.layers.trouble
        source = self._known.layers.source or "nobody yet"
        self.query_one("#about", Label).update(f"✗ {trouble}" if trouble else f"Windows are reported by {source}.")

    @on(OptionList.OptionSelected)
    def _chosen(self, event: OptionList.OptionSelected) -> None:
        what = str(event.option.id)
        if what == "none":
            self._windows = []
            self._fill()
        elif what.startswith("window "):
            window, self._windows = self._windows[int(what.split()[1])], []
            self._set("follows", {"class": window.cls} if window.cls else {"title": window.title})
        elif what in ("name", "type", "title"):
            self._typing = what
            field = self.query_one(Input)
            field.add_class("shown")
            follows = self.row.follows
            field.value = self.row.name if what == "name" else "" if follows is None else \
                follows.cls if what == "type" else follows.title
            field.focus()
        else:
            self._change(what)

    @on(Input.Submitted)
    def _typed(self, event: Input.Submitted) -> None:
        value = event.value.strip()
        self.query_one(Input).remove_class("shown")
        self.query_one(OptionList).focus()
        if self._typing == "name":
            if value:
                self._set("name", value)
            return
        rule = self.row.follows.given() if self.row.follows else {}
        rule["class" if self._typing == "type" else "title"] = value
        rule = {name: text for name, text in rule.items() if text}
        self._set("follows", rule or None)

    @work(exclusive=True)
    async def _change(self, what: str) -> None:
        row = self.row
        if what == "remove":
            if await self._ask("remove_layer", surface=self._surface, layer=self._layer):
                self.dismiss()
        elif what in SETTINGS:
            await self._put(what, next_value(SETTINGS[what], getattr(row, what)))
        elif what == "follows":
            if row.follows:
                await self._put("follows", None)
            else:
                self.notify("Choose the window below.", timeout=4)
        elif what == "class":
            reply = await self._ask("windows")
            if isinstance(reply, Windows):
                self._windows = reply.windows
                if not self._windows:
                    self.notify("No window is open.", timeout=4)
                self._fill()
        elif what == "click":
            self.query_one("#about", Label).update("● Click the window within ten seconds …")
            window = await self._ask("next_window")
            if isinstance(window, Window):
                rule = {"class": window.cls} if window.cls else {"title": window.title}
                await self._put("follows", rule)
            else:
                self._fill()

    @work(exclusive=True)
    async def _set(self, what: str, value: Any) -> None:
        await self._put(what, value)

    async def _put(self, what: str, value: Any) -> None:
        await self._ask("set_layer", surface=self._surface, layer=self._layer, what=what, value=value)
        self._fill()

    def action_leave(self) -> None:
        """Back, or out of the field or the list of windows."""
        field = self.query_one(Input)
        if field.has_class("shown"):
            field.remove_class("shown")
            self.query_one(OptionList).focus()
        elif self._windows:
            self._windows = []
            self._fill()
        else:
            self.dismiss()
