"""Where the computers are that a desk names: looked up beside the loop, so that no key waits for a name server."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable

from brass_pebble.engine.loop import Worker
from brass_pebble.engine.ports import Ports
from brass_pebble.kinds.errands.names import Names, is_number

# Names of the computer itself, which nobody has to be asked for.
OWN = {"localhost": "127.0.0.1"}
# A name that is used is looked up again after so long, in ns; a look-up may take so long, in s.
AGAIN_AFTER, LONGEST = 60_000_000_000, 10.0
# (address, what is wrong): one of the two is empty.
Found = Callable[[str, str], object]


class Addresses:
    """The last good address of every name.  A name server that does not answer takes none away."""

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self._names = Names()
        self._fixed = dict(OWN)
        self._known: dict[str, str] = {}
        self._looked: dict[str, int] = {}
        self._worker: Worker | None = None

    def know(self, hosts: Iterable[str]) -> None:
        """Look up what is to be sent to."""
        for host in hosts:
            self.of(host)

    def of(self, host: str) -> str:
        """The address of a host in numbers; empty if it is not known (yet).  Never waits."""
        if (fixed := self._fixed.get(host)) is not None:
            return fixed
        if is_number(host):
            self._fixed[host] = host
            return host
        if self._ports.now() - self._looked.get(host, -AGAIN_AFTER) >= AGAIN_AFTER:
            self._look_again(host)
        return self._known.get(host, "")

    def _look_again(self, host: str) -> None:
        self._looked[host] = self._ports.now()
        self.look(host, lambda address, wrong: None)

    def look(self, host: str, then: Found) -> None:
        """Look a host up, and call back on the loop."""
        if is_number(host) or host in OWN:
            then(self.of(host), "")
            return
        if self._worker is None:
            self._worker = Worker(self._ports.loop, 4, 64)

        def job() -> str:
            found = self._names.addresses(host, threading.Event(), LONGEST)
            # Datagrams are sent by version 4.
            return next((address for address in found if ":" not in address), "")

        def done(result: object) -> None:
            if isinstance(result, str) and result:
                self._known[host] = result
                then(result, "")
            else:
                then("", str(result) or f"the name {host} was not answered for within {LONGEST:g} s")
        if not self._worker.do(job, done):
            then("", f"{host} was not looked up: too many names wait for an answer")
