"""What is set for one surface, changed at once; and the ways to draw it anew, try it, or take it off the desk."""

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

from brass_pebble.core.devices.parts import GROUPS
from brass_pebble.screen.state import DeskState, Row

Ask = Callable[..., Awaitable[Row | None]]
DEBOUNCES = (None, "5ms", "10ms", "15ms", "20ms", "30ms", "50ms")
FOLLOW_EVERY = 0.3
HANDS = ("hands", "hands off for two minutes: presses only select (H: all surfaces)")
GOALS = (("draw", "draw it anew: another drawing, or walk the keys"), ("try", "try it: every control lights up"),
         ("remove", "take it off the desk (u brings it back)"))


class SurfacePanel(ModalScreen[str]):
    """Returns "draw" or "try" if the person wants to go there, or an empty text."""

    DEFAULT_CSS = """
    SurfacePanel { align: center middle; }
    SurfacePanel > Vertical { width: 84; max-width: 96%; height: auto; max-height: 90%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    SurfacePanel OptionList { height: auto; border: none; background: $panel; padding: 0; margin: 1 0; }
    SurfacePanel Label { color: $text-muted; width: 100%; }
    SurfacePanel Input, SurfacePanel Input:focus { border: none; background: $background; height: 1; padding: 0 1;
        display: none; }
    SurfacePanel Input.shown { display: block; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [("escape", "leave", "back"), ("i", "leave", "back")]

    def __init__(self, surface_id: str, state: DeskState, ask: Ask) -> None:
        super().__init__()
        self._surface, self._state, self._ask = surface_id, state, ask
        # What the field asks for.
        self._asks = "name"
        self._shown: list[tuple[str, str]] = []

    @property
    def surface(self) -> Row:
        """The surface as it is now."""
        return self._state.surface(self._surface) or {}

    def compose(self) -> ComposeResult:
        """One row for each setting."""
        with Vertical() as box:
            box.border_title = self.surface["name"]
            device = self.surface["device"]
            known = "; ".join(self.surface["known_by"])
            yield Label(f"{device}, {self.surface['where']}; known by: {known}." if device
                        else f"No device: {self.surface['why']}.", markup=False)
            yield OptionList(markup=False)
            yield Input(id="name", max_length=120)
            yield Label("Enter changes it, live at once, u on the desk undoes   Esc back", markup=False)

    def on_mount(self) -> None:
        """Begin in the list."""
        self._fill()
        self.query_one(OptionList).focus()
        # What is changed elsewhere, or undone, shows here, too.
        self.set_interval(FOLLOW_EVERY, self._follow)

    def _follow(self) -> None:
        if self.surface and self.rows() != self._shown:
            self._fill()

    def rows(self) -> list[tuple[str, str]]:
        """What can be changed, and how it is now."""
        surface = self.surface
        debounce = surface["debounce_ms"]
        bounce = f"a release counts after {debounce:g} ms" if debounce else "none: a release counts at once"
        rows = [("name", f"name               {surface['name']}"),
                ("unbound", "unbound controls   " + ("are swallowed" if surface["unbound"] == "swallow"
                                                     else "pass through to the focused program")),
                ("unplugged", "when unplugged     its macros " + ("play on" if surface["unplugged"] == "go on"
                                                                  else "end")),
                ("debounce", f"debounce           {bounce}")]
        parts = ", ".join(surface.get("takes", ())) or "everything"
        layers = {layer["id"]: layer["name"] for layer in surface["layers"]}
        for lamp in surface["has_lamps"]:
            shows = surface["lamps"].get(lamp, "")
            said = {"": "as the system lights it", "armed": "lit while armed"}.get(shows, f"layer {layers.get(shows)}")
            rows.append((lamp, f"{lamp + ' lamp':18} {said}"))
        rows.append(("takes", f"parts taken        {parts}"))
        off = self._surface in self._state.desk.get("hands_off", {}).get("surfaces", {})
        return [*rows, ("hands", "hands on: its presses command again") if off else HANDS, *GOALS]

    def _fill(self) -> None:
        options = self.query_one(OptionList)
        at = options.highlighted or 0
        options.clear_options()
        self._shown = self.rows()
        options.add_options([Option(text, id=name) for name, text in self._shown])
        options.highlighted = at

    @on(OptionList.OptionSelected)
    def _chosen(self, event: OptionList.OptionSelected) -> None:
        what = str(event.option.id)
        if what in ("draw", "try"):
            self.dismiss(what)
        elif what in ("name", "takes"):
            self._asks = what
            field = self.query_one(Input)
            field.add_class("shown")
            field.value = self.surface["name"] if what == "name" else ", ".join(self.surface.get("takes", ()))
            field.placeholder = "" if what == "name" else f"everything; or back, motion while aim; {', '.join(GROUPS)}"
            field.focus()
        else:
            self._change(what)

    @work(exclusive=True)
    async def _change(self, what: str) -> None:
        surface = self.surface
        if what == "hands":
            off = self._surface in self._state.desk.get("hands_off", {}).get("surfaces", {})
            reply = await self._ask("hands_on" if off else "hands_off", surface=self._surface)
            if reply:
                self._state.desk["hands_off"] = reply
                self._fill()
            return
        if what == "remove":
            if await self._ask("remove", surface=self._surface):
                self.dismiss("")
            return
        value: Any
        if what == "debounce":
            now = f"{surface['debounce_ms']:g}ms" if surface["debounce_ms"] else None
            value = _next(DEBOUNCES, now)
        elif what == "unbound":
            value = _next(("swallow", "pass"), surface["unbound"])
        elif what == "unplugged":
            value = _next(("go on", "end"), surface["unplugged"])
        else:
            shows = (None, "armed", *(layer["id"] for layer in surface["layers"]))
            value = _next(shows, surface["lamps"].get(what))
        if await self._ask("set", surface=self._surface, what=what, value=value):
            self._fill()

    @on(Input.Submitted)
    def _renamed(self, event: Input.Submitted) -> None:
        name = event.value.strip()
        self.query_one(Input).remove_class("shown")
        self.query_one(OptionList).focus()
        if self._asks == "takes":
            self._take_parts([part.strip() for part in name.split(",") if part.strip()])
        elif name and name != self.surface["name"]:
            self._rename(name)

    @work(exclusive=True)
    async def _take_parts(self, parts: list[str]) -> None:
        if await self._ask("set", surface=self._surface, what="takes", value=parts or None):
            self._fill()

    @work(exclusive=True)
    async def _rename(self, name: str) -> None:
        if await self._ask("set", surface=self._surface, what="name", value=name):
            self.query_one(Vertical).border_title = name
            self._fill()

    def action_leave(self) -> None:
        """Back to the desk."""
        self.dismiss("")


def _next(values: tuple[Any, ...], now: Any) -> Any:
    return values[(values.index(now) + 1) % len(values)] if now in values else values[0]
