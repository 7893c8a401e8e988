"""Lines by TCP and UDP, and WebSocket messages, for macros."""

from __future__ import annotations

import socket
import urllib.parse
from typing import ClassVar

from brass_pebble.core.macro.asks import Ask, Errand

from .base import Done, usual_limit
from .call import Call
from .http import PORTS

# So much of an answer is read, in bytes.
MOST_ANSWERED = 1_000_000


class Line:
    """A line or a message to whoever waits for it; the answer is true if none is wanted, false if none came."""

    fields: ClassVar[tuple[str, ...]] = ("way", "text", "address", "answer")
    pool: ClassVar[str] = "request"
    reach: ClassVar[str] = "sends a message"
    tells: ClassVar[bool] = False

    def limit(self, ask: Ask) -> int:
        return usual_limit(ask)

    def whom(self, ask: Ask) -> str:
        assert isinstance(ask, Errand)
        return ask.words[2]

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Errand)
        way, text, target, answer = ask.words
        if way == "websocket":
            return _websocket(text, target, call, wants=bool(answer))
        host, _, port = target.rpartition(":")
        send = _udp if way == "udp" else _tcp
        return send(text, (host.strip("[]"), int(port)), call, wants=bool(answer))


def _tcp(text: str, place: tuple[str, int], call: Call, *, wants: bool) -> Done:
    with call.connect(*place) as connection:
        connection.sendall(text.encode() + b"\n")
        if not wants:
            return "", True
        came = b""
        while b"\n" not in came and len(came) <= MOST_ANSWERED:
            connection.settimeout(call.left())
            data = connection.recv(65_536)
            if not data:
                # It may have been shut by us.
                call.left()
                break
            came += data
    line = came.partition(b"\n")[0]
    if not came:
        return f"{place[0]} closed without an answer", False
    return "", line.decode("utf-8", "replace").rstrip("\r")


def _udp(text: str, place: tuple[str, int], call: Call, *, wants: bool) -> Done:
    with call.connect(*place, socket.SOCK_DGRAM) as connection:
        connection.send(text.encode())
        if not wants:
            return "", True
        came = connection.recv(65_536)
        call.left()
        return "", came.decode("utf-8", "replace")


def _websocket(text: str, address: str, call: Call, *, wants: bool) -> Done:
    # Slow to import, and few macros need it.
    from websockets.exceptions import WebSocketException
    from websockets.sync.client import connect
    parts = urllib.parse.urlsplit(address)
    if parts.scheme not in ("ws", "wss") or not parts.hostname:
        return f"{address} is not a WebSocket address", False
    there = call.connect(parts.hostname, parts.port or PORTS[parts.scheme])
    try:
        # With a connection of ours no redirect is followed.  What is compressed could be of any size.
        with connect(address, sock=there, open_timeout=call.left(), close_timeout=min(0.2, call.left()),
                     max_size=MOST_ANSWERED, compression=None) as connection:
            connection.send(text)
            if not wants:
                return "", True
            came = connection.recv(timeout=call.left())
            return "", came if isinstance(came, str) else came.decode("utf-8", "replace")
    except WebSocketException as error:
        return f"{address} does not talk WebSocket: {str(error)[:200]}", False
    except ValueError:
        # What the library says of a redirect with a connection of ours concerns nobody.
        return f"{address} does not talk WebSocket: it redirects. Call the address itself that it leads to", False
    finally:
        there.close()
