"""A virtual keyboard of the kernel (uinput).

When its descriptor is closed, however that happens, the kernel removes the keyboard and lets go of its keys.
"""

from __future__ import annotations

import errno
import os
import time

from brass_pebble.core.keys import key_table
from brass_pebble.core.player import Effect
from brass_pebble.inputs.evdev_input import EVENT
from brass_pebble.inputs.listing import OWN_PHYS

from .base import OutputError

_SYN = EVENT.pack(0, 0, 0, 0, 0)
_EV_KEY = 1
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
    """The virtual keyboard “Brass Pebble keys”."""

    def __init__(self) -> None:
        import evdev
        # Buttons of pointers and game controllers would make the desktop take it for one of those.
        codes = [key.code for key in key_table().by_code.values() if not key.button]
        try:
            self._device = evdev.UInput({_EV_KEY: codes}, name="Brass Pebble keys", phys=f"{OWN_PHYS}keys",
                                        bustype=0x06)
        except (OSError, evdev.UInputError) as error:
            raise OutputError(_explain(error)) from None
        super().__init__(self._device.fd)

    def close(self) -> None:
        # Events that a program has not read yet are lost to it when the device vanishes: leave time to read.
        time.sleep(LAST_WORDS)
        self._device.close()


def _explain(error: Exception) -> str:
    if not os.path.exists("/dev/uinput"):
        return "the kernel's virtual keyboard is missing (/dev/uinput). Load it with: sudo modprobe uinput"
    if getattr(error, "errno", None) in (errno.EACCES, errno.EPERM) or not os.access("/dev/uinput", os.W_OK):
        return ("/dev/uinput may not be written by you. Allow it with: "
                "sudo brass-pebble setup --apply, then log in again")
    return f"the virtual keyboard cannot be made: {error}"
