"""Sends effects to the programs of an X display, through its test extension (XTEST)."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from typing import Any

from brass_pebble.core.effects.kinds import MOTION
from brass_pebble.core.effects.pointer import (
    ABS_X,
    ABS_Y,
    FULL,
    PIXEL_X,
    PIXEL_Y,
    REL_HWHEEL,
    REL_WHEEL,
    REL_X,
)
from brass_pebble.core.play.player import Effect
from brass_pebble.core.signals.key_places import US, Places

from .base import POINTING, Abilities, OutputError, OutputLost

# X keycodes are the kernel's key codes and 8 more, with the evdev rules that every X server of today uses.
_OFFSET = 8
# BTN_LEFT to BTN_TASK, and the buttons as X counts them: 4 to 7 are the wheel.
_BUTTON_OF = {0x110: 1, 0x111: 3, 0x112: 2, 0x113: 8, 0x114: 9, 0x115: 10, 0x116: 11, 0x117: 12}


def open_display(name: str | None = None) -> Any:
    """A connection to the display.

    Raises:
        OutputError: there is none; the text says what to do.
    """
    from Xlib import display, error
    try:
        return display.Display(name)
    except (error.DisplayError, OSError) as problem:
        where = name or os.environ.get("DISPLAY", "")
        raise OutputError(f"the display {where or '(none is named)'} cannot be reached: {problem}. Start this from a "
                          "terminal of the running X session") from None


class X11Output(Abilities):
    """Keys, buttons and motions by XTEST.  Whoever has the focus gets them."""

    takes = POINTING

    def __init__(self) -> None:
        from Xlib import X
        from Xlib.ext import xtest
        self._fake: Callable[..., None] = xtest.fake_input
        self._x = X
        self._down: dict[int, None] = {}
        self._size = (0, 0)
        self._places = US
        self._display: Any = None
        self._connect()

    def _connect(self) -> None:
        self._display = open_display()
        if not self._display.has_extension("XTEST"):
            raise OutputError("the display has no test extension (XTEST), so nothing can be sent through it. "
                              "Write output = \"uinput\" in desk.toml")
        screen = self._display.screen()
        self._size = (screen.width_in_pixels, screen.height_in_pixels)

    def send(self, effects: list[Effect], now: int) -> None:
        from Xlib.error import ConnectionClosedError
        try:
            if self._display is None:
                self._connect()
            self._send(effects)
        except (ConnectionClosedError, OutputError, OSError) as error:
            # Nothing is down on a display that is gone.
            self._display = None
            self._down.clear()
            raise OutputLost("the display went away" if not isinstance(error, OutputError) else str(error),
                             "Every run was stopped. The next press tries the display again") from None

    def _send(self, effects: list[Effect]) -> None:
        for code, value, _, _ in effects:
            if code >= MOTION.first:
                self._point(code, value)
            else:
                self._key(code, value)
        self._display.flush()

    def _key(self, code: int, value: int) -> None:
        button = _BUTTON_OF.get(code)
        x = self._x
        if button is not None:
            self._fake(self._display, x.ButtonPress if value else x.ButtonRelease, button)
        elif (place := self._places.place(code)) + _OFFSET < 256:
            self._fake(self._display, x.KeyPress if value else x.KeyRelease, place + _OFFSET)
        if value:
            self._down[code] = None
        else:
            self._down.pop(code, None)

    def _point(self, code: int, value: int) -> None:
        x = self._x
        if code in (REL_WHEEL, REL_HWHEEL):
            button = (4 if value > 0 else 5) if code == REL_WHEEL else (7 if value > 0 else 6)
            for _ in range(abs(value)):
                self._fake(self._display, x.ButtonPress, button)
                self._fake(self._display, x.ButtonRelease, button)
        elif code in (ABS_X, ABS_Y, PIXEL_X, PIXEL_Y):
            axis = 0 if code in (ABS_X, PIXEL_X) else 1
            if code in (ABS_X, ABS_Y):
                value = round(value * (self._size[axis] - 1) / FULL)
            at = self._display.screen().root.query_pointer()
            place = [at.root_x, at.root_y]
            place[axis] = min(value, self._size[axis] - 1)
            self._fake(self._display, x.MotionNotify, 0, x=place[0], y=place[1])
        else:
            step = (value, 0) if code == REL_X else (0, value)
            self._fake(self._display, x.MotionNotify, 1, x=step[0], y=step[1])

    def press(self, codes: tuple[int, ...]) -> bool:
        return False

    def use(self, places: Places) -> None:
        self._places = places

    def left_down(self) -> list[int]:
        return list(reversed(self._down))

    def next_deadline(self) -> int | None:
        return None

    def advance(self, now: int) -> None:
        """Nothing waits here."""

    def close(self) -> None:
        with contextlib.suppress(Exception):
            for code in reversed(list(self._down)):
                self._key(code, 0)
            self._display.sync()
            self._display.close()
