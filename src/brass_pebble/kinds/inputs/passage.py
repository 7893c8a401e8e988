"""A virtual twin of an event node: what is not wanted of a device passes through it exactly as it came.

The twin has the same name and ids, so that a desktop treats it as the device itself (acceleration, wheel, buttons), and
whole reports are handed on in one write.  When it is closed, however that happens, the kernel lets go of its keys.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import Any

from brass_pebble.kinds.kernel.listing import OWN_PHYS
from brass_pebble.kinds.kernel.node import (
    EV_ABS,
    EV_KEY,
    EV_MSC,
    EV_REL,
    EV_SYN,
    EVENT,
    SYN_REPORT,
    EventNode,
    readable,
)
from brass_pebble.kinds.kernel.virtual import make_device

from .base import InputError

REPORT = EVENT.pack(0, 0, EV_SYN, SYN_REPORT, 0)
# UINPUT_MAX_NAME_SIZE of linux/uinput.h, without the byte that ends it.
_LONGEST_NAME = 79


class Passage:
    """The twin of one node.  `down` are the keys that went down through it and are not up again.

    Raises:
        InputError: no virtual device can be made.
    """

    def __init__(self, node: EventNode) -> None:
        import evdev
        bus, vendor, product, version = node.ids()
        events: dict[int, Any] = {
            kind: [*sorted(codes)] for kind in (EV_KEY, EV_REL, EV_MSC) if (codes := node.has(kind))}
        if axes := node.has(EV_ABS):
            events[EV_ABS] = [(code, evdev.AbsInfo(*node.axis(code))) for code in sorted(axes)]
        name = readable(node.name).encode()[:_LONGEST_NAME].decode(errors="ignore")
        try:
            self._twin = make_device(events, name=name or "Brass Pebble passage", vendor=vendor, product=product,
                                      version=version, bustype=bus, phys=f"{OWN_PHYS}passage",
                                      input_props=sorted(node.properties()))
        except (OSError, evdev.UInputError) as error:
            raise InputError(f"the rest of “{name}” could not be passed on, since no virtual device can be made "
                             f"({error}), so it is not taken over. brass-pebble checkup says how to allow it"
                             ) from None
        self.fileno: int = self._twin.fd
        self.down: set[int] = set()

    def write(self, records: bytes) -> None:
        """Hand on records as they came; a report may come in parts."""
        os.write(self.fileno, records)

    def tell(self, events: Iterable[tuple[int, int, int]]) -> None:
        """Send events (kind, code, value) as one report, and remember what is down."""
        parts = []
        for kind, code, value in events:
            parts.append(EVENT.pack(0, 0, kind, code, value))
            if kind == EV_KEY:
                (self.down.add if value else self.down.discard)(code)
        if parts:
            os.write(self.fileno, b"".join([*parts, REPORT]))

    def let_go(self) -> None:
        """Let go of everything that is down."""
        self.tell([(EV_KEY, code, 0) for code in sorted(self.down)])

    def close(self) -> None:
        """Remove the twin."""
        self._twin.close()
