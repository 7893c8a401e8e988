"""Lines by TCP and UDP, and WebSocket messages, for macros; on threads."""

from __future__ import annotations

import socket
import time

from brass_pebble.core.macro.asks import Errand

# So much of an answer is read, in bytes.
MOST_ANSWERED = 1_000_000


def send_line(ask: Errand) -> tuple[str, object]:
    """Send a line or a message; a remark for the trace, and the answer (true if none is wanted, false if none came)."""
    way, text, target, answer = ask.words
    seconds = ask.limit / 1e9
    try:
        if way == "websocket":
            return _websocket(text, target, seconds, wants=bool(answer))
        host, _, port = target.rpartition(":")
        call = _udp if way == "udp" else _tcp
        return call(text, (host.strip("[]"), int(port)), seconds, wants=bool(answer))
    except TimeoutError:
        return f"{target} did not answer within {seconds:g} s", False
    except (OSError, ValueError) as error:
        return f"{target} could not be reached: {getattr(error, 'strerror', None) or error}", False


def _tcp(text: str, place: tuple[str, int], seconds: float, *, wants: bool) -> tuple[str, object]:
    until = time.monotonic() + seconds
    with socket.create_connection(place, timeout=seconds) as connection:
        connection.sendall(text.encode() + b"\n")
        if not wants:
            return "", True
        came = b""
        while b"\n" not in came and len(came) <= MOST_ANSWERED:
            connection.settimeout(max(0.001, until - time.monotonic()))
            data = connection.recv(65_536)
            if not data:
                break
            came += data
    line = came.partition(b"\n")[0]
    if not came:
        return f"{place[0]} closed without an answer", False
    return "", line.decode("utf-8", "replace").rstrip("\r")


def _udp(text: str, place: tuple[str, int], seconds: float, *, wants: bool) -> tuple[str, object]:
    family, _, _, _, address = socket.getaddrinfo(*place, type=socket.SOCK_DGRAM)[0]
    with socket.socket(family, socket.SOCK_DGRAM) as connection:
        connection.settimeout(seconds)
        connection.connect(address)
        connection.send(text.encode())
        return ("", connection.recv(65_536).decode("utf-8", "replace")) if wants else ("", True)


def _websocket(text: str, address: str, seconds: float, *, wants: bool) -> tuple[str, object]:
    # Slow to import, and few macros need it.
    from websockets.exceptions import WebSocketException
    from websockets.sync.client import connect
    until = time.monotonic() + seconds
    try:
        with connect(address, open_timeout=seconds, close_timeout=1, max_size=MOST_ANSWERED, proxy=None) as connection:
            connection.send(text)
            if not wants:
                return "", True
            came = connection.recv(timeout=max(0.001, until - time.monotonic()))
            return "", came if isinstance(came, str) else came.decode("utf-8", "replace")
    except WebSocketException as error:
        return f"{address} does not talk WebSocket: {error}", False
