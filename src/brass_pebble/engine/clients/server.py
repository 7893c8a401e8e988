"""The socket that clients talk to: one JSON message a line.  docs/protocol.md describes the messages."""

from __future__ import annotations

import contextlib
import errno
import os
import select
import socket
import struct
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path

from brass_pebble.core.say.problem import ProblemError
from brass_pebble.engine.logs import log
from brass_pebble.engine.loop import Loop
from brass_pebble.protocol.base import VERSION, Request
from brass_pebble.protocol.desk import Follow, Hello
from brass_pebble.protocol.errors import (
    BadMessage,
    Failed,
    NoHello,
    Refusal,
    TooLong,
    TooMany,
    UnknownRequest,
    WrongProtocol,
)
from brass_pebble.protocol.table import TOPICS
from brass_pebble.protocol.wire import Message, Number, number_of, read_request, write

# In bytes: what waits for a client that does not read, before news are left out, and before it is closed; what waits
# for all of them.  The state of a very large desk alone has four million.
DROP_ABOVE = 2_000_000
MOST_WAITING = 16_000_000
MOST_IN_ALL = 48_000_000
# How long a line may be, in bytes: before the greeting, and after it.
MOST_LINE, MOST_GREETING = 4_000_000, 65_536
MOST_CLIENTS = 64
# A client has so long for its greeting, in ns.
GREETING = 5_000_000_000
# In each round of the loop requests are answered for so long, in ns: presses come in between.
ROUND = 1_000_000
PIECE = 65_536
# How long a client's name may be.
LONGEST_NAME = 60

NO_HELLO = NoHello("the first message must be hello", 'Send {"do": "hello", "protocol": 1}')


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
        # Requests that have come and are not looked at yet, and those that are not answered yet.
        self.behind = False
        self.unanswered: dict[Number, int] = {}
        self.since = 0


