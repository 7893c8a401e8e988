"""Devices of the network as inputs: peers of a MIDI session, and senders of OSC (open sound control 1.0)."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.parts import Shares
from brass_pebble.core.signals.midi_in import FULL_STRENGTH
from brass_pebble.core.signals.signal import OSC, OSC_KEY, osc_signal

from .base import Input, KeyEvent
from .kind import Ear, InputKind
from .listening import MessageEars
from .messages import MessageInput

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

    def light(self, message: bytes) -> None:
        self._send(message)


class OscInput(MessageInput):
    """A sender's values: a press where the surface has `osc press /address`, a position where it has `osc /address`."""

    def __init__(self, facts: DeviceFacts) -> None:
        super().__init__(facts)
        self._wanted: frozenset[int] = frozenset()
        self._down: set[int] = set()
        # What each address is heard as; of a stranger only so many are learnt.
        self._known: dict[str, tuple[int, int]] = {}

    def expect(self, wanted: frozenset[int], *, never_lets_go: bool) -> None:
        self._wanted = wanted
        self._known = {}

    def take(self, address: str, value: float, at: int) -> None:
        """A value arrived."""
        signals = self._known.get(address)
        if signals is None:
            signals = osc_signal(OSC_KEY, address), osc_signal(OSC, address)
            if len(self._known) >= MOST_ADDRESSES or (self._wanted and not self._wanted.intersection(signals)):
                return
            self._known[address] = signals
        # The queue carries whole numbers.
        self.arrived((*signals, round(min(1.0, max(0.0, value)) * OSC_FULL)), at)

    def decode(self, message: Sequence[int], at: int, events: list[KeyEvent]) -> None:
        key, moving, value = message
        if not self._wanted:
            # It is listened to: ones and zeros are presses, all between is a position.
            press = value in (0, OSC_FULL)
            events.append((key if press else moving, value and FULL_STRENGTH, at))
            return
        if moving in self._wanted:
            events.append((moving, value, at))
        if key in self._wanted:
            down = value >= PRESSED * OSC_FULL
            if down != (key in self._down):
                (self._down.add if down else self._down.discard)(key)
                events.append((key, FULL_STRENGTH if down else 0, at))


class Connected(Protocol):
    """Who is connected over the network."""

    def peers(self) -> list[DeviceFacts]:
        """Those of a MIDI session."""

    def senders(self) -> list[DeviceFacts]:
        """Those who send OSC, and were let in."""

    def open_peer(self, facts: DeviceFacts) -> Input:
        """Hear one of the session.  Raises: InputError."""

    def open_sender(self, facts: DeviceFacts) -> Input:
        """Hear one who sends OSC."""


class SessionKind(InputKind):
    """Peers of a MIDI session."""

    name = "session"
    plays_notes = True
    of_machine = False
    has_twins = False
    by_messages = True

    def __init__(self, network: Connected) -> None:
        self._network = network

    def present(self) -> list[DeviceFacts]:
        return self._network.peers()

    def open(self, facts: DeviceFacts, parts: Sequence[DeviceFacts], shares: Shares | None) -> Input:
        return self._network.open_peer(facts)

    def listen(self, facts: DeviceFacts, *, motion: bool) -> Ear | None:
        return MessageEars(self.open(facts, (), None))


class OscKind(SessionKind):
    """Senders of OSC."""

    name = "osc"
    plays_notes = False

    def present(self) -> list[DeviceFacts]:
        return self._network.senders()

    def open(self, facts: DeviceFacts, parts: Sequence[DeviceFacts], shares: Shares | None) -> Input:
        return self._network.open_sender(facts)
