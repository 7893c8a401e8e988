"""The windows of a Wayland compositor that has wlr-foreign-toplevel-management, by a helper (`kinds/wayland`)."""

from __future__ import annotations

import time

from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.kinds.wayland.client import WaylandHelper, available
from brass_pebble.kinds.wayland.messages import Call, Told

from .base import CLOSE, FOCUS, MINIMISE, RAISE, Area, CannotDo, SeenWindow, TellsNoPlaces, WindowGone

# One helper for the whole process: its connection lasts.
_HELPER = WaylandHelper("windows")


class WindowsOfForeign(TellsNoPlaces):
    """The windows of such a compositor."""

    source = "the compositor (foreign toplevel protocol)"
    can = frozenset({FOCUS, RAISE, CLOSE, MINIMISE})

    @staticmethod
    def works_here() -> bool:
        """Whether there is a compositor that may be asked."""
        return available()

    def __init__(self) -> None:
        self._ask(Call(do="look"))

    def _ask(self, call: Call) -> Told:
        told = _HELPER.ask(call)
        if told.trouble == "gone":
            raise WindowGone
        if told.trouble == "cannot":
            raise CannotDo(told.why)
        if told.trouble:
            raise OutputError(told.why or told.trouble)
        return told

    def look(self) -> list[SeenWindow]:
        return [SeenWindow(row.title, row.cls, row.focused, row.key) for row in self._ask(Call(do="look")).windows]

    def screens(self) -> list[Area]:
        raise CannotDo(f"{self.source} does not tell where screens are")

    def focus(self, key: int) -> None:
        self._ask(Call(do="focus", key=key))

    def raise_up(self, key: int) -> None:
        # Here what is in front has the focus, too.
        self.focus(key)

    def close_window(self, key: int) -> None:
        self._ask(Call(do="close", key=key))

    def minimise(self, key: int) -> None:
        self._ask(Call(do="minimise", key=key))

    def place(self, key: int, area: Area) -> None:
        raise CannotDo(f"{self.source} cannot place windows")

    def area_of(self, key: int) -> Area:
        raise CannotDo(f"{self.source} does not tell where windows are")

    def pause(self, seconds: float) -> None:
        time.sleep(seconds)

    def abandon(self) -> None:
        """The helper ends by itself what takes too long."""

    def close(self) -> None:
        """The helper goes on."""
