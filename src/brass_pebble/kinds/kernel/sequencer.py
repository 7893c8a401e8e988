"""The ALSA sequencer (alsa-midi): the system's MIDI ports, messages from and to them, and what comes and goes.

Everything arrives at descriptors, so no thread of a library lies on a note's way.  A port's full name is that of the
sequencer, `Kiln:Kiln MIDI 1 20:0`: client, port, and numbers that change from start to start.
"""

from __future__ import annotations

import errno
import os
import re
import select
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

DEVICE = Path("/dev/snd/seq")
CLIENT = "Brass Pebble"
_NUMBERS = re.compile(r" (\d+):(\d+)$")
# Longer ones are no message that any device sends.
LONGEST_EXCLUSIVE = 65_536
# SNDRV_SEQ_MAX_EVENTS of sound/seq_kernel.h
MOST_WAITING = 2_000
_EXCLUSIVE, _ITS_END, _STATUS, _REAL_TIME = 0xF0, 0xF7, 0x80, 0xF8


class PortError(Exception):
    """A port cannot be opened or has gone; the text says why."""


@cache
def library_trouble() -> str:
    """Why the sequencer cannot be spoken to though the kernel has it; empty if it can."""
    try:
        import alsa_midi
    except (ImportError, OSError) as error:
        return str(error)
    return "" if alsa_midi else "it is empty"


def is_here() -> bool:
    """Whether this machine has MIDI ports at all."""
    return DEVICE.exists() and os.access(DEVICE, os.R_OK | os.W_OK) and not library_trouble()


def split_name(full: str) -> tuple[str, str, str]:
    """Client, port and address of a port's full name."""
    match = _NUMBERS.search(full)
    address = f"{match[1]}:{match[2]}" if match else ""
    client, _, port = (full[:match.start()] if match else full).partition(":")
    return client, port, address


def list_names(*, readable: bool) -> list[str]:
    """The full names of all ports that can be read, or written to."""
    client = _connect()
    try:
        return _names(client, readable=readable)
    finally:
        client.close()


def _connect() -> Any:
    """Raises: PortError."""
    import alsa_midi
    try:
        return alsa_midi.SequencerClient(CLIENT)
    except alsa_midi.Error as error:
        raise PortError(f"the MIDI sequencer cannot be opened: {error}") from None


def _names(client: Any, *, readable: bool) -> list[str]:
    found = client.list_ports(input=readable or None, output=None if readable else True, sort=False)
    return [f"{port.client_name}:{port.name} {port.client_id}:{port.port_id}" for port in found]


def _descriptor(client: Any) -> int:
    """The descriptor that is ready when something has come, by the library's own bindings."""
    from alsa_midi import alsa, ffi
    polled = ffi.new("struct pollfd[]", 1)
    if alsa.snd_seq_poll_descriptors(client.handle, polled, 1, select.POLLIN) != 1:
        raise PortError("the MIDI sequencer has no descriptor to wait for")
    return int(polled[0].fd)


class _Connection:
    """A client of the sequencer with one port, and its descriptor."""

    def __init__(self) -> None:
        self._client = _connect()
        self.fileno = _descriptor(self._client)
        self.lost = 0
        # The port is there for as long as the library's object for it is.
        self._port: Any = None

    def _events(self, *, as_bytes: bool) -> Iterator[Any]:
        """What has come, a buffer full of it at most: the descriptor stays ready for the rest.  What the sequencer had
        to drop is counted in `lost`."""
        from alsa_midi import ALSAError
        client, fetch = self._client, True
        while True:
            try:
                if client.event_input_pending(fetch_sequencer=fetch) <= 0:
                    return
                fetch = False
                yield client.event_input(prefer_bytes=as_bytes)
            except ALSAError as error:
                if error.errnum in (-errno.EAGAIN, -errno.EINTR):
                    return
                if error.errnum != -errno.ENOSPC:
                    raise PortError(str(error)) from None
                self.lost += 1

    def take_lost(self) -> int:
        """How often the sequencer had to drop something since this was asked last."""
        lost, self.lost = self.lost, 0
        return lost

    def close(self) -> None:
        """Leave the sequencer."""
        self._port = None
        if self._client is not None:
            self._client.close()
            self._client = None


