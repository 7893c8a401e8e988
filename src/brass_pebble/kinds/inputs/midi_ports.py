"""MIDI ports of the system, through the ALSA sequencer.

Names are those of the sequencer: client, port, and behind them numbers that change from start to start and are left
out.  What comes and goes is told by the sequencer's own announcements, without looking again and again.
"""

from __future__ import annotations

import time
from collections.abc import Sequence

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.parts import Shares
from brass_pebble.kinds.kernel import sequencer

from .base import DeviceGone, Input, InputError, KeyEvent
from .kind import Ear, InputKind, Watch
from .listening import MessageEars
from .messages import MessageInput

# The sequencer's own loop: what is sent to it comes back.
_LOOP = "Midi Through"


def list_ports() -> list[DeviceFacts]:
    """The ports that can be read, each a device; those of twins are told apart by their order."""
    if not sequencer.is_here():
        return []
    seen: dict[tuple[str, str], int] = {}
    found = []
    for full in sequencer.list_names(readable=True):
        client, port, _ = sequencer.split_name(full)
        if client.startswith(sequencer.CLIENT) or client == _LOOP:
            continue
        place = seen[client, port] = seen.get((client, port), 0) + 1
        where = f"{port or client} #{place}"
        found.append(DeviceFacts(id=f"midi/{client}/{where}", name=client, bus="MIDI", port=where,
                                 nodes=(full,), kind="midi"))
    return found


def open_output(name: str) -> sequencer.OutPort:
    """An output port whose client or port is called `name` (in any case), or the full name of an input's twin.

    Raises:
        InputError: there is none; the text names those there are.
    """
    if not sequencer.is_here():
        raise InputError("this machine has no MIDI ports (/dev/snd/seq is missing)")
    try:
        return sequencer.OutPort(name)
    except sequencer.PortError as error:
        raise InputError(str(error)) from None


class MidiInput(MessageInput):
    """One MIDI port.  Its messages lie at a descriptor of their own.

    Raises:
        InputError: it cannot be opened.
    """

    def __init__(self, facts: DeviceFacts) -> None:
        super().__init__(facts)
        self._out: sequencer.OutPort | None = None
        self._has_out = True
        try:
            self._port: sequencer.InPort | None = sequencer.InPort(facts.nodes[0], facts.port)
        except sequencer.PortError as error:
            self._port = None
            self.close()
            raise InputError(f"“{facts.shown}” was pulled out while it was being opened ({error})") from None

    def filenos(self) -> Sequence[int]:
        return [*super().filenos(), *([self._port.fileno] if self._port is not None else ())]

    def read(self, fileno: int) -> Sequence[KeyEvent]:
        port = self._port
        if port is None or fileno != port.fileno:
            return super().read(fileno)
        at = time.monotonic_ns()
        events: list[KeyEvent] = []
        try:
            for message in port.read():
                self.decode(message, at, events)
        except sequencer.PortError as error:
            raise DeviceGone(str(error)) from None
        self.lost += port.take_lost()
        return events

    def light(self, message: bytes) -> None:
        """Send something back, to the port of the same name; devices that only send do not hear it."""
        if self._out is None and self._has_out:
            try:
                self._out = open_output(self.facts.nodes[0])
            except InputError:
                self._has_out = False
        if self._out is not None:
            self._out.send_message(message)

    def close(self) -> None:
        for port in (self._port, self._out):
            if port is not None:
                port.close()
        self._port = self._out = None
        super().close()


class MidiKind(InputKind):
    """MIDI ports of the system."""

    name = "midi"
    plays_notes = True
    by_messages = True
    goes_silently = True

    def present(self) -> list[DeviceFacts]:
        return list_ports() if sequencer.is_here() else []

    def open(self, facts: DeviceFacts, parts: Sequence[DeviceFacts], shares: Shares | None) -> Input:
        return MidiInput(facts)

    def listen(self, facts: DeviceFacts, *, motion: bool) -> Ear | None:
        return MessageEars(MidiInput(facts))

    def watches(self) -> list[Watch]:
        return [sequencer.Announcements()] if sequencer.is_here() else []
