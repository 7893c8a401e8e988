"""Looks names of computers up, each on a thread of its own: whoever answers slowly holds up nobody who asks for
another."""

from __future__ import annotations

import ipaddress
import socket
import threading

# So many names are looked up at once.  A look-up cannot be ended from outside: what hangs keeps its place.
MOST = 16
Address = tuple[str, int]


class NotFound(OSError):
    """A name could not be looked up; the text says why."""


def is_number(host: str) -> bool:
    """Whether a host is written in numbers, so that nobody has to be asked."""
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


class _Pending:
    def __init__(self) -> None:
        self.waiting: list[threading.Event] = []
        self.found: tuple[str, ...] = ()
        self.wrong = ""
        self.done = False


class Names:
    """What is being looked up.  One asks for all that want the same name."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._pending: dict[str, _Pending] = {}

    def begin(self, host: str, wake: threading.Event) -> _Pending:
        """Have a name looked up; `wake` is set when that is done.

        Raises:
            NotFound: too many are looked up already.
        """
        with self._lock:
            pending = self._pending.get(host)
            if pending is None:
                if len(self._pending) >= MOST:
                    raise NotFound(f"{host} was not looked up: {MOST} other names do not answer")
                pending = self._pending[host] = _Pending()
                threading.Thread(target=self._look, args=(host, pending), name="a name", daemon=True).start()
            pending.waiting.append(wake)
        return pending

    def _look(self, host: str, pending: _Pending) -> None:
        try:
            rows = socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)
            pending.found = tuple(dict.fromkeys(str(row[4][0]) for row in rows))
        except (OSError, UnicodeError) as error:
            pending.wrong = f"the name {host} is not known ({getattr(error, 'strerror', None) or error})"
        with self._lock:
            pending.done = True
            self._pending.pop(host, None)
        for wake in pending.waiting:
            wake.set()

    def addresses(self, host: str, wake: threading.Event, seconds: float) -> tuple[str, ...]:
        """The addresses of a host, in numbers; whoever waits is woken early by `wake`, and gets none then.

        Raises:
            NotFound: it has none, or they are not known in time.
        """
        if is_number(host):
            return (host,)
        pending = self.begin(host, wake)
        wake.wait(seconds)
        if pending.done and pending.wrong:
            raise NotFound(pending.wrong)
        return pending.found
