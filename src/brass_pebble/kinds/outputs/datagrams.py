"""Sends OSC messages (open sound control 1.0) as datagrams to the addresses that their effects name."""

from __future__ import annotations

import socket
from collections.abc import Callable

from brass_pebble.core.effects.kinds import OSC
from brass_pebble.core.effects.messages import message_of, receiver_name
from brass_pebble.core.play.player import Effect


class Datagrams:
    """One socket for all.  `trouble(what, hint)` hears of an address that cannot be sent to; `address_of(host)` is a
    host in numbers, empty if it is not known, and never waits."""

    takes = frozenset((OSC,))

    def __init__(self, trouble: Callable[[str, str], object], address_of: Callable[[str], str]) -> None:
        self._trouble, self._address_of = trouble, address_of
        self._places: dict[str, tuple[str, int]] = {}
        self._socket: socket.socket | None = None

    def send(self, effects: list[Effect], now: int) -> None:
        """Send each to whom it names."""
        for code, value, *_ in effects:
            self._send_one(receiver_name(code), message_of(code, value))

    def _send_one(self, name: str, data: bytes) -> None:
        if self._socket is None:
            self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            self._socket.setblocking(False)
        place = self._places.get(name)
        if place is None:
            host, _, port = name.rpartition(":")
            place = self._places[name] = host, int(port)
        host, number = place
        # The system would look a name up, and wait for the answer, in the middle of a press.
        address = self._address_of(host)
        if not address:
            self._trouble(f"{name} cannot be sent to: the address of “{host}” is not known",
                          "Wait until its name is answered for, or write it in numbers, like 192.168.1.20:9000")
            return
        try:
            self._socket.sendto(data, (address, number))
        except OSError as error:
            self._trouble(f"{name} cannot be sent to: {error.strerror or error}",
                          "Write the receiver’s address in numbers, like 192.168.1.20:9000")

    def close(self) -> None:
        """Let the socket go."""
        if self._socket is not None:
            self._socket.close()
