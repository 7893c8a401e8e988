"""Listening to a device without taking it over: what it sends goes on to every other program as before.

Records are `struct input_event` of linux/input.h; codes from linux/input-event-codes.h.  A HID device tells with each
key which usage it was (MSC_SCAN: usage page and usage of the HID Usage Tables).
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import struct
import time
from collections.abc import Sequence
from dataclasses import dataclass

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.signals.signal import AXIS
from brass_pebble.kinds.inputs.base import explain
from brass_pebble.kinds.kernel.node import EV_LED, EVENT, EVIOCSCLOCKID, EventNode

from .base import DeviceGone, Input, InputError

_EV_KEY, _EV_REL, _EV_ABS, _EV_MSC = 1, 2, 3, 4
# EVIOCGABS(0) of linux/input.h
_EVIOCGABS = 0x80184540
# So much of its way an axis has to go to be heard.
PUSHED = 0.3
_MSC_SCAN = 4
# LED_SCROLLL
_SCROLL = 2
# REL_HWHEEL, REL_DIAL and REL_WHEEL; motion is left out, since a mouse in passing is no answer.
TURNS = {6: "wheel sideways", 7: "dial", 8: "wheel"}
# REL_X and REL_Y, for recordings.
MOTIONS = {0: "pointer x", 1: "pointer y"}
_READ = EVENT.size * 64


@dataclass(frozen=True)
class Heard:
    """One thing heard: a key (`value` 1 or 0) or, with `turned`, a step of a dial; `usage` is the HID usage, or 0.

    Of a microphone it is how `loud` it is, in dB, and whether somebody speaks (`value`).
    """

    node: str
    code: int
    value: int
    at: int
    usage: int = 0
    turned: str = ""
    loud: float | None = None


class MessageEars:
    """A MIDI port, a peer or a sender of OSC, heard without being taken over."""

    def __init__(self, source: Input) -> None:
        self.facts = source.facts
        self._source = source
        source.expect(frozenset(), never_lets_go=False)

    def filenos(self) -> Sequence[int]:
        """File descriptors to wait for."""
        return self._source.filenos()

    def read(self, fileno: int) -> list[Heard]:
        """What has arrived.

        Raises:
            DeviceGone: it has left.
        """
        return [Heard("", signal, value, at) for signal, value, at in self._source.read(fileno)]

    def close(self) -> None:
        """Stop listening."""
        self._source.close()


class Ears:
    """All nodes of one device, open for reading only; with `motion`, the way of a pointer is heard, too."""

    def __init__(self, facts: DeviceFacts, *, motion: bool = False) -> None:
        self.facts = facts
        self._turns = TURNS | MOTIONS if motion else TURNS
        self._nodes: dict[int, str] = {}
        self._usages: dict[int, int] = {}
        # Where axes were when they were heard last, and how long their way is.
        self._places: dict[tuple[int, int], tuple[int, int]] = {}
        try:
            for path in facts.nodes:
                fileno = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
                self._nodes[fileno] = path
                fcntl.ioctl(fileno, EVIOCSCLOCKID, struct.pack("i", time.CLOCK_MONOTONIC))
        except OSError as error:
            self.close()
            raise InputError(explain(error, facts)) from None

    def filenos(self) -> Sequence[int]:
        """File descriptors to wait for."""
        return list(self._nodes)

    def read(self, fileno: int) -> list[Heard]:
        """What has arrived.

        Raises:
            DeviceGone: it was pulled out.
        """
        try:
            data = os.read(fileno, _READ)
        except BlockingIOError:
            return []
        except OSError as error:
            raise DeviceGone(str(error)) from None
        heard = []
        node = os.path.basename(self._nodes[fileno])
        for seconds, micros, kind, code, value in EVENT.iter_unpack(data):
            at = seconds * 1_000_000_000 + micros * 1000
            if kind == _EV_MSC and code == _MSC_SCAN:
                self._usages[fileno] = value & 0xFFFFFFFF
            elif kind == _EV_KEY and value in (0, 1):
                heard.append(Heard(node, code, value, at, self._usages.pop(fileno, 0)))
            elif kind == _EV_ABS and self._pushed(fileno, code, value):
                heard.append(Heard(node, AXIS.first + code, value, at))
            elif kind == _EV_REL and code in self._turns:
                heard.append(Heard(node, code, value, at, 0, self._turns[code]))
        return heard

    def _pushed(self, fileno: int, code: int, value: int) -> bool:
        """Whether an axis has gone a good part of its way since it was heard last: one that trembles says nothing."""
        known = self._places.get((fileno, code))
        if known is None:
            low, high = self._ends(fileno, code)
            self._places[fileno, code] = value, max(1, high - low)
            return False
        before, way = known
        if abs(value - before) < way * PUSHED:
            return False
        self._places[fileno, code] = value, way
        return True

    def _ends(self, fileno: int, code: int) -> tuple[int, int]:
        data = bytearray(24)
        with contextlib.suppress(OSError):
            fcntl.ioctl(fileno, _EVIOCGABS + code, data)
        _, low, high, *_ = struct.unpack("6i", data)
        return low, high

    def close(self) -> None:
        """Stop listening.  The kernel may take some milliseconds for it."""
        for fileno in self._nodes:
            with contextlib.suppress(OSError):
                os.close(fileno)
        self._nodes = {}


class Overheard(Ears):
    """A keyboard that is recorded while it goes on typing, with its scroll lamp lit for as long."""

    def __init__(self, facts: DeviceFacts) -> None:
        super().__init__(facts)
        self._lamps: list[tuple[EventNode, bool]] = []
        for path in facts.nodes:
            with contextlib.suppress(OSError):
                node = EventNode(path)
                if _SCROLL in node.has(EV_LED):
                    self._lamps.append((node, _SCROLL in node.lit()))
                    node.write(EV_LED, _SCROLL, 1)
                else:
                    node.close()

    def close(self) -> None:
        for node, lit in self._lamps:
            with contextlib.suppress(OSError):
                node.write(EV_LED, _SCROLL, int(lit))
            node.close()
        self._lamps = []
        super().close()