class InPort(_Connection):
    """Messages from one port of another client.

    Raises:
        PortError: it is not there.
    """

    def __init__(self, full: str, name: str) -> None:
        from alsa_midi import WRITE_PORT, Error
        super().__init__()
        self._exclusive = b""
        try:
            # As many events as the kernel keeps at most, so that the least is lost while the loop is busy.
            self._client.set_client_pool_input(MOST_WAITING)
            if full not in _names(self._client, readable=True):
                raise PortError(f"there is not a valid port {full}")
            self._port = self._client.create_port("from " + name, WRITE_PORT)
            self._port.connect_from(_address(full))
        except Error as error:
            self.close()
            raise PortError(str(error)) from None
        except PortError:
            self.close()
            raise

    def read(self) -> Iterator[bytes]:
        """The messages that have come; exclusive ones when they are complete."""
        from alsa_midi import MidiBytesEvent
        for event in self._events(as_bytes=True):
            if not isinstance(event, MidiBytesEvent):
                continue
            data = bytes(event.midi_bytes)
            if not data:
                continue
            first = data[0]
            if first in (_EXCLUSIVE, _ITS_END) or first < _STATUS:
                # It comes in pieces.
                whole = data if first == _EXCLUSIVE else self._exclusive + data if self._exclusive else b""
                self._exclusive = whole if len(whole) <= LONGEST_EXCLUSIVE else b""
                if self._exclusive[-1:] == bytes((_ITS_END,)):
                    yield self._exclusive
                    self._exclusive = b""
                continue
            if first < _REAL_TIME:
                # The end of an exclusive one was lost.
                self._exclusive = b""
            yield data


class OutPort(_Connection):
    """Messages to a port of another client whose client or port is called `name` (in any case), or that has this full
    name.

    Raises:
        PortError: there is none; the text names those there are.
    """

    def __init__(self, name: str) -> None:
        from alsa_midi import READ_PORT, Error
        super().__init__()
        try:
            names = _names(self._client, readable=False)
            wanted = name.casefold()
            for full in names:
                client, own, _ = split_name(full)
                if not client.startswith(CLIENT) and (full == name or wanted in (
                        client.casefold(), own.casefold(), f"{client}:{own}".casefold())):
                    self._port = self._client.create_port("to " + (own or client), READ_PORT)
                    self._port.connect_to(_address(full))
                    return
        except Error as error:
            self.close()
            raise PortError(str(error)) from None
        self.close()
        known = ", ".join(dict.fromkeys(f"“{split_name(full)[0]}”" for full in names if not full.startswith(CLIENT)))
        raise PortError(f"there is no MIDI port called “{name}”" + (f"; there are {known}" if known else ""))

    def send_message(self, message: bytes) -> None:
        """Send whole messages, now.

        Raises:
            PortError: the sequencer takes no more.
        """
        from alsa_midi import ALSAError, MidiBytesEvent
        try:
            self._client.event_output(MidiBytesEvent(message), port=self._port)
            self._client.drain_output()
        except ALSAError as error:
            if error.errnum != -errno.EAGAIN:
                raise PortError(str(error)) from None
            # Nobody takes them so fast; what the library has kept leaves with the next one.
            self.lost += 1


def _address(full: str) -> tuple[int, int]:
    client, _, port = split_name(full)[2].partition(":")
    return int(client), int(port)


class Announcements(_Connection):
    """Tells when MIDI ports come or go: its descriptor is ready then.

    Raises:
        PortError: there is no sequencer.
    """

    def __init__(self) -> None:
        from alsa_midi import SYSTEM_ANNOUNCE, Error, EventType, PortCaps, PortType
        super().__init__()
        # Clients that come and go tell nothing, and listing ports is one of them.
        self._changes = frozenset((EventType.PORT_START, EventType.PORT_EXIT, EventType.PORT_CHANGE))
        try:
            self._port = self._client.create_port("watch", PortCaps.WRITE | PortCaps.SUBS_WRITE | PortCaps.NO_EXPORT,
                                                  PortType.APPLICATION)
            self._port.connect_from(SYSTEM_ANNOUNCE)
        except Error as error:
            self.close()
            raise PortError(str(error)) from None

    def read(self) -> bool:
        """Whether anything has changed."""
        # All of them are taken, whichever it was.
        return not {event.type for event in self._events(as_bytes=False)}.isdisjoint(self._changes)
