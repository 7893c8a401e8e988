"""Devices of the network as inputs: peers of a MIDI session, and senders of OSC (open sound control 1.0)."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from brass_pebble.core.identity import DeviceFacts
from brass_pebble.core.midi_in import FULL_STRENGTH
from brass_pebble.core.signal import OSC, OSC_KEY, address_number, known_address

from .base import KeyEvent
from .message_input import MessageInput

OSC_FULL = 65_535
# From here on a value is a press.
PRESSED = 0.5
# So many addresses can be learnt from one sender.
MOST_ADDRESSES = 1_000


def peer_facts(name: str, host: str) -> DeviceFacts:
    """A peer of a MIDI session as a device; its place is its address."""
    return DeviceFacts(id=f"session/{name}@{host}", name=name, bus="network MIDI", port=host, kind="session")


def sender_facts(host: str) -> DeviceFacts:
    """A sender of OSC as a device."""
    return DeviceFacts(id=f"osc/{host}", name=f"OSC from {host}", bus="OSC", port=host, kind="osc")


class SessionInput(MessageInput):
    """A peer's messages; answers go back through the session."""

    def __init__(self, facts: DeviceFacts, send: Callable[[bytes], None]) -> None:
        super().__init__(facts)
        self._send = send

    def answer(self, message: bytes) -> None:
        self._send(message)


class OscInput(MessageInput):
    """A sender's values: a press where the surface has `osc press /address`, a position where it has `osc /address`."""

    def __init__(self, facts: DeviceFacts) -> None:
        super().__init__(facts)
        self._wanted: frozenset[int] = frozenset()
        self._down: set[int] = set()
        self._learnt: set[str] = set()

    def expect(self, wanted: frozenset[int], *, never_lets_go: bool) -> None:
        self._wanted = wanted

    def take(self, address: str, value: float, at: int) -> None:
        """A value arrived."""
        number = known_address(address)
        if number is None and not self._wanted and len(self._learnt) < MOST_ADDRESSES:
            self._learnt.add(address)
            number = address_number(address)
        if number is not None:
            # The queue carries whole numbers.
            self.arrived((number, round(min(1.0, max(0.0, value)) * OSC_FULL)), at)

    def decode(self, message: Sequence[int], at: int, events: list[KeyEvent]) -> None:
        number, value = message
        if not self._wanted:
            # It is listened to: ones and zeros are presses, all between is a position.
            press = value in (0, OSC_FULL)
            events.append(((OSC_KEY if press else OSC).first + number, value and FULL_STRENGTH, at))
            return
        if OSC.first + number in self._wanted:
            events.append((OSC.first + number, value, at))
        key = OSC_KEY.first + number
        if key in self._wanted:
            down = value >= PRESSED * OSC_FULL
            if down != (key in self._down):
                (self._down.add if down else self._down.discard)(key)
                events.append((key, FULL_STRENGTH if down else 0, at))
