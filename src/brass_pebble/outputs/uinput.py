"""A virtual keyboard of the kernel (uinput).

When its descriptor is closed, however that happens, the kernel removes the keyboard and lets go of its keys.
"""

from __future__ import annotations

import errno
import os
import time
from typing import Any

from brass_pebble.core.keys import key_table
from brass_pebble.core.player import Effect
from brass_pebble.core.pointer import ABSOLUTE, BUTTONS, FULL, PIXEL_X, PIXEL_Y, POINTER, RELATIVE
from brass_pebble.inputs.evdev_input import EVENT
from brass_pebble.inputs.listing import OWN_PHYS

from .base import OutputError

_SYN = EVENT.pack(0, 0, 0, 0, 0)
_EV_KEY, _EV_REL, _EV_ABS = 1, 2, 3
FIRST_BUTTON = 0x110
LAST_WORDS = 0.1


class RecordOutput:
    """Writes effects as input records to a descriptor, each with a report of its own, in one call."""

    def __init__(self, fileno: int) -> None:
        self._fileno = fileno
        self._records: dict[int, bytes] = {}
        self._presses: dict[tuple[int, ...], bytes] = {}

    def send(self, effects: list[Effect], now: int) -> None:
        records = self._records
        parts = []
        for code, value, _, _ in effects:
            key = code << 1 | value
            record = records.get(key)
            if record is None:
                record = records[key] = EVENT.pack(0, 0, _EV_KEY, code, value) + _SYN
            parts.append(record)
        os.write(self._fileno, b"".join(parts))

    def press(self, codes: tuple[int, ...]) -> bool:
        record = self._presses.get(codes)
        if record is None:
            record = b"".join(EVENT.pack(0, 0, _EV_KEY, code, 1) + _SYN for code in codes)
            self._presses[codes] = record
        os.write(self._fileno, record)
        return True

    def next_deadline(self) -> int | None:
        return None

    def advance(self, now: int) -> None:
        """Nothing waits here."""

    def close(self) -> None:
        """The descriptor belongs to whoever opened it."""


class UinputOutput(RecordOutput):
    """The virtual keyboard “Brass Pebble keys”, and a virtual pointer beside it.

    `screen` is the size of the screen in pixels, for places that are told in pixels.
    """

    def __init__(self, screen: tuple[int, int] = (1920, 1080)) -> None:
        import evdev
        # Buttons of pointers and game controllers would make the desktop take it for one of those.
        codes = [key.code for key in key_table().by_code.values() if not key.button]
        self._screen = screen
        try:
            self._device = evdev.UInput({_EV_KEY: codes}, name="Brass Pebble keys", phys=f"{OWN_PHYS}keys",
                                        bustype=0x06)
            edge = evdev.AbsInfo(value=0, min=0, max=FULL, fuzz=0, flat=0, resolution=0)
            self._mouse = evdev.UInput({_EV_KEY: list(BUTTONS.values()), _EV_REL: [0, 1, 6, 8]},
                                       name="Brass Pebble pointer", phys=f"{OWN_PHYS}pointer", bustype=0x06)
            # Places and motions on one device would make the desktop take it for a drawing board.
            axes: Any = [(0, edge), (1, edge)]
            self._places = evdev.UInput({_EV_KEY: list(BUTTONS.values()), _EV_ABS: axes},
                                        name="Brass Pebble places", phys=f"{OWN_PHYS}places", bustype=0x06)
        except (OSError, evdev.UInputError) as error:
            raise OutputError(_explain(error)) from None
        super().__init__(self._device.fd)

    def send(self, effects: list[Effect], now: int) -> None:
        if all(code < FIRST_BUTTON for code, _, _, _ in effects):
            super().send(effects, now)
            return
        keys: list[Effect] = []
        for effect in effects:
            code, value, _, _ = effect
            if code < FIRST_BUTTON or FIRST_BUTTON + 0x10 <= code < POINTER:
                keys.append(effect)
                continue
            # What was written before goes first: Ctrl is down before the click.
            if keys:
                super().send(keys, now)
                keys = []
            self._point(code, value)
        if keys:
            super().send(keys, now)

    def _point(self, code: int, value: int) -> None:
        if code < POINTER:
            os.write(self._mouse.fd, EVENT.pack(0, 0, _EV_KEY, code, value) + _SYN)
        elif code < ABSOLUTE:
            os.write(self._mouse.fd, EVENT.pack(0, 0, _EV_REL, code - RELATIVE, value) + _SYN)
        else:
            axis = (code - ABSOLUTE) & 0xFF
            if code in (PIXEL_X, PIXEL_Y):
                value = min(FULL, round(value * FULL / max(1, self._screen[axis] - 1)))
            os.write(self._places.fd, EVENT.pack(0, 0, _EV_ABS, axis, value) + _SYN)

    def close(self) -> None:
        # Events that a program has not read yet are lost to it when the device vanishes: leave time to read.
        time.sleep(LAST_WORDS)
        for device in (self._device, self._mouse, self._places):
            device.close()


def _explain(error: Exception) -> str:
    if not os.path.exists("/dev/uinput"):
        return "the kernel's virtual keyboard is missing (/dev/uinput). Load it with: sudo modprobe uinput"
    if getattr(error, "errno", None) in (errno.EACCES, errno.EPERM) or not os.access("/dev/uinput", os.W_OK):
        return ("/dev/uinput may not be written by you. Allow it with: "
                "sudo brass-pebble setup --apply, then log in again")
    return f"the virtual keyboard cannot be made: {error}"
