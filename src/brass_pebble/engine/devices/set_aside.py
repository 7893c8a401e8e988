"""Surfaces whose presses command nothing for a while: they are drawn, tried, recorded, or hands are to be off them.

Whoever sets a surface aside for itself hears its presses (`client`); without one, hands are off: a press only selects
what was pressed on the screens, and says so.  That ends by itself.
"""

from __future__ import annotations

from dataclasses import dataclass

from brass_pebble.core.play.trace import Trace
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.ports import HearsSurface, Ports, PressPath

MS = 1_000_000
# Hands-off lasts so long unless it is asked for otherwise, and at most; in s.
USUAL, LONGEST = 120.0, 1800.0
WHY = "hands off: selected only, nothing is sent"


@dataclass(frozen=True)
class Aside:
    """Who hears a surface's presses (0: nobody, hands are off), and until when, in ns (0: until it is ended)."""

    client: int = 0
    until: int = 0


class SetAside:
    """Every surface that is set aside."""

    devices: Devices
    path: PressPath
    news: News
    meet: HearsSurface

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self._asides: dict[str, Aside] = {}
        self._off: dict[str, Aside] = {}

    def holds(self, surface_id: str) -> bool:
        """Whether a surface's presses command nothing now."""
        return surface_id in self._asides or surface_id in self._off

    def heard_by(self, surface_id: str) -> int:
        """The client that hears a surface's presses; 0 for none."""
        found = self._asides.get(surface_id)
        return found.client if found else 0

    def give_to(self, client: int, surface_id: str) -> None:
        """From now on a surface's presses go to a client; with an empty name, it no longer has any."""
        for name in [name for name, aside in self._asides.items() if aside.client == client and name != surface_id]:
            del self._asides[name]
            self.devices.listen(name)
        if surface_id:
            self.path.let_go(surface_id)
            self._asides[surface_id] = Aside(client)
            self.devices.listen(surface_id)

    # Hands off.

    def hands_off(self, surfaces: list[str], seconds: float) -> None:
        """Hands off these surfaces for a while: what they hold is let go, and presses only select."""
        seconds = max(1.0, min(seconds, LONGEST))
        until = self._ports.now() + int(seconds * 1e9)
        for surface_id in surfaces:
            self.path.let_go(surface_id)
            self._off[surface_id] = Aside(0, until)
            self.devices.listen(surface_id)
        self._book()
        self.tell()

    def hands_on(self, surfaces: list[str]) -> int:
        """They act again.  Returns how many did not before."""
        count = 0
        for surface_id in surfaces:
            if self._off.pop(surface_id, None) is not None:
                count += 1
                # What is down now went down while it commanded nothing.
                self.path.let_go(surface_id)
                self.devices.listen(surface_id)
        self._book()
        if count:
            self.tell()
        return count

    def _book(self) -> None:
        if self._off:
            self._ports.alarms.at("hands off", min(aside.until for aside in self._off.values()), self._end)
        else:
            self._ports.alarms.cancel("hands off")

    def _end(self, now: int) -> None:
        self.hands_on([name for name, aside in self._off.items() if aside.until <= now])

    def follow(self) -> None:
        """The desk has changed: surfaces that are gone are forgotten."""
        gone = (self._off.keys() | self._asides.keys()) - self._ports.desk.surfaces.keys()
        for name in gone:
            self._off.pop(name, None)
            self._asides.pop(name, None)
        if gone:
            self._book()

    def press(self, surface_id: str, code: int, value: int, arrived: int, node: str) -> Trace | None:
        """A control of a surface that is set aside was pressed or let go."""
        if self.heard_by(surface_id):
            self.meet.hear_surface(surface_id, code, value, arrived, node)
            return None
        self.news.lit.append((surface_id, code, value, arrived))
        if not value:
            return None
        trace = self._ports.router.account(surface_id, code, arrived, self._ports.now(), WHY)
        if trace is not None:
            trace.node = node
            self.news.fresh.append(trace)
        return trace

    def move(self, surface_id: str, signal: int, value: int, arrived: int, node: str) -> None:
        """Something moved on a surface that is set aside."""
        if self.heard_by(surface_id):
            self.meet.hear_surface(surface_id, signal, value, arrived, node)

    # For clients.

    def state(self) -> dict[str, object]:
        """Which surfaces hands are off, and for how long yet."""
        now = self._ports.now()
        return {"surfaces": {name: max(0, aside.until - now) / MS for name, aside in self._off.items()}}

    def tell(self) -> None:
        """Tell clients."""
        self._ports.publisher.publish("hands_off", self.state())
