"""The switchboard: gives each effect to whoever takes its kind, and keeps their order."""

from __future__ import annotations

from brass_pebble.core.effects.kinds import AXIS, KINDS, EffectKind, kind_of
from brass_pebble.core.play.player import Effect
from brass_pebble.engine.devices.addresses import Addresses
from brass_pebble.engine.devices.receivers import Receivers, is_address
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports
from brass_pebble.kinds.outputs.base import Output, OutputError, Taker
from brass_pebble.kinds.outputs.controller import ControllerOutput
from brass_pebble.kinds.outputs.datagrams import Datagrams

Route = tuple[Taker, ...]


class Switchboard:
    """The output takes what it says that it takes; the rest goes to receivers, addresses and the virtual controller.

    Where the output takes messages itself, peers of a session hear them, too.
    """

    def __init__(self, ports: Ports, output: Output, receivers: Receivers, addresses: Addresses) -> None:
        self._ports, self._output, self._receivers, self._addresses = ports, output, receivers, addresses
        self._takers: list[Taker] = [output, Datagrams(receivers.trouble, addresses.of)]
        self._controller: Taker | None = None
        self._routes: dict[EffectKind, Route] = {}
        self._follow_takers()

    def _follow_takers(self) -> None:
        for kind in KINDS:
            first = next((taker for taker in self._takers if kind in taker.takes), None)
            takers = [first] if first is not None else []
            self._routes[kind] = (*takers, *([self._receivers] if kind in self._receivers.takes else ()))

    def follow(self) -> None:
        """A desk was read: make the virtual controller if it is sent to, and open what messages go to."""
        if self._controller is None and AXIS not in self._output.takes and self._ports.desk.uses_controller:
            try:
                self._controller = ControllerOutput()
                self._takers.append(self._controller)
                self._follow_takers()
            except OutputError as error:
                self._receivers.trouble(str(error), "brass-pebble checkup tells what is missing")
        self._receivers.follow()
        self._addresses.know(name.rpartition(":")[0] for name in self._ports.desk.receivers if is_address(name))

    def send(self, out: list[Effect], now: int) -> None:
        """Send effects of all kinds in their order: one call for those that follow one another on one way."""
        routes = self._routes
        part: list[Effect] = []
        way: Route = ()
        for effect in out:
            kind = kind_of(effect[0])
            rights = effect[3].rights
            if rights is not None and kind.leaves and not rights.reaches:
                # What the player lays has passed the gate; this is for positions and levels, which it does not lay.
                log.error("%s of %s was not sent: it is not approved", kind.name, rights.whose)
                continue
            route = routes[kind]
            if route is not way and route != way:
                if part:
                    _send(way, part, now)
                part, way = [], route
            part.append(effect)
        if part:
            _send(way, part, now)

    def close(self) -> None:
        """Let everything go but the output."""
        self._receivers.close()
        for taker in self._takers[1:]:
            taker.close()


def _send(way: Route, part: list[Effect], now: int) -> None:
    for taker in way:
        taker.send(part, now)
