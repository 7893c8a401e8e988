"""OSC messages (open sound control 1.0) that macros send to an address."""

from __future__ import annotations

import socket
from collections.abc import Callable
from typing import Any, ClassVar

from brass_pebble.core.macro.asks import Ask, Errand

from .base import Done, usual_limit
from .call import Call

_READ: dict[str, Callable[[str], Any]] = {"i": int, "f": float, "s": str}


class Osc:
    """A message; nobody answers it."""

    fields: ClassVar[tuple[str, ...]] = ("address", "receiver", "value…")
    pool: ClassVar[str] = "osc"
    reach: ClassVar[str] = "sends to an address"
    tells: ClassVar[bool] = False

    def limit(self, ask: Ask) -> int:
        return usual_limit(ask)

    def whom(self, ask: Ask) -> str:
        assert isinstance(ask, Errand)
        return ask.words[1]

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Errand)
        from pythonosc.osc_message_builder import OscMessageBuilder
        address, target, *words = ask.words
        host, _, port = target.rpartition(":")
        message = OscMessageBuilder(address=address)
        for word in words:
            message.add_arg(_READ[word[0]](word[2:]))
        with call.connect(host.strip("[]"), int(port), socket.SOCK_DGRAM) as connection:
            connection.send(message.build().dgram)
        return "", True
