"""A virtual keyboard of the kernel (uinput).

When its descriptor is closed, however that happens, the kernel removes the keyboard and lets go of its keys.
"""

from __future__ import annotations

import errno
import os
import time
from typing import Any

from brass_pebble.core.effects.kinds import MOTION
from brass_pebble.core.effects.pointer import ABSOLUTE, FULL, PIXEL_X, PIXEL_Y, RELATIVE
from brass_pebble.core.play.player import Effect
from brass_pebble.core.signals.key_places import US, Places
from brass_pebble.core.signals.keys import HIGHEST, POINTER_BUTTONS, is_button
from brass_pebble.kinds.kernel.listing import OWN_PHYS
from brass_pebble.kinds.kernel.node import EVENT
from brass_pebble.kinds.kernel.virtual import make_device

from .base import POINTING, Abilities, OutputError

_SYN = EVENT.pack(0, 0, 0, 0, 0)
_EV_KEY, _EV_REL, _EV_ABS = 1, 2, 3
LAST_WORDS = 0.1
# REL_HWHEEL and REL_WHEEL, and what tells their fine steps: REL_HWHEEL_HI_RES and REL_WHEEL_HI_RES, 120 a notch.
FINE_WHEELS = {6: 12, 8: 11}
NOTCH = 120


class RecordOutput(Abilities):
    """Writes effects as input records to a descriptor, each with a report of its own, in one call.

    Effects that belong to another descriptor go there, and their order is kept.
    """

    takes = POINTING

    def __init__(self, fileno: int) -> None:
        self._fileno = fileno
        # For each key or button, down and up: where its record goes, and the record.
        self._records: dict[int, tuple[int, bytes]] = {}
        self._presses: dict[tuple[int, ...], tuple[tuple[int, bytes], ...]] = {}
        self._down: dict[int, None] = {}
        self._places = US

    def use(self, places: Places) -> None:
        self._places = places
        self._records, self._presses = {}, {}

    def node_of(self, code: int) -> int:
        """The descriptor that takes a key or button, by the kernel's code."""
        return self._fileno

    def motion(self, code: int, value: int) -> tuple[int, bytes]:
        """Where a motion of the pointer goes, and its report."""
        raise ValueError(code)

    def send(self, effects: list[Effect], now: int) -> None:
        records, down = self._records, self._down
        parts: list[bytes] = []
        fileno = self._fileno
        for code, value, _, _ in effects:
            if code < MOTION.first:
                to, record = records.get(code << 1 | (value > 0)) or self._record(code, value)
                if value:
                    down[code] = None
                else:
                    down.pop(code, None)
            else:
                to, record = self.motion(code, value)
            if to != fileno:
                # What was written before goes first: Ctrl is down before the click.
                if parts:
                    os.write(fileno, b"".join(parts))
                    parts = []
                fileno = to
            parts.append(record)
        if parts:
            os.write(fileno, b"".join(parts))

    def _record(self, code: int, value: int) -> tuple[int, bytes]:
        place = self._places.place(code)
        entry = self.node_of(place), EVENT.pack(0, 0, _EV_KEY, place, int(value > 0)) + _SYN
        self._records[code << 1 | (value > 0)] = entry
        return entry

    def press(self, codes: tuple[int, ...]) -> bool:
        writes = self._presses.get(codes)
        if writes is None:
            writes = self._presses[codes] = self._joined(codes)
        for fileno, record in writes:
            os.write(fileno, record)
        self._down.update(dict.fromkeys(codes))
        return True

    def _joined(self, codes: tuple[int, ...]) -> tuple[tuple[int, bytes], ...]:
        """What is written to press keys: one write for those that follow one another on one node."""
        writes: list[tuple[int, bytes]] = []
        for code in codes:
            to, record = self._record(code, 1)
            if writes and writes[-1][0] == to:
                writes[-1] = to, writes[-1][1] + record
            else:
                writes.append((to, record))
        return tuple(writes)

    def left_down(self) -> list[int]:
        return list(reversed(self._down))

    def next_deadline(self) -> int | None:
        return None

    def advance(self, now: int) -> None:
        """Nothing waits here."""

    def close(self) -> None:
        """The descriptor belongs to whoever opened it."""


class UinputOutput(RecordOutput):
    """The virtual keyboard “Brass Pebble keys”, and a virtual pointer beside it.

    Together they declare every code that can be sent.  `screen` is the size of the screen in pixels, for places that
    are told in pixels.
    """

    def __init__(self, screen: tuple[int, int] = (1920, 1080)) -> None:
        import evdev
        # Buttons of pointers and game controllers would make the desktop take it for one of those.
        codes = [code for code in range(1, HIGHEST + 1) if not is_button(code)]
        buttons = list(POINTER_BUTTONS)
        self._screen = screen
        try:
            self._device = make_device({_EV_KEY: codes}, name="Brass Pebble keys", phys=f"{OWN_PHYS}keys",
                                        bustype=0x06)
            edge = evdev.AbsInfo(value=0, min=0, max=FULL, fuzz=0, flat=0, resolution=0)
            self._mouse = make_device({_EV_KEY: buttons, _EV_REL: [0, 1, 6, 8, *FINE_WHEELS.values()]},
                                       name="Brass Pebble pointer", phys=f"{OWN_PHYS}pointer", bustype=0x06)
            # Places and motions on one device would make the desktop take it for a drawing board.
            axes: Any = [(0, edge), (1, edge)]
            self._board = make_device({_EV_KEY: buttons[:3], _EV_ABS: axes},
                                       name="Brass Pebble places", phys=f"{OWN_PHYS}places", bustype=0x06)
        except (OSError, evdev.UInputError) as error:
            raise OutputError(_explain(error)) from None
        super().__init__(self._device.fd)

    def node_of(self, code: int) -> int:
        return int(self._mouse.fd if code in POINTER_BUTTONS else self._device.fd)

    def motion(self, code: int, value: int) -> tuple[int, bytes]:
        if code < ABSOLUTE:
            axis = code - RELATIVE
            report = EVENT.pack(0, 0, _EV_REL, axis, value)
            if axis in FINE_WHEELS:
                # A device that has fine steps tells each notch in both.
                report += EVENT.pack(0, 0, _EV_REL, FINE_WHEELS[axis], value * NOTCH)
            return self._mouse.fd, report + _SYN
        axis = (code - ABSOLUTE) & 0xFF
        if code in (PIXEL_X, PIXEL_Y):
            value = min(FULL, round(value * FULL / max(1, self._screen[axis] - 1)))
        return self._board.fd, EVENT.pack(0, 0, _EV_ABS, axis, value) + _SYN

    def close(self) -> None:
        # Events that a program has not read yet are lost to it when the device vanishes: leave time to read.
        time.sleep(LAST_WORDS)
        for device in (self._device, self._mouse, self._board):
            device.close()


def _explain(error: Exception) -> str:
    if not os.path.exists("/dev/uinput"):
        return "the kernel's virtual keyboard is missing (/dev/uinput). Load it with: sudo modprobe uinput"
    if getattr(error, "errno", None) in (errno.EACCES, errno.EPERM) or not os.access("/dev/uinput", os.W_OK):
        return ("/dev/uinput may not be written by you. Allow it with: "
                "sudo brass-pebble setup --apply, then log in again")
    return f"the virtual keyboard cannot be made: {error}"
