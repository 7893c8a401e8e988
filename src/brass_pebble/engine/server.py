"""The socket that clients talk to: one JSON message a line.  docs/protocol.md describes the messages."""

from __future__ import annotations

import json
import os
import re
import secrets
import select
import socket
import struct
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from .logs import log
from .loop import Loop

PROTOCOL = 1
TOPICS = ("desk", "press", "trace", "stage", "script", "problem", "devices", "heard", "note", "rehearsal",
          "recorder", "hands_off", "layers", "chord", "moves", "sessions")
# In bytes; the state of a very large desk alone has four million.
MOST_WAITING = 64_000_000
DROP_ABOVE = 16_000_000
MOST_LINE = 256_000

Message = dict[str, Any]


class Refusal(Exception):
    """A request that cannot be done; goes back to the client as it is."""

    def __init__(self, what: str, hint: str = "", code: str = "refused") -> None:
        super().__init__(what)
        self.what, self.hint, self.code = what, hint, code


class Client:
    """One connection.  Writing never waits: what the client does not take is kept, up to a limit."""

    def __init__(self, connection: socket.socket, number: int) -> None:
        self.connection = connection
        self.number = number
        self.name = ""
        self.greeted = False
        self.topics: frozenset[str] = frozenset()
        self.incoming = bytearray()
        self.waiting = bytearray()
        self.blocked = False
        self.dropped = 0