class Server:
    """Accepts clients, checks who they are, hands their requests to `on_request`.

    `on_request(client, message)` returns the reply's fields, or None if it will call `reply` later.
    """

    _on_request: Callable[[Client, Request], Message | None]
    _on_leave: Callable[[Client], None]
    _hello: Callable[[], Message]

    def __init__(self, path: Path, loop: Loop) -> None:
        self.path = path
        self._loop = loop
        self.clients: dict[int, Client] = {}
        self._count = 0
        self._spare = os.open(os.devnull, os.O_RDONLY | os.O_CLOEXEC)
        self._behind: deque[Client] = deque()
        self._listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC)

    def open(self, on_request: Callable[[Client, Request], Message | None], on_leave: Callable[[Client], None],
             hello: Callable[[], Message]) -> None:
        """From now on clients can come: `hello` greets them, `on_leave` is told when one is gone."""
        self._on_request, self._on_leave, self._hello = on_request, on_leave, hello
        self.path.unlink(missing_ok=True)
        old = os.umask(0o177)
        try:
            self._listener.bind(str(self.path))
        finally:
            os.umask(old)
        self._listener.listen(16)
        self._loop.watch(self._listener.fileno(), self._accept)

    def _accept(self, events: int) -> None:
        try:
            connection, _ = self._listener.accept()
        except OSError as error:
            if error.errno in (errno.EMFILE, errno.ENFILE):
                self._turn_away()
            return
        if len(self.clients) >= MOST_CLIENTS and not self._drop_silent():
            with contextlib.suppress(OSError):
                connection.setblocking(False)
                connection.send(write({"error": _error(TooMany(
                    f"{MOST_CLIENTS} clients are connected already", "Close one of them"))}))
            connection.close()
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
        client.since = time.monotonic_ns()
        self.clients[connection.fileno()] = client
        self.watch_greetings(client.since)
        self._loop.watch(connection.fileno(), lambda events: self._ready(client, events))

    def _turn_away(self) -> None:
        """No descriptor is left: take a connection with the one that is kept for this, and close it at once."""
        os.close(self._spare)
        with contextlib.suppress(OSError):
            connection, _ = self._listener.accept()
            connection.close()
        self._spare = -1
        with contextlib.suppress(OSError):
            self._spare = os.open(os.devnull, os.O_RDONLY | os.O_CLOEXEC)
        if not self.full:
            log.warning("no descriptor is left for another client")
        self.full = True

    full = False
    # Asks to be called again in so many ns; set by the engine.
    later: Callable[[int, Callable[[int], None]], None] | None = None

    def watch_greetings(self, now: int) -> None:
        """Close connections that do not greet; look again while there are any."""
        waiting = [client for client in self.clients.values() if not client.greeted]
        for client in waiting:
            if now - client.since >= GREETING:
                self.drop(client)
        if self.later is not None and any(not client.greeted for client in self.clients.values()):
            self.later(GREETING, self.watch_greetings)

    def _drop_silent(self) -> bool:
        """Make room by closing whoever has not greeted for longest; false if everybody has."""
        silent = [client for client in self.clients.values() if not client.greeted]
        if not silent:
            return False
        self.drop(min(silent, key=lambda client: client.since))
        return True

    def _ready(self, client: Client, events: int) -> None:
        if events & select.EPOLLOUT:
            self._flush(client)
        if events & (select.EPOLLIN | select.EPOLLHUP | select.EPOLLERR):
            self._read(client)

    def _read(self, client: Client) -> None:
        try:
            data = client.connection.recv(PIECE)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if not data:
            self.drop(client)
            return
        client.incoming += data
        if not client.behind:
            self._work_off(client)

    def _work_off(self, client: Client) -> None:
        """Answer requests that have come, for a moment; the rest in the next round, when presses have had their turn.

        Until then nothing more is read from whoever sent so much.
        """
        if client.connection.fileno() < 0:
            return
        until = self._round_ends()
        start, incoming = 0, client.incoming
        while (end := incoming.find(b"\n", start)) >= 0:
            line = bytes(incoming[start:end])
            start = end + 1
            self._take(client, line)
            if client.connection.fileno() < 0:
                return
            if time.monotonic_ns() >= until:
                break
        del incoming[:start]
        more = incoming.find(b"\n") >= 0
        if len(incoming) > (MOST_LINE if client.greeted else MOST_GREETING) and not more:
            self._send(client, {"error": _error(TooLong("the message is too long",
                                                        f"A line has at most {MOST_LINE:,} bytes"))})
            self.drop(client)
            return
        if more:
            if not client.behind:
                client.behind = True
                self._listen(client)
            self._behind.append(client)
            if len(self._behind) == 1:
                self._loop.soon(self._next_behind)
        elif client.behind:
            client.behind = False
            self._listen(client)

    def _next_behind(self) -> None:
        self._round_end = 0
        client = self._behind.popleft()
        if self._behind:
            self._loop.soon(self._next_behind)
        try:
            self._work_off(client)
        finally:
            self._round_end = 0

    _round_end = 0

    def _round_ends(self) -> int:
        """Until when requests are answered in this round of the loop."""
        now = time.monotonic_ns()
        if now - self._round_end > ROUND:
            self._round_end = now + ROUND
        return self._round_end

    def _listen(self, client: Client) -> None:
        """Wait for what is to be waited for: more from the client, unless it is behind, and for its taking more."""
        self._loop.watch(client.connection.fileno(), lambda events: self._ready(client, events),
                         (0 if client.behind else select.EPOLLIN) | (select.EPOLLOUT if client.blocked else 0))

    def _take(self, client: Client, line: bytes) -> None:
        number: Number = None
        try:
            try:
                ask = read_request(line)
            except Refusal:
                number = number_of(line)
                raise
            number = ask.id
            self._loop.context = lambda error: self.failed(client, number, error)
            client.unanswered[number] = client.unanswered.get(number, 0) + 1
            answer = self._request(client, ask) if client.greeted else self._greet(client, ask)
            if answer is not None:
                self.reply(client, number, answer)
        except Refusal as refusal:
            self.refuse(client, number, refusal if client.greeted or not isinstance(refusal, UnknownRequest)
                        else NO_HELLO)
        except ProblemError as error:
            self.refuse(client, number, Refusal(error.problem.what, error.problem.hint))
        except Exception as error:
            self.failed(client, number, error)
        finally:
            self._loop.context = None

    def failed(self, client: Client, number: Number, error: Exception) -> None:
        """A request could not be carried out, by a mistake of the program: it is answered, and nothing else is hurt."""
        log.error("a request failed: %r", error, exc_info=error)
        if client.unanswered.get(number):
            self.refuse(client, number, Failed(f"this could not be done: {error!r}", "The log has the details"))

    def _greet(self, client: Client, ask: Request) -> Message:
        if not isinstance(ask, Hello):
            raise NO_HELLO
        if ask.protocol != VERSION:
            raise WrongProtocol(f"protocol {ask.protocol} is not spoken here",
                                f"This engine speaks protocol {VERSION}; use the same version on both sides")
        client.greeted = True
        client.name = ask.client[:LONGEST_NAME]
        return self._hello()

    def _request(self, client: Client, ask: Request) -> Message | None:
        if isinstance(ask, Hello):
            return self._hello()
        if isinstance(ask, Follow):
            if not set(ask.topics) <= set(TOPICS):
                raise BadMessage("unknown topic", f"Available: {', '.join(TOPICS)}")
            client.topics = frozenset(ask.topics)
            return {}
        return self._on_request(client, ask)

    def reply(self, client: Client, number: Number, fields: Message) -> None:
        """Answer request `number`."""
        self._answered(client, number)
        self._send(client, {"re": number, "ok": True, **fields})

    def refuse(self, client: Client, number: Number, refusal: Refusal) -> None:
        """Answer request `number` with why not."""
        self._answered(client, number)
        self._send(client, {"re": number, "ok": False, "error": _error(refusal)})

    @staticmethod
    def _answered(client: Client, number: Number) -> None:
        left = client.unanswered.get(number, 0) - 1
        if left > 0:
            client.unanswered[number] = left
        else:
            client.unanswered.pop(number, None)

    def wanted(self, topic: str) -> bool:
        """Whether anybody follows a topic, so that nothing is put together for nothing."""
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
                line = write({"topic": topic, **fields})
            self._write(client, line)

    def _send(self, client: Client, message: Message) -> None:
        self._write(client, write(message))

    def _write(self, client: Client, line: bytes) -> None:
        if client.connection.fileno() < 0:
            return
        client.waiting += line
        if len(client.waiting) > MOST_WAITING:
            log.warning("client %d (%s) does not read; closed", client.number, client.name)
            self.drop(client)
            return
        if len(client.waiting) > DROP_ABOVE:
            self._bound_all()
            if client.connection.fileno() < 0:
                return
        if len(client.waiting) == len(line):
            self._flush(client)

    def _bound_all(self) -> None:
        """Close those for whom most waits, until all together are within bounds."""
        while sum(len(client.waiting) for client in self.clients.values()) > MOST_IN_ALL:
            worst = max(self.clients.values(), key=lambda client: len(client.waiting))
            log.warning("client %d (%s) does not read; closed", worst.number, worst.name)
            self.drop(worst)

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
            self._listen(client)

    def drop(self, client: Client) -> None:
        """Close a connection."""
        fileno = client.connection.fileno()
        if fileno < 0:
            return
        self._loop.forget(fileno)
        self.clients.pop(fileno, None)
        client.connection.close()
        client.incoming, client.waiting = bytearray(), bytearray()
        if self._spare < 0:
            with contextlib.suppress(OSError):
                self._spare = os.open(os.devnull, os.O_RDONLY | os.O_CLOEXEC)
        self.full = False
        self._on_leave(client)

    def close(self) -> None:
        """Close all, and remove the socket."""
        for client in list(self.clients.values()):
            self._loop.forget(client.connection.fileno())
            client.connection.close()
        self.clients.clear()
        self._loop.forget(self._listener.fileno())
        self._listener.close()
        if self._spare >= 0:
            os.close(self._spare)
        self.path.unlink(missing_ok=True)


def _error(refusal: Refusal) -> Message:
    return {"code": refusal.code, "what": refusal.what, "hint": refusal.hint}
