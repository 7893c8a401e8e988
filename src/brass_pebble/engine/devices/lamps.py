"""Answers to devices: lights of pads, and a controller's rumble."""

from __future__ import annotations

from collections.abc import Iterable

from brass_pebble.core.desk.model import Surface
from brass_pebble.core.devices.lights import state_of
from brass_pebble.core.play.player import Player
from brass_pebble.core.play.trace import Trace
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.ports import Ports
from brass_pebble.kinds.inputs.base import HasLights, Rumbles

# A short shake that is felt and does not disturb.
STRENGTH, LASTS_MS = 0.6, 120


class Lamps:
    """What the pads show: sent again only where it differs from what they were told last."""

    devices: Devices
    player: Player

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        # For each surface: the device that was told, and what.
        self._told: dict[str, tuple[object, dict[int, int]]] = {}

    def follow(self, touched: Iterable[Trace] = ()) -> None:
        """Something happened: light what looks different now; shake where a surface wants it."""
        surfaces = self._ports.desk.surfaces
        for surface in surfaces.values():
            if surface.layout.lights.with_:
                self._light(surface)
        for trace in touched:
            answer = trace.answer
            if answer is not None and answer.surface.rumble and not trace.told_once:
                trace.told_once = True
                kind = "layer" if answer.layer_switch else answer.action.kind if answer.action else ""
                holding = self.devices.holdings.get(answer.surface.id)
                if kind in answer.surface.rumble and holding and holding.source and (
                        shaker := holding.source.ability(Rumbles)) is not None:
                    shaker.rumble(STRENGTH, LASTS_MS)

    def _light(self, surface: Surface) -> None:
        holding = self.devices.holdings.get(surface.id)
        source = holding.source.ability(HasLights) if holding and holding.source else None
        if source is None or holding is None:
            self._told.pop(surface.id, None)
            return
        device, told = self._told.get(surface.id, (None, {}))
        if device is not source:
            # Another device, or the same one plugged in again: it knows nothing.
            told = {}
            self._told[surface.id] = (source, told)
        lights = surface.layout.lights
        for signal, value in self._wanted(surface, holding.state != "taken").items():
            if told.get(signal) != value and (message := lights.message(signal, value)) is not None:
                told[signal] = value
                source.light(message)

    def _wanted(self, surface: Surface, resting: bool) -> dict[int, int]:
        router = self._ports.router
        down = {code for name, code in router.held() if name == surface.id}
        playing: set[str] = set()
        latched: set[str] = set()
        for run in self.player.runs.values():
            owner = run.owner
            if isinstance(owner, Trace) and owner.answer is not None and owner.answer.surface.id == surface.id:
                (latched if run.latched else playing).add(owner.answer.control)
        on = router.layers.stack(surface)
        wanted = {}
        for control in surface.layout.controls:
            layer = surface.owner(control.id, on)
            gestures = layer.gestures_of(control.id) if layer else ()
            binding = layer.bindings[control.id, gestures[0]] if layer and gestures else None
            macro = self._ports.desk.macros.get(binding.action.target) if binding else None
            tint = (binding.tint or (macro.tint if macro else "")) if binding else ""
            state = state_of(down=control.code in down, latched=control.id in latched,
                             playing=control.id in playing, bound=binding is not None, resting=resting)
            wanted[control.code] = surface.layout.lights.value(state, tint)
        return wanted

    def darken(self) -> None:
        """The engine ends: pads do not go on showing what is not so any more."""
        for name, (_, told) in self._told.items():
            surface, holding = self._ports.desk.surfaces.get(name), self.devices.holdings.get(name)
            lit = holding.source.ability(HasLights) if holding and holding.source else None
            if surface is None or lit is None:
                continue
            for signal, value in told.items():
                if value and (message := surface.layout.lights.message(signal, 0)) is not None:
                    lit.light(message)
