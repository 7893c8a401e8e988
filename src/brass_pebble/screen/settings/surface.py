"""What is set for one surface, changed at once; and the ways to draw it again, try it, or take it off the desk."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from textual.binding import BindingType

from brass_pebble.core.desk.look.drawn import SurfaceRow
from brass_pebble.core.desk.model import Surface
from brass_pebble.core.devices.parts import GROUPS
from brass_pebble.protocol.rows import HandsOffRow
from brass_pebble.screen.known import NO_SURFACE, Known

from .panel import Ask, SettingsPanel

HANDS = ("hands", "hands off for two minutes: presses only select (H: all surfaces)")
GOALS = (("draw", "redraw it: choose another drawing, or press the keys one by one"), ("try", "try it: every control "
                                                                                              "lights up"),
         ("remove", "remove it from the desk (u undoes)"))


class SurfacePanel(SettingsPanel):
    """Returns "draw" or "try" if the person wants to go there, or an empty text."""

    BINDINGS: ClassVar[list[BindingType]] = [("i", "leave", "back")]
    MODEL = Surface

    def __init__(self, surface_id: str, known: Known, ask: Ask) -> None:
        super().__init__(ask)
        self._surface, self._known = surface_id, known

    @property
    def surface(self) -> SurfaceRow:
        """The surface as it is now."""
        return self._known.surface(self._surface) or NO_SURFACE

    def heading(self) -> str:
        return self.surface.name

    def about(self) -> str:
        surface = self.surface
        known = "; ".join(surface.known_by)
        return (f"{surface.device}, {surface.where}; known by: {known}." if surface.device
                else f"No device: {surface.why}.")

    def written(self) -> Mapping[str, Any]:
        surface = self.surface
        return {**surface.settings, "name": surface.name}

    def hint(self, what: str) -> str:
        return f"everything; or back, motion while aim; {', '.join(GROUPS)}" if what == "takes" else ""

    def more(self) -> list[tuple[str, str]]:
        """Its lamps, hands off, and what can be done with it."""
        surface = self.surface
        layers = {layer.id: layer.name for layer in surface.layers}
        rows = []
        for lamp in surface.has_lamps:
            shows = surface.lamps.get(lamp, "")
            said = {"": "as the system lights it", "armed": "lit while armed"}.get(shows, f"layer {layers.get(shows)}")
            rows.append((lamp, f"{lamp + ' lamp':18} {said}"))
        return [*rows, ("hands", "hands on: presses act again") if self._off else HANDS, *GOALS]

    @property
    def _off(self) -> bool:
        return self._surface in self._known.desk.hands_off.surfaces

    async def put(self, what: str, value: Any) -> bool:
        return bool(await self._ask("set", surface=self._surface, what=what, value=value))

    async def choose(self, what: str) -> None:
        if what in ("draw", "try"):
            self.dismiss(what)
        elif what == "hands":
            reply = await self._ask("hands_on" if self._off else "hands_off", surface=self._surface)
            if isinstance(reply, HandsOffRow):
                self._known.take_hands_off(reply)
                self.fill()
        elif what == "remove":
            if await self._ask("remove", surface=self._surface):
                self.dismiss("")
        else:
            shows = (None, "armed", *(layer.id for layer in self.surface.layers))
            now = self.surface.lamps.get(what)
            await self.put(what, shows[(shows.index(now) + 1) % len(shows)] if now in shows else None)
