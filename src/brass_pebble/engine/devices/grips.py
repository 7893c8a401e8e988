"""Watches every surface for the grip by which its device is got back with nothing but itself (core/devices/grip.py)."""

from __future__ import annotations

from brass_pebble.core.devices.grip import Grip
from brass_pebble.core.say.problem import Problem
from brass_pebble.core.signals.signal import AXIS, WHEEL
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.devices.set_aside import SetAside
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import LiveDesk, Ports

# How near to an end an axis has to be pushed, as a share of its way.
END = 0.1


class Grips:
    """`turned` are the surfaces whose device has no keys: for them, turning to and fro counts as pressing."""

    devices: Devices
    aside: SetAside
    live: LiveDesk

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self._grips: dict[str, Grip] = {}
        self._sides: dict[tuple[str, int], int] = {}
        self.turned: set[str] = set()

    def follow(self, surface_id: str) -> None:
        """A surface has got its device: see what can be pressed on it."""
        holding = self.devices.holdings.get(surface_id)
        keys = any(part.codes for part in holding.parts) if holding is not None else True
        (self.turned.discard if keys else self.turned.add)(surface_id)

    def press(self, surface_id: str, code: int, value: int, at: int) -> None:
        """A control went down or up."""
        if surface_id in self.turned:
            # What its turns are bound to comes along with them, and is no other control.
            return
        grip = self._grips.get(surface_id)
        if grip is None:
            grip = self._grips[surface_id] = Grip()
        if value:
            grip.press(code, at)
        else:
            grip.release(code)
        self._book(surface_id, grip)

    def move(self, surface_id: str, signal: int, value: int, at: int) -> None:
        """Something of a device without keys was turned or pushed."""
        side = self._side(surface_id, signal, value)
        grip = self._grips.setdefault(surface_id, Grip())
        if side and side != self._sides.get((surface_id, signal)):
            self._sides[surface_id, signal] = side
            grip.press(signal, at)
        elif grip.due and (WHEEL.first <= signal <= WHEEL.last or not side):
            # It is not left alone.
            grip.release(signal)
        self._book(surface_id, grip)

    def _side(self, surface_id: str, signal: int, value: int) -> int:
        """-1 or 1 at the two ends of its way, or for the two ways to turn; 0 in between."""
        if not AXIS.first <= signal <= AXIS.last:
            return (value > 0) - (value < 0)
        source = self.devices.holdings[surface_id].source
        low, high = source.ranges().get(signal, (0, 127)) if source is not None else (0, 127)
        share = (value - low) / max(1, high - low)
        return 1 if share >= 1 - END else -1 if share <= END else 0

    def _book(self, surface_id: str, grip: Grip) -> None:
        name = f"grip {surface_id}"
        if grip.due:
            self._ports.alarms.at(name, grip.due, lambda now: self._made(surface_id, now))
        else:
            self._ports.alarms.cancel(name)

    def _made(self, surface_id: str, now: int) -> None:
        surface = self._ports.desk.surfaces.get(surface_id)
        grip = self._grips.get(surface_id)
        if surface is None or grip is None or not grip.made(now) or surface_id in self._ports.router.resting:
            return
        log.info("surface %s was given back by its grip", surface_id)
        self.aside.hands_on([surface_id])
        self.devices.rest(surface_id)
        self._ports.problems.add(Problem(
            f"{surface.name} was given back by its grip and works like any other device again",
            hint="To let it act again, select it and press o, or run brass-pebble wake"))
        self.live.tell_desk()
