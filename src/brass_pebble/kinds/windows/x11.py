"""The windows of an X display.

Extended Window Manager Hints (_NET_ACTIVE_WINDOW, _NET_CLIENT_LIST, _NET_WM_NAME, _NET_CLOSE_WINDOW,
_NET_MOVERESIZE_WINDOW) where a window manager keeps them, else the core protocol and ICCCM (WM_DELETE_WINDOW).
"""

from __future__ import annotations

import contextlib
import os
import select
from collections.abc import Iterator
from typing import Any

from brass_pebble.kinds.outputs.x11 import abandon, open_display

from .base import CLOSE, FOCUS, MINIMISE, PLACE, POINTER, RAISE, Area, CannotDo, SeenWindow, WindowGone

_ATOMS = ("_NET_ACTIVE_WINDOW", "_NET_CLIENT_LIST", "_NET_WM_NAME", "UTF8_STRING", "_NET_SUPPORTED",
          "_NET_CLOSE_WINDOW", "_NET_WM_PID", "_NET_MOVERESIZE_WINDOW", "WM_CHANGE_STATE", "WM_DELETE_WINDOW",
          "WM_PROTOCOLS", "_NET_RESTACK_WINDOW", "_NET_WM_STATE", "_NET_WM_STATE_MAXIMIZED_VERT",
          "_NET_WM_STATE_MAXIMIZED_HORZ", "_NET_FRAME_EXTENTS")
# EWMH: a request that comes from a pager or the like is not refused; a state is taken away.
_FROM_PAGER, _REMOVE = 2, 0
# EWMH, _NET_MOVERESIZE_WINDOW: x, y, width and height are given, for a static gravity.
_MOVE_AND_RESIZE = (0b1111 << 8) | (_FROM_PAGER << 12) | 10
_ICONIC = 3
# A region's colour is looked at for so many pixels each way.
LARGEST_LOOK = 200


