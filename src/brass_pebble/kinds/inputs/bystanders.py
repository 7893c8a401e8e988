"""Keyboards that are no surfaces: which of their modifiers are down, and whether Caps Lock is on.

The kernel is asked for their state (EVIOCGKEY and EVIOCGLED of linux/input.h); no event of theirs is ever read.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
from collections.abc import Iterable
from glob import glob

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.signals.keys import modifier_codes

_KEYS, _LAMPS = 96, 8
_NOTHING_DOWN = bytes(_KEYS)
# _IOR('E', 0x18 or 0x19, length)
_EVIOCGKEY = 0x80004518 | _KEYS << 16
_EVIOCGLED = 0x80004519 | _LAMPS << 16
_CAPS = 1
_LAMP_FILES = "/sys/class/leds/*::capslock/brightness"


class Bystanders:
    """Open for asking only, and closed again when they become surfaces or go."""

    def __init__(self) -> None:
        self._open: dict[str, int] = {}
        self._modifiers = sorted(modifier_codes())
        # Asked for at every press: the same room is used again and again.
        self._state = bytearray(_KEYS)

    def follow(self, keyboards: Iterable[DeviceFacts]) -> None:
        """These are the keyboards now."""
        wanted = {node for facts in keyboards if facts.full and facts.readable for node in facts.nodes}
        for node in self._open.keys() - wanted:
            os.close(self._open.pop(node))
        for node in wanted - self._open.keys():
            with contextlib.suppress(OSError):
                self._open[node] = os.open(node, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)

    def nodes(self) -> list[str]:
        """The nodes that are open."""
        return list(self._open)

    def modifiers(self) -> tuple[int, ...]:
        """The modifiers that are down."""
        found: tuple[int, ...] = ()
        state = self._state
        for fileno in self._open.values():
            try:
                fcntl.ioctl(fileno, _EVIOCGKEY, state)
            except OSError:
                continue
            if state != _NOTHING_DOWN:
                found += tuple(code for code in self._modifiers if state[code >> 3] >> (code & 7) & 1)
        return found

    def caps_lock(self) -> bool:
        """Whether a keyboard shows that Caps Lock is on."""
        for fileno in self._open.values():
            state = bytearray(_LAMPS)
            with contextlib.suppress(OSError):
                fcntl.ioctl(fileno, _EVIOCGLED, state)
                if state[0] >> _CAPS & 1:
                    return True
        if not self._open:
            # A keyboard that may not be opened still shows its lamps to everybody.
            for lamp in glob(_LAMP_FILES):
                with contextlib.suppress(OSError, ValueError), open(lamp, encoding="ascii") as file:
                    if int(file.read()):
                        return True
        return False

    def close(self) -> None:
        """Leave them alone."""
        for fileno in self._open.values():
            os.close(fileno)
        self._open = {}
