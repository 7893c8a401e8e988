"""Sends effects to the programs of an X display, through its test extension (XTEST)."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import socket
import struct
import termios
import threading
import time
from array import array
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
# A display answers a greeting within this, in s; one that went away is looked for this often.
ANSWERS_WITHIN, LOOK_EVERY = 2.0, 0.5
# And takes what it is to be told at the end within this, in s.
LEAVES_WITHIN = 0.5
# What a display has not read may come to this, in bytes as the kernel counts them (each word some hundred): half of
# what a connection takes before one waits.
MOST_UNREAD = 120_000
# BTN_LEFT to BTN_TASK, and the buttons as X counts them: 4 to 7 are the wheel.
_BUTTON_OF = {0x110: 1, 0x111: 3, 0x112: 2, 0x113: 8, 0x114: 9, 0x115: 10, 0x116: 11, 0x117: 12}


def open_display(name: str | None = None) -> Any:
    """A connection to the display.

    Raises:
        OutputError: there is none; the text says what to do.
    """
    from Xlib import display, error
    try:
        see_whether_it_answers(name)
        return display.Display(name)
    except (error.DisplayError, OSError) as problem:
        where = name or os.environ.get("DISPLAY", "")
        raise OutputError(f"the display {where or '(none is named)'} cannot be reached: {problem}. Start this from a "
                          "terminal of the running X session") from None


def see_whether_it_answers(name: str | None = None) -> None:
    """The library waits for ever for a display that hangs: so it is greeted by hand first (X11 protocol, connection
    setup).

    Raises:
        OSError: it does not answer in time, or is not there.
    """
    from Xlib.support import connect
    name, protocol, host, number, _ = connect.get_display(name)
    with connect.get_socket(name, protocol, host, number) as link:
        link.settimeout(ANSWERS_WITHIN)
        scheme, cookie = b"", b""
        with contextlib.suppress(Exception):
            scheme, cookie = connect.get_auth(link, name, protocol, host, number)
        head = struct.pack("<BxHHHHxx", ord("l"), 11, 0, len(scheme), len(cookie))
        link.sendall(head + _padded(scheme) + _padded(cookie))
        if not link.recv(1):
            raise OSError(errno.ECONNRESET, "it ended the connection")


def _padded(data: bytes) -> bytes:
    return data + b"\0" * (-len(data) % 4)


def abandon(display: Any) -> None:
    """Leave a display without a word: whoever waits for it waits no longer.  May be called on any thread."""
    with contextlib.suppress(OSError, AttributeError):
        display.display.socket.shutdown(socket.SHUT_RDWR)


def hangs(display: Any) -> bool:
    """Whether a display has not read what was sent to it for a while: then the next word might wait for it."""
    with contextlib.suppress(OSError):
        unread = array("i", [0])
        fcntl.ioctl(display.fileno(), termios.TIOCOUTQ, unread)
        return unread[0] > MOST_UNREAD
    return False


class X11Output(Abilities):
    """Keys, buttons and motions by XTEST.  Whoever has the focus gets them.

    Nothing of it waits for the display, which may hang: a word is only said while the earlier ones were read, and a
    display that went away is looked for on a thread.
    """

    takes = POINTING

    def __init__(self) -> None:
        from Xlib import X
        from Xlib.ext import xtest
        self._fake: Callable[..., None] = xtest.fake_input
        self._x = X
        self._down: dict[int, None] = {}
        self._size = (0, 0)
        self._places = US
        # Half of a place of the pointer that is told in two effects.
        self._across: int | None = None
        self._display: Any = self._connect()
        self._looking: threading.Thread | None = None
        self._closed = False

    def _connect(self) -> Any:
        display = open_display()
        if not display.has_extension("XTEST"):
            raise OutputError("the display has no test extension (XTEST), so nothing can be sent through it. "
                              "Write output = \"uinput\" in desk.toml")
        screen = display.screen()
        self._size = (screen.width_in_pixels, screen.height_in_pixels)
        return display

    def _look_for_it(self) -> None:
        """The display is looked for on a thread, until it is there."""
        def look() -> None:
            while not self._closed and self._display is None:
                with contextlib.suppress(OutputError, OSError):
                    self._display = self._connect()
                    return
                time.sleep(LOOK_EVERY)
        if self._looking is None or not self._looking.is_alive():
            self._looking = threading.Thread(target=look, name="display", daemon=True)
            self._looking.start()

    def send(self, effects: list[Effect], now: int) -> None:
        from Xlib.error import ConnectionClosedError
        try:
            if self._display is None:
                raise OSError(errno.ENOTCONN, "the display is not there")
            if hangs(self._display):
                abandon(self._display)
                raise OSError(errno.ETIMEDOUT, "the display does not answer")
            self._send(effects)
        except (ConnectionClosedError, OSError) as error:
            # Nothing is down on a display that is gone.
            self._display = None
            self._down.clear()
            self._look_for_it()
            raise OutputLost(error.strerror if isinstance(error, OSError) and error.strerror else
                             "the display went away",
                             "Every run was stopped. It is looked for; press again when it is back") from None

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
            value = min(value, self._size[axis] - 1)
            # A place comes as two effects, across and then down: asking where the pointer is would wait for an answer.
            if axis == 0:
                self._across = value
            else:
                self._fake(self._display, x.MotionNotify, 0, x=self._across or 0, y=value)
                self._across = None
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
        self._closed = True
        if self._display is None:
            return
        display = self._display

        def leave() -> None:
            with contextlib.suppress(Exception):
                for code in reversed(list(self._down)):
                    self._key(code, 0)
                # A display forgets what it has not read of somebody who is gone.
                display.sync()
                display.close()
        # On a thread that may be left behind: a display that hangs keeps nobody from leaving.
        leaving = threading.Thread(target=leave, name="display", daemon=True)
        leaving.start()
        leaving.join(LEAVES_WITHIN)
        if leaving.is_alive():
            abandon(display)