class WindowsOfX11:
    """The windows of a display."""

    source = "the X display"
    can = frozenset({FOCUS, RAISE, CLOSE, MINIMISE, PLACE, POINTER})

    @staticmethod
    def works_here() -> bool:
        """Whether there is a display.  Under Wayland it shows only some of the windows, and never who has the focus."""
        return bool(os.environ.get("DISPLAY")) and not os.environ.get("WAYLAND_DISPLAY")

    def __init__(self, name: str | None = None) -> None:
        from Xlib import X
        self._x = X
        self._display = open_display(name)
        self._root = self._display.screen().root
        self._root.change_attributes(event_mask=X.PropertyChangeMask | X.SubstructureNotifyMask | X.FocusChangeMask)
        self._atoms = {word: self._display.intern_atom(word) for word in _ATOMS}
        supported = self._root.get_full_property(self._atoms["_NET_SUPPORTED"], X.AnyPropertyType)
        self._managed = frozenset(supported.value if supported is not None else ())

    def _keeps(self, word: str) -> bool:
        """Whether the window manager follows a hint."""
        return self._atoms[word] in self._managed

    def look(self) -> list[SeenWindow]:
        focus = self._focus()
        return [self._seen(window, focus) for window in self._windows()]

    def _seen(self, window: Any, focus: int) -> SeenWindow:
        title, names, pid = "", None, 0
        with contextlib.suppress(Exception):
            text = window.get_full_property(self._atoms["_NET_WM_NAME"], self._atoms["UTF8_STRING"])
            title = text.value.decode(errors="replace") if text else str(window.get_wm_name() or "")
            names = window.get_wm_class()
            found = window.get_full_property(self._atoms["_NET_WM_PID"], self._x.AnyPropertyType)
            pid = int(found.value[0]) if found is not None and len(found.value) else 0
        return SeenWindow(title, names[1] if names else "", window.id == focus, window.id, pid)

    def _windows(self) -> Iterator[Any]:
        listed = self._root.get_full_property(self._atoms["_NET_CLIENT_LIST"], self._x.AnyPropertyType)
        if listed is not None:
            yield from (self._display.create_resource_object("window", number) for number in listed.value)
            return
        for child in self._root.query_tree().children:
            with contextlib.suppress(Exception):
                if child.get_attributes().map_state == self._x.IsViewable:
                    yield child

    def _focus(self) -> int:
        active = self._root.get_full_property(self._atoms["_NET_ACTIVE_WINDOW"], self._x.AnyPropertyType)
        if active is not None and active.value and active.value[0]:
            return int(active.value[0])
        focus = self._display.get_input_focus().focus
        # The focus may lie on a part of the window.
        while not isinstance(focus, int):
            parent = focus.query_tree().parent
            if parent is None or parent == 0 or parent.id == self._root.id:
                return int(focus.id)
            focus = parent
        return 0

    def screens(self) -> list[Area]:
        from Xlib.ext import randr
        with contextlib.suppress(Exception):
            found = []
            resources = randr.get_screen_resources(self._root)
            for crtc in resources.crtcs:
                about = randr.get_crtc_info(self._root, crtc, resources.config_timestamp)
                if about.width and about.height:
                    found.append(Area(about.x, about.y, about.width, about.height))
            if found:
                return sorted(set(found), key=lambda area: (area.x, area.y))
        screen = self._display.screen()
        return [Area(0, 0, screen.width_in_pixels, screen.height_in_pixels)]

    # Doing something.

    def _window(self, key: int) -> Any:
        window = self._display.create_resource_object("window", key)
        try:
            window.get_attributes()
        except Exception:
            raise WindowGone from None
        return window

    def _ask_manager(self, window: Any, word: str, *data: int) -> None:
        from Xlib.protocol.event import ClientMessage
        event = ClientMessage(window=window, client_type=self._atoms[word], data=(32, [*data, *[0] * (5 - len(data))]))
        self._root.send_event(event, event_mask=self._x.SubstructureRedirectMask | self._x.SubstructureNotifyMask)
        self._display.sync()

    def focus(self, key: int) -> None:
        window = self._window(key)
        if self._keeps("_NET_ACTIVE_WINDOW"):
            self._ask_manager(window, "_NET_ACTIVE_WINDOW", _FROM_PAGER, self._x.CurrentTime, 0)
        else:
            window.map()
            window.configure(stack_mode=self._x.Above)
            window.set_input_focus(self._x.RevertToParent, self._x.CurrentTime)
            self._display.sync()

    def raise_up(self, key: int) -> None:
        window = self._window(key)
        if self._keeps("_NET_RESTACK_WINDOW"):
            self._ask_manager(window, "_NET_RESTACK_WINDOW", _FROM_PAGER, 0, self._x.Above)
        else:
            window.configure(stack_mode=self._x.Above)
            self._display.sync()

    def close_window(self, key: int) -> None:
        window = self._window(key)
        if self._keeps("_NET_CLOSE_WINDOW"):
            self._ask_manager(window, "_NET_CLOSE_WINDOW", self._x.CurrentTime, _FROM_PAGER)
            return
        listed = window.get_full_property(self._atoms["WM_PROTOCOLS"], self._x.AnyPropertyType)
        if listed is None or self._atoms["WM_DELETE_WINDOW"] not in listed.value:
            raise CannotDo("its window cannot be asked to close")
        from Xlib.protocol.event import ClientMessage
        window.send_event(ClientMessage(window=window, client_type=self._atoms["WM_PROTOCOLS"], data=(
            32, [self._atoms["WM_DELETE_WINDOW"], self._x.CurrentTime, 0, 0, 0])))
        self._display.sync()

    def minimise(self, key: int) -> None:
        if not self._managed:
            raise CannotDo("a display without a window manager has nowhere to minimise a window to")
        self._ask_manager(self._window(key), "WM_CHANGE_STATE", _ICONIC)

    def place(self, key: int, area: Area) -> None:
        window = self._window(key)
        if not self._keeps("_NET_MOVERESIZE_WINDOW"):
            window.configure(x=area.x, y=area.y, width=area.width, height=area.height)
            self._display.sync()
            return
        self._ask_manager(window, "_NET_WM_STATE", _REMOVE, self._atoms["_NET_WM_STATE_MAXIMIZED_VERT"],
                          self._atoms["_NET_WM_STATE_MAXIMIZED_HORZ"], _FROM_PAGER)
        frame = window.get_full_property(self._atoms["_NET_FRAME_EXTENTS"], self._x.AnyPropertyType)
        left, right, top, bottom = frame.value if frame is not None and len(frame.value) == 4 else (0, 0, 0, 0)
        self._ask_manager(window, "_NET_MOVERESIZE_WINDOW", _MOVE_AND_RESIZE, area.x + left, area.y + top,
                          max(1, area.width - left - right), max(1, area.height - top - bottom))

    def area_of(self, key: int) -> Area:
        window = self._window(key)
        size, at = window.get_geometry(), window.translate_coords(self._root, 0, 0)
        return Area(-at.x, -at.y, size.width, size.height)

    def pointer(self) -> tuple[int, int, bool]:
        at = self._root.query_pointer()
        return at.root_x, at.root_y, bool(at.mask & self._x.Button1Mask)

    def window_at(self, x: int, y: int) -> int:
        listed = {window.id for window in self._windows()}
        window = self._root
        # A window manager puts a window into a frame of its own: down from what lies uppermost.
        while window:
            window = window.translate_coords(self._root, x, y).child
            if window and window.id in listed:
                return int(window.id)
        return 0

    def colour(self, area: Area) -> tuple[int, int, int]:
        screen = self._display.screen()
        if screen.root_depth not in (24, 32):
            raise CannotDo(f"a display of {screen.root_depth} bits does not tell colours")
        width = max(1, min(area.width, LARGEST_LOOK, screen.width_in_pixels - area.x))
        height = max(1, min(area.height, LARGEST_LOOK, screen.height_in_pixels - area.y))
        try:
            image = self._root.get_image(area.x, area.y, width, height, self._x.ZPixmap, 0xFFFFFFFF)
        except Exception:
            raise CannotDo("this place is not on the screen") from None
        data, count = image.data, width * height
        # Four bytes each: blue, green, red, nothing.
        blue, green, red = (sum(data[at::4]) // count for at in (0, 1, 2))
        return red, green, blue

    def pause(self, seconds: float) -> None:
        select.select([self._display.fileno()], [], [], seconds)
        while self._display.pending_events():
            self._display.next_event()

    def abandon(self) -> None:
        abandon(self._display)

    def close(self) -> None:
        with contextlib.suppress(Exception):
            self._display.close()