class Server:
    """Accepts clients, checks who they are, hands their requests to `on_request`.

    `on_request(client, message)` returns the reply's fields, or None if it will call `reply` later.
    """

    def __init__(self, path: Path, loop: Loop, on_request: Callable[[Client, Message], Message | None],
                 on_leave: Callable[[Client], None], hello: Callable[[], Message]) -> None:
        self.path = path
        self._loop = loop
        self._on_request = on_request
        self._on_leave = on_leave
        self._hello = hello
        self.clients: dict[int, Client] = {}
        self._count = 0
        self._listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC)
        path.unlink(missing_ok=True)
        old = os.umask(0o177)
        try:
            self._listener.bind(str(path))
        finally:
            os.umask(old)
        self._listener.listen(16)
        loop.watch(self._listener.fileno(), self._accept)

    def _accept(self, events: int) -> None:
        try:
            connection, _ = self._listener.accept()
        except OSError:
            return
        credentials = connection.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i"))
        pid, uid, _ = struct.unpack("3i", credentials)
        if uid != os.getuid():
            log.warning("refused a connection of user %d (process %d)", uid, pid)
            connection.close()
            return
        connection.setblocking(False)
        self._count += 1
        client = Client(connection, self._count)
        self.clients[connection.fileno()] = client
        self._loop.watch(connection.fileno(), lambda events: self._ready(client, events))

    def _ready(self, client: Client, events: int) -> None:
        if events & select.EPOLLOUT:
            self._flush(client)
        if events & (select.EPOLLIN | select.EPOLLHUP | select.EPOLLERR):
            self._read(client)

    def _read(self, client: Client) -> None:
        try:
            data = client.connection.recv(65536)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if not data:
            self.drop(client)
            return
        client.incoming += data
        while (end := client.incoming.find(b"\n")) >= 0:
            line = bytes(client.incoming[:end])
            del client.incoming[: end + 1]
            self._take(client, line)
            if client.connection.fileno() < 0:
                return
        if len(client.incoming) > MOST_LINE:
            self._send(client, {"error": {"code": "too-long", "what": "the message is too long",
                                          "hint": f"A line has at most {MOST_LINE} bytes"}})
            self.drop(client)

    def _take(self, client: Client, line: bytes) -> None:
        number = None
        try:
            message = _read(line)
            number = message.get("id")
            if not client.greeted:
                reply: Message | None = self._greet(client, message)
            else:
                reply = self._request(client, message)
            if reply is not None:
                self.reply(client, number, reply)
        except Refusal as refusal:
            self.refuse(client, number, refusal)
        except (TypeError, ValueError, OverflowError) as error:
            self.refuse(client, number, Refusal(f"a field has a value that cannot be: {error}",
                                                "docs/protocol.md tells the fields", "bad-message"))

    def _greet(self, client: Client, message: Message) -> Message:
        if message.get("do") != "hello":
            raise Refusal("the first message must be hello", 'Send {"do": "hello", "protocol": 1}', "no-hello")
        if message.get("protocol") != PROTOCOL:
            raise Refusal(f"protocol {message.get('protocol')} is not spoken here",
                          f"This engine speaks protocol {PROTOCOL}; use the same version on both sides",
                          "wrong-protocol")
        client.greeted = True
        client.name = str(message.get("client", ""))[:60]
        return self._hello()

    def _request(self, client: Client, message: Message) -> Message | None:
        if message.get("do") == "follow":
            topics = message.get("topics")
            if not isinstance(topics, list) or not set(map(str, topics)) <= set(TOPICS):
                raise Refusal("unknown topic", f"Known are {', '.join(TOPICS)}", "bad-message")
            client.topics = frozenset(map(str, topics))
            return {}
        return self._on_request(client, message)

    def reply(self, client: Client, number: object, fields: Message) -> None:
        """Answer request `number`."""
        self._send(client, {"re": number, "ok": True, **fields})

    def refuse(self, client: Client, number: object, refusal: Refusal) -> None:
        """Answer request `number` with why not."""
        self._send(client, {"re": number, "ok": False, "error": {"code": refusal.code, "what": refusal.what,
                                                                 "hint": refusal.hint}})

    def wanted(self, topic: str) -> bool:
        """Whether anybody follows a topic, so that nothing is put together in vain."""
        return any(topic in client.topics for client in self.clients.values())

    def publish(self, topic: str, fields: Message) -> None:
        """Tell everybody who follows `topic`.  A client that does not read misses it."""
        line = b""
        for client in list(self.clients.values()):
            if topic not in client.topics:
                continue
            if len(client.waiting) > DROP_ABOVE:
                client.dropped += 1
                continue
            if client.dropped:
                self._send(client, {"topic": "missed", "count": client.dropped})
                client.dropped = 0
            if not line:
                line = _line({"topic": topic, **fields})
            self._write(client, line)

    def _send(self, client: Client, message: Message) -> None:
        self._write(client, _line(message))

    def _write(self, client: Client, line: bytes) -> None:
        if client.connection.fileno() < 0:
            return
        client.waiting += line
        if len(client.waiting) > MOST_WAITING:
            log.warning("client %d (%s) does not read; closed", client.number, client.name)
            self.drop(client)
            return
        if len(client.waiting) == len(line):
            self._flush(client)

    def _flush(self, client: Client) -> None:
        fileno = client.connection.fileno()
        if fileno < 0:
            return
        try:
            sent = client.connection.send(client.waiting)
            del client.waiting[:sent]
        except BlockingIOError:
            pass
        except OSError:
            self.drop(client)
            return
        blocked = bool(client.waiting)
        if blocked != client.blocked:
            client.blocked = blocked
            self._loop.watch(fileno, lambda events: self._ready(client, events),
                             select.EPOLLIN | (select.EPOLLOUT if blocked else 0))

    def drop(self, client: Client) -> None:
        """Close a connection."""
        fileno = client.connection.fileno()
        if fileno < 0:
            return
        self._loop.forget(fileno)
        self.clients.pop(fileno, None)
        client.connection.close()
        self._on_leave(client)

    def close(self) -> None:
        """Close all, and remove the socket."""
        for client in list(self.clients.values()):
            self._loop.forget(client.connection.fileno())
            client.connection.close()
        self.clients.clear()
        self._loop.forget(self._listener.fileno())
        self._listener.close()
        self.path.unlink(missing_ok=True)


def _read(line: bytes) -> Message:
    try:
        message = json.loads(line)
    except (ValueError, RecursionError):
        raise Refusal("the line is not JSON", "Send one JSON object a line", "bad-message") from None
    if not isinstance(message, dict):
        raise Refusal("a message must be a JSON object", code="bad-message")
    return message


@dataclass(frozen=True)
class Encoded:
    """A part of a message that is JSON already."""

    text: str


# Where such a part goes: no other text of a message can be guessed to say this.
_HERE = secrets.token_hex(8)
_PLACE = re.compile(rf'"{_HERE}:(\d+)"')


def _line(message: Message) -> bytes:
    parts: list[str] = []

    def place(value: object) -> str:
        if not isinstance(value, Encoded):
            raise TypeError(f"{value!r} cannot be sent")
        parts.append(value.text)
        return f"{_HERE}:{len(parts) - 1}"
    text = json.dumps(message, ensure_ascii=False, separators=(",", ":"), default=place)
    if parts:
        text = _PLACE.sub(lambda match: parts[int(match[1])], text)
    return text.encode() + b"\n"
