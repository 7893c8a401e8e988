"""The windows of a Wayland compositor (or window manager) that speaks the sway/i3 protocol: sway-ipc(7), sway(5)."""

from __future__ import annotations

import os
import select
from typing import Any

from brass_pebble.kinds.focus.sway import SwayConnection, is_window, named, socket_of_compositor, walk

from .base import CLOSE, FOCUS, PLACE, RAISE, Area, CannotDo, SeenWindow, TellsNoPlaces, WindowGone

# So often, and so long apart (in s), a window is asked to take a place; it stands when it was seen there so often,
# within so many pixels.
PLACE_TRIES, PLACE_PAUSE, PLACE_STANDS, NEAR = 12, 0.05, 3, 2
_RUN_COMMAND, _GET_OUTPUTS, _GET_TREE = 0, 3, 4


class WindowsOfSway(TellsNoPlaces):
    """The windows of such a compositor."""

    source = "the compositor (sway protocol)"
    can = frozenset({FOCUS, RAISE, CLOSE, PLACE})

    @staticmethod
    def works_here() -> bool:
        """Whether such a compositor is named."""
        return bool(socket_of_compositor())

    def __init__(self) -> None:
        self._stop = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._connection = SwayConnection(self._stop)

    def _ask(self, kind: int, text: str = "") -> Any:
        self._connection.send(kind, text)
        told, content = self._connection.message()
        if told < 0:
            raise OSError("it was not waited for any longer")
        return content

    def look(self) -> list[SeenWindow]:
        found = []
        for node in walk(self._ask(_GET_TREE)):
            if is_window(node):
                window = named(node)
                found.append(SeenWindow(window.title, window.cls, bool(node.get("focused")), int(node.get("id", 0)),
                                        int(node.get("pid", 0) or 0)))
        return found

    def screens(self) -> list[Area]:
        areas = [row["rect"] for row in self._ask(_GET_OUTPUTS) if row.get("active")]
        return sorted((Area(row["x"], row["y"], row["width"], row["height"]) for row in areas),
                      key=lambda area: (area.x, area.y))

    def _command(self, key: int, words: str) -> None:
        answers = self._ask(_RUN_COMMAND, f"[con_id={key}] {words}")
        for answer in answers:
            if not answer.get("success"):
                if all(window.key != key for window in self.look()):
                    raise WindowGone
                raise CannotDo(f"the compositor refuses: {answer.get('error', words)}")

    def focus(self, key: int) -> None:
        self._command(key, "focus")

    def raise_up(self, key: int) -> None:
        # Here what is in front has the focus, too.
        self._command(key, "focus")

    def close_window(self, key: int) -> None:
        self._command(key, "kill")

    def minimise(self, key: int) -> None:
        raise CannotDo("a compositor with the sway protocol cannot minimise a window. Move it to another workspace by "
                       "its own shortcut")

    def place(self, key: int, area: Area) -> None:
        self._command(key, "floating enable")
        # A window's program answers a moment later, at times to what was asked before: it is asked until it stands.
        stood = 0
        for _ in range(PLACE_TRIES):
            if not stood:
                self._command(key, f"resize set width {area.width} px height {area.height} px")
                self._command(key, f"move absolute position {area.x} px {area.y} px")
            self.pause(PLACE_PAUSE)
            rect = next((node["rect"] for node in walk(self._ask(_GET_TREE)) if node.get("id") == key), None)
            if rect is None:
                raise WindowGone
            near = max(abs(rect["x"] - area.x), abs(rect["y"] - area.y)) <= NEAR
            stood = stood + 1 if near and abs(rect["width"] - area.width) <= NEAR else 0
            if stood == PLACE_STANDS:
                return

    def area_of(self, key: int) -> Area:
        node = next((node for node in walk(self._ask(_GET_TREE)) if node.get("id") == key), None)
        if node is None:
            raise WindowGone
        rect, inside = node["rect"], node.get("window_rect") or {"x": 0, "y": 0, **node["rect"]}
        return Area(rect["x"] + inside["x"], rect["y"] + inside["y"], inside["width"], inside["height"])

    def pause(self, seconds: float) -> None:
        select.select([self._stop], [], [], seconds)

    def abandon(self) -> None:
        if self._stop >= 0:
            os.eventfd_write(self._stop, 1)

    def close(self) -> None:
        self._connection.close()
        stop, self._stop = self._stop, -1
        if stop >= 0:
            os.close(stop)
