"""A virtual game controller of the kernel (uinput): axes that positions and keys set.

Codes are EV_ABS and BTN_SOUTH to BTN_THUMBR of linux/input-event-codes.h.
"""

from __future__ import annotations

import os
from typing import Any

from brass_pebble.core.effects.drive import PAD_AXES, PAD_FULL
from brass_pebble.core.effects.kinds import AXIS, BUTTON
from brass_pebble.core.play.player import Effect
from brass_pebble.kinds.kernel.listing import OWN_PHYS
from brass_pebble.kinds.kernel.node import EVENT
from brass_pebble.kinds.kernel.virtual import make_device

from .base import OutputError

_EV_KEY, _EV_ABS = 1, 3
_SYN = EVENT.pack(0, 0, 0, 0, 0)
# BTN_SOUTH to BTN_THUMBR
_BUTTONS = range(0x130, 0x13F)


class ControllerOutput:
    """The device “Brass Pebble controller”.

    Raises:
        OutputError: it cannot be made.
    """

    def __init__(self) -> None:
        import evdev
        axes: Any = [(code, evdev.AbsInfo(value=0, min=-PAD_FULL if centred else 0, max=PAD_FULL, fuzz=0,
                                          flat=0, resolution=0)) for code, centred in PAD_AXES.values()]
        try:
            self._device = make_device({_EV_KEY: list(_BUTTONS), _EV_ABS: axes}, name="Brass Pebble controller",
                                        phys=f"{OWN_PHYS}controller", bustype=0x06)
        except (OSError, evdev.UInputError) as error:
            raise OutputError(f"the virtual controller cannot be made: {error}") from None

    takes = frozenset((AXIS, BUTTON))

    def send(self, effects: list[Effect], now: int) -> None:
        """Set axes, each as far as its effect's value says; press buttons and let them go."""
        for code, value, *_ in effects:
            kind, number = (_EV_ABS, code - AXIS.first) if code < BUTTON.first else (
                _EV_KEY, _BUTTONS[code - BUTTON.first])
            os.write(self._device.fd, EVENT.pack(0, 0, kind, number, value) + _SYN)

    def close(self) -> None:
        """Take the device away; its axes are at rest then."""
        self._device.close()
