"""The windows of a Wayland compositor that has wlr-foreign-toplevel-management (version 1 and later), by pywayland."""

from __future__ import annotations

import contextlib
import os
import select
import struct
import zlib
from importlib.util import find_spec
from typing import Any

from brass_pebble.kinds.outputs.base import OutputError

from .base import CLOSE, FOCUS, MINIMISE, RAISE, Area, CannotDo, SeenWindow, WindowGone

MISSING = "the package pywayland is missing: pip install 'brass-pebble[wayland]'"
TELLS_NOBODY = "this compositor tells nobody of its windows"


class _Toplevel:
    """A window as it was told."""

    def __init__(self, handle: Any) -> None:
        self.handle = handle
        self.title, self.cls, self.states, self.gone = "", "", (), False  # type: tuple[str, str, tuple[int, ...], bool]
        handle.dispatcher["title"] = lambda proxy, title: setattr(self, "title", title)
        handle.dispatcher["app_id"] = lambda proxy, name: setattr(self, "cls", name)
        handle.dispatcher["state"] = self._take_state
        handle.dispatcher["closed"] = lambda proxy: setattr(self, "gone", True)

    def _take_state(self, proxy: Any, state: Any) -> None:
        data = bytes(state)
        self.states = struct.unpack(f"={len(data) // 4}I", data)


class WindowsOfForeign:
    """The windows of such a compositor."""

    source = "the compositor (foreign toplevel protocol)"
    can = frozenset({FOCUS, RAISE, CLOSE, MINIMISE})

    @staticmethod
    def works_here() -> bool:
        """Whether there is a compositor that may be asked."""
        return bool(os.environ.get("WAYLAND_DISPLAY")) and find_spec("pywayland") is not None

    def __init__(self) -> None:
        try:
            from pywayland.client import Display
            from pywayland.protocol.wayland import WlSeat

            from .toplevel_protocol import ToplevelManager
        except ImportError:
            raise OutputError(MISSING) from None
        self._windows: list[_Toplevel] = []
        self._manager: Any = None
        self._seat: Any = None
        try:
            self._display = Display(os.environ.get("WAYLAND_DISPLAY"))
            self._display.connect()
        except (ValueError, RuntimeError, OSError) as error:
            raise OutputError(f"the compositor does not answer: {error}") from None

        def told(registry: Any, number: int, interface: str, version: int) -> None:
            if interface == ToplevelManager.name:
                self._manager = registry.bind(number, ToplevelManager, 1)
                self._manager.dispatcher["toplevel"] = lambda proxy, handle: self._windows.append(_Toplevel(handle))
            elif interface == WlSeat.name and self._seat is None:
                self._seat = registry.bind(number, WlSeat, 1)
        registry = self._display.get_registry()
        registry.dispatcher["global"] = told
        # What there is, the windows, and what each of them is.
        for _ in range(3):
            self._display.roundtrip()
        if self._manager is None:
            self.close()
            raise OutputError(TELLS_NOBODY)

    def look(self) -> list[SeenWindow]:
        from .toplevel_protocol import ACTIVATED
        self._display.roundtrip()
        return [SeenWindow(window.title, window.cls, ACTIVATED in window.states, key)
                for key, window in self._keyed().items()]

    def _keyed(self) -> dict[int, _Toplevel]:
        """Windows by keys that another connection has, too: the protocol has none of its own."""
        found: dict[int, _Toplevel] = {}
        for window in self._windows:
            if not window.gone:
                number = 0
                while (key := zlib.crc32(f"{window.cls}\0{window.title}\0{number}".encode())) in found:
                    number += 1
                found[key] = window
        return found

    def screens(self) -> list[Area]:
        raise CannotDo(f"{self.source} does not tell where screens are")

    def _window(self, key: int) -> Any:
        self._display.roundtrip()
        window = self._keyed().get(key)
        if window is None:
            raise WindowGone
        return window.handle

    def focus(self, key: int) -> None:
        handle = self._window(key)
        if self._seat is None:
            raise CannotDo("the compositor has no seat to give the focus with")
        handle.unset_minimized()
        handle.activate(self._seat)
        self._display.roundtrip()

    def raise_up(self, key: int) -> None:
        # Here what is in front has the focus, too.
        self.focus(key)

    def close_window(self, key: int) -> None:
        self._window(key).close()
        self._display.roundtrip()

    def minimise(self, key: int) -> None:
        self._window(key).set_minimized()
        self._display.roundtrip()

    def place(self, key: int, area: Area) -> None:
        raise CannotDo(f"{self.source} cannot place windows")

    def area_of(self, key: int) -> Area:
        raise CannotDo(f"{self.source} does not tell where windows are")

    def pointer(self) -> tuple[int, int, bool]:
        raise CannotDo("a Wayland compositor does not tell where the pointer is")

    def colour(self, area: Area) -> tuple[int, int, int]:
        raise CannotDo("a Wayland compositor does not tell how the screen looks")

    def pause(self, seconds: float) -> None:
        select.select([self._display.get_fd()], [], [], seconds)

    def close(self) -> None:
        with contextlib.suppress(Exception):
            self._display.disconnect()
