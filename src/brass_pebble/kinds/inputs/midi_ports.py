"""MIDI ports of the system, through the ALSA sequencer (python-rtmidi).

Names are those of the sequencer: client, port, and behind them numbers that change from start to start and are left
out.  What comes and goes is told by the sequencer's own announcements (snd_seq of uapi/sound/asequencer.h), without
looking again and again.
"""

from __future__ import annotations

import contextlib
import ctypes
import fcntl
import os
import re
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.parts import Shares

from .base import Input, InputError
from .kind import Ear, InputKind, Watch
from .listening import MessageEars
from .messages import MessageInput

SEQUENCER = Path("/dev/snd/seq")
CLIENT = "Brass Pebble"
_NUMBERS = re.compile(r" (\d+):(\d+)$")
# The sequencer's own loop: what is sent to it comes back.
_LOOP = "Midi Through"


def has_sequencer() -> bool:
    """Whether this machine has MIDI ports at all."""
    return SEQUENCER.exists() and os.access(SEQUENCER, os.R_OK | os.W_OK)


def split_name(full: str) -> tuple[str, str, str]:
    """Client, port and address of a port's full name: `Kiln:Kiln MIDI 1 20:0`."""
    match = _NUMBERS.search(full)
    address = f"{match[1]}:{match[2]}" if match else ""
    client, _, port = (full[:match.start()] if match else full).partition(":")
    return client, port, address


def list_ports() -> list[DeviceFacts]:
    """The ports that can be read, each a device; those of twins are told apart by their order."""
    if not has_sequencer():
        return []
    import rtmidi
    listing = rtmidi.MidiIn(rtmidi.API_LINUX_ALSA, CLIENT)
    try:
        names = listing.get_ports()
    finally:
        listing.delete()
    seen: dict[tuple[str, str], int] = {}
    found = []
    for full in names:
        client, port, _ = split_name(full)
        if client.startswith(CLIENT) or client == _LOOP or client.startswith("RtMidi"):
            continue
        place = seen[client, port] = seen.get((client, port), 0) + 1
        where = f"{port or client} #{place}"
        found.append(DeviceFacts(id=f"midi/{client}/{where}", name=client, bus="MIDI", port=where,
                                 nodes=(full,), kind="midi"))
    return found


def open_output(name: str) -> Any:
    """An output port whose client or port is called `name` (in any case), or the full name of an input's twin.

    Raises:
        InputError: there is none; the text names those there are.
    """
    if not has_sequencer():
        raise InputError("this machine has no MIDI ports (/dev/snd/seq is missing)")
    import rtmidi
    port = rtmidi.MidiOut(rtmidi.API_LINUX_ALSA, CLIENT)
    names = port.get_ports()
    wanted = name.casefold()
    for index, full in enumerate(names):
        client, own, _ = split_name(full)
        if client.startswith(CLIENT):
            continue
        if full == name or wanted in (client.casefold(), own.casefold(), f"{client}:{own}".casefold()):
            port.open_port(index, "to " + (own or client))
            return port
    port.delete()
    known = ", ".join(f"“{split_name(full)[0]}”" for full in names if not full.startswith(CLIENT))
    raise InputError(f"there is no MIDI port called “{name}”" + (f"; there are {known}" if known else ""))


class MidiInput(MessageInput):
    """One MIDI port.  Messages arrive on a thread of the library, which only notes them down and wakes the loop.

    Raises:
        InputError: it cannot be opened.
    """

    def __init__(self, facts: DeviceFacts) -> None:
        import rtmidi
        super().__init__(facts)
        self._out: Any = None
        self._port = rtmidi.MidiIn(rtmidi.API_LINUX_ALSA, CLIENT, queue_size_limit=1024)
        try:
            self._port.open_port(self._port.get_ports().index(facts.nodes[0]), "from " + facts.port)
        except (ValueError, rtmidi.RtMidiError) as error:
            self.close()
            raise InputError(f"“{facts.shown}” was pulled out while it was being opened ({error})") from None
        self._port.set_callback(self._called)

    def _called(self, message: tuple[list[int], float], data: object) -> None:
        self.arrived(message[0], time.monotonic_ns())

    def light(self, message: bytes) -> None:
        """Send something back, to the port of the same name; devices that only send do not hear it."""
        if self._out is None:
            try:
                self._out = open_output(self.facts.nodes[0])
            except InputError:
                self._out = False
        if self._out:
            self._out.send_message(message)

    def close(self) -> None:
        if self._port is not None:
            self._port.cancel_callback()
            self._port.close_port()
            self._port.delete()
            self._port = None
        if self._out:
            self._out.close_port()
            self._out.delete()
            self._out = None
        super().close()


# Announcements.  Layouts of uapi/sound/asequencer.h: snd_seq_port_info, snd_seq_port_subscribe; ioctls of type 'S'.
_CLIENT_ID = 0x80045301
_CREATE_PORT = 0xC0A85320
_SUBSCRIBE_PORT = 0x40505330
_PORT_INFO, _SUBSCRIBE = 168, 80
_WRITE, _SUBS_WRITE = 1 << 1, 1 << 6
_ANNOUNCE = (0, 1)
_EVENT = 28
# PORT_START, PORT_EXIT and PORT_CHANGE.  Clients that come and go tell nothing, and listing ports is one of them.
_CHANGES = frozenset((63, 64, 65))


class Announcements:
    """Tells when MIDI ports come or go: a descriptor that is ready then.

    Raises:
        OSError: there is no sequencer.
    """

    def __init__(self) -> None:
        self.fileno = os.open(SEQUENCER, os.O_RDWR | os.O_NONBLOCK | os.O_CLOEXEC)
        try:
            own = ctypes.c_int()
            fcntl.ioctl(self.fileno, _CLIENT_ID, own)
            port = bytearray(_PORT_INFO)
            port[0] = own.value
            port[2:2 + len(b"watch")] = b"watch"
            port[68:72] = (_WRITE | _SUBS_WRITE).to_bytes(4, "little")
            fcntl.ioctl(self.fileno, _CREATE_PORT, port)
            link = bytearray(_SUBSCRIBE)
            link[0], link[1], link[2], link[3] = *_ANNOUNCE, own.value, port[1]
            fcntl.ioctl(self.fileno, _SUBSCRIBE_PORT, link)
        except OSError:
            os.close(self.fileno)
            raise

    def read(self) -> bool:
        """Whether anything has changed."""
        changed = False
        with contextlib.suppress(BlockingIOError):
            while data := os.read(self.fileno, _EVENT * 64):
                changed |= any(data[at] in _CHANGES for at in range(0, len(data), _EVENT))
        return changed

    def close(self) -> None:
        """Stop watching."""
        os.close(self.fileno)


class MidiKind(InputKind):
    """MIDI ports of the system."""

    name = "midi"
    plays_notes = True
    by_messages = True
    goes_silently = True

    def present(self) -> list[DeviceFacts]:
        return list_ports() if has_sequencer() else []

    def open(self, facts: DeviceFacts, parts: Sequence[DeviceFacts], shares: Shares | None) -> Input:
        return MidiInput(facts)

    def listen(self, facts: DeviceFacts, *, motion: bool) -> Ear | None:
        return MessageEars(MidiInput(facts))

    def watches(self) -> list[Watch]:
        return [Announcements()] if has_sequencer() else []
