"""Windows by wlr-foreign-toplevel-management (version 1 and later), by pywayland; in the helper's process."""

from __future__ import annotations

import os
import struct
import zlib
from typing import Any

from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.kinds.windows.base import CannotDo, WindowGone

from .messages import WindowTold

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


class Toplevels:
    """The windows of the compositor.  The connection lasts as long as the process."""

    def __init__(self) -> None:
        from pywayland.client import Display
        from pywayland.protocol.wayland import WlSeat

        from .toplevel_protocol import ToplevelManager
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
            raise OutputError(TELLS_NOBODY)

    def look(self) -> list[WindowTold]:
        """The windows that are there now."""
        from .toplevel_protocol import ACTIVATED
        self._display.roundtrip()
        return [WindowTold(title=window.title, cls=window.cls, focused=ACTIVATED in window.states, key=key)
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

    def _window(self, key: int) -> Any:
        self._display.roundtrip()
        window = self._keyed().get(key)
        if window is None:
            raise WindowGone
        return window.handle

    def focus(self, key: int) -> None:
        """To the front, with the focus.  Raises: WindowGone, CannotDo."""
        handle = self._window(key)
        if self._seat is None:
            raise CannotDo("the compositor has no seat to give the focus with")
        handle.unset_minimized()
        handle.activate(self._seat)
        self._display.roundtrip()

    def close_window(self, key: int) -> None:
        """Its program is asked to close it.  Raises: WindowGone."""
        self._window(key).close()
        self._display.roundtrip()

    def minimise(self, key: int) -> None:
        """Out of sight.  Raises: WindowGone."""
        self._window(key).set_minimized()
        self._display.roundtrip()
