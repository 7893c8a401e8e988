"""Which window of an X display has the focus, told as it changes.  Runs on a thread of its own.

Extended Window Manager Hints: _NET_ACTIVE_WINDOW of the root window, _NET_WM_NAME, and WM_CLASS of ICCCM.
"""

from __future__ import annotations

import contextlib
import os
import select
from collections.abc import Callable
from typing import Any

from brass_pebble.core.desk.layer_switch import FocusedWindow
from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.kinds.outputs.x11 import open_display

# Names are read up to this many 32-bit units; some programs put whole documents into their titles.
_LONGEST = 1024


class FocusOnX11:
    """`run(tell)` calls `tell(window)` for the window that has the focus and for every change, until `stop` is
    readable or the display goes away.

    Raises:
        OutputError: the display cannot be reached.
    """

    source = "the X display"

    @staticmethod
    def works_here() -> bool:
        """Whether there is a display.  Under Wayland it shows only some of the windows, and never who has the focus."""
        return bool(os.environ.get("DISPLAY")) and not os.environ.get("WAYLAND_DISPLAY")

    def __init__(self, stop: int) -> None:
        self._stop = stop
        self._display = open_display()
        self._root = self._display.screen().root
        names = ("_NET_ACTIVE_WINDOW", "_NET_WM_NAME", "UTF8_STRING", "_NET_CLIENT_LIST")
        self._atoms = {name: self._display.intern_atom(name) for name in names}
        self._watched: Any = None

    def run(self, tell: Callable[[FocusedWindow | None], None]) -> None:
        """Tell until stopped."""
        from Xlib import X
        from Xlib.error import ConnectionClosedError
        try:
            self._root.change_attributes(event_mask=X.PropertyChangeMask)
            told: FocusedWindow | None = FocusedWindow("\0")
            while True:
                window = self._look()
                if window != told:
                    tell(window)
                    told = window
                self._display.sync()
                if not self._display.pending_events():
                    ready, _, _ = select.select([self._display.fileno(), self._stop], [], [])
                    if self._stop in ready:
                        return
                while self._display.pending_events():
                    self._display.next_event()
        except (ConnectionClosedError, OSError) as error:
            raise OutputError(f"the display went away: {error}") from None
        finally:
            with contextlib.suppress(Exception):
                self._display.close()

    def _look(self) -> FocusedWindow | None:
        from Xlib import X
        from Xlib.error import BadWindow, XError
        active = self._root.get_property(self._atoms["_NET_ACTIVE_WINDOW"], X.AnyPropertyType, 0, 1)
        number = int(active.value[0]) if active is not None and len(active.value) else 0
        if not number:
            return None
        window = self._display.create_resource_object("window", number)
        try:
            if self._watched is None or self._watched.id != number:
                if self._watched is not None:
                    self._watched.change_attributes(event_mask=0, onerror=_ignore)
                # Its title may change while it keeps the focus.
                window.change_attributes(event_mask=X.PropertyChangeMask, onerror=_ignore)
                self._watched = window
            return self._named(window)
        except (BadWindow, XError):
            # It was closed between the two questions; the next event tells what came instead.
            return None

    def _named(self, window: Any) -> FocusedWindow:
        from Xlib import X, Xatom
        title = ""
        for atom, kind in ((self._atoms["_NET_WM_NAME"], self._atoms["UTF8_STRING"]),
                           (Xatom.WM_NAME, X.AnyPropertyType)):
            text = window.get_property(atom, kind, 0, _LONGEST)
            if text is not None and text.value:
                value = text.value
                title = value.decode(errors="replace") if isinstance(value, bytes) else str(value)
                break
        names = window.get_wm_class()
        return FocusedWindow(names[1] if names else "", title)

    def list(self) -> list[FocusedWindow]:
        """The windows that are open now."""
        from Xlib import X
        from Xlib.error import XError
        found = []
        try:
            listed = self._root.get_full_property(self._atoms["_NET_CLIENT_LIST"], X.AnyPropertyType)
            for number in listed.value if listed is not None else ():
                with contextlib.suppress(XError):
                    found.append(self._named(self._display.create_resource_object("window", number)))
        finally:
            with contextlib.suppress(Exception):
                self._display.close()
        return found


def _ignore(error: object, request: object) -> int:
    """A window that was closed meanwhile is not a mistake."""
    return 1
