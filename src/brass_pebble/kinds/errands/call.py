"""A call to somebody outside, who may be slow on purpose: one deadline for the whole of it, and an end from outside.

Whatever is called drips, hangs or never ends what it says: when the time is over, or the run that wanted it is stopped,
its connections are shut by another thread than the one that waits for them.
"""

from __future__ import annotations

import contextlib
import socket
import threading
import time
from collections.abc import Callable

from .names import Names, NotFound

# Why a call was over before it had done what it was for, as it follows on the name of whom it called.
TOO_LATE, STOPPED = "did not answer within", "was being called when it was stopped"


# A socket may give up so soon before its time, in s.
NEARLY = 0.05


class Over(OSError):
    """The time of a call is over, or it was ended."""


class Call:
    """`seconds` is what it may take in all.  Used on one thread; `end` may be called on any."""

    def __init__(self, seconds: float, names: Names, clock: Callable[[], float] = time.monotonic) -> None:
        self.seconds = seconds
        self._names, self._clock = names, clock
        self._until = clock() + seconds
        self._waking: list[threading.Event] = []
        self._lock = threading.Lock()
        self._shut: list[socket.socket] = []
        self._ends: list[Callable[[], None]] = []
        self.over = ""

    def end(self, why: str) -> None:
        """End it now, for this reason; once is enough.  Waits for nothing."""
        with self._lock:
            if self.over:
                return
            self.over = f"{why} {self.seconds:g} s" if why == TOO_LATE else why
            shut, waking, ends = [*self._shut], [*self._waking], [*self._ends]
        for wake in waking:
            wake.set()
        for one in ends:
            with contextlib.suppress(OSError):
                one()
        for connection in shut:
            with contextlib.suppress(OSError):
                connection.shutdown(socket.SHUT_RDWR)

    def at_end(self, what: Callable[[], None]) -> None:
        """Do this when the call is ended from outside: end a program, leave a display.  It must not wait.

        Raises:
            Over: it is over already; it was done then.
        """
        with self._lock:
            if not self.over:
                self._ends.append(what)
                return
        what()
        raise Over(self.over)

    def given_up(self) -> bool:
        """Whether nobody waits for it any more."""
        return bool(self.over)

    def left(self) -> float:
        """How many seconds are left of its time.

        Raises:
            Over: none, or it was ended.
        """
        left = self._until - self._clock()
        if left <= 0:
            self.end(TOO_LATE)
        if self.over:
            raise Over(self.over)
        return left

    def ends_if_up(self) -> None:
        """What waited for the rest of its time gave up, a moment before anybody has looked at the clock."""
        if self._until - self._clock() <= NEARLY:
            self.end(TOO_LATE)

    def watch(self, connection: socket.socket) -> None:
        """Shut this connection when the call is over, whatever is made of it meanwhile (TLS, say).

        Raises:
            Over: it is over already.
        """
        with self._lock:
            if not self.over:
                # A descriptor of its own: a library may take the other one over.
                self._shut.append(connection.dup())
                return
        raise Over(self.over)

    def connect(self, host: str, port: int, kind: socket.SocketKind = socket.SOCK_STREAM) -> socket.socket:
        """A connection to a host, by name or in numbers; every address that it has is tried.

        Raises:
            Over: there was no time left.
            OSError: nobody answered.
        """
        wake = threading.Event()
        with self._lock:
            self._waking.append(wake)
        # Ended meanwhile: nobody would wake it.
        left = self.left()
        found = self._names.addresses(host, wake, left)
        self.left()
        wrong: OSError = NotFound(f"{host} has no address")
        for number, address in enumerate(found):
            family = socket.AF_INET6 if ":" in address else socket.AF_INET
            connection = socket.socket(family, kind)
            try:
                self.watch(connection)
                connection.settimeout(max(0.01, self.left() / (len(found) - number)))
                connection.connect((address, port))
                connection.settimeout(self.left())
            except OSError as error:
                connection.close()
                wrong = error
                self.left()
            else:
                if kind == socket.SOCK_STREAM:
                    connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                return connection
        self.left()
        raise wrong

    def close(self) -> None:
        """Let go of what was watched."""
        with self._lock:
            shut, self._shut = self._shut, []
            self._ends.clear()
        for connection in shut:
            connection.close()
