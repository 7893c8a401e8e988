"""Hands that press the bench: those of clients, and those of the scripted class."""

from __future__ import annotations

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.signals.midi_in import FULL_STRENGTH
from brass_pebble.core.signals.signal import MOVING, STRUCK
from brass_pebble.engine.devices.chord_catcher import ChordCatcher
from brass_pebble.engine.devices.meeting import Meet
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.hot.filters import Filters
from brass_pebble.engine.ports import Ports
from brass_pebble.engine.setup import Setup

MS = 1_000_000


class BenchPresses:
    """Who holds what on the bench, and how far the class is."""

    filters: Filters
    chord_catcher: ChordCatcher
    meet: Meet
    devices: Devices
    setup: Setup

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        # A hold that several clients share lasts until the last of them lets go.
        self._held: dict[tuple[str, int], set[int]] = {}
        self._start = 0
        self._next = -1

    def press(self, holder: int, surface_id: str, code: int, down: bool, node: str = "",
              strength: int = FULL_STRENGTH) -> Trace | None:
        """A client (its number) or the class (0) presses a control of the bench; pads are struck with a strength."""
        key = (surface_id, code)
        holders = self._held.get(key)
        if down:
            if holders is not None:
                holders.add(holder)
                return None
            self._held[key] = {holder}
        else:
            if holders is None or holder not in holders:
                return None
            holders.discard(holder)
            if holders:
                return None
            del self._held[key]
        value = int(down) * (strength if STRUCK <= code < MOVING else 1)
        if code >= MOVING:
            # What has no key of its own is pressed by moving it to its end and back.
            self.move(surface_id, code, down)
            return None
        return self.filters.arrive(surface_id, code, value, self._ports.now(), node)

    def move(self, surface_id: str, signal: int, down: bool) -> None:
        """Move a control that is pressed by its position to its end, or back to its rest."""
        mover = self._ports.router.mover
        control = self._ports.desk.surfaces[surface_id].control_of(signal)
        if found := mover.raw_for(surface_id, control, 0, 1.0 if down else 0.0):
            self.filters.move(surface_id, *found, self._ports.now())

    def move_to(self, surface_id: str, control: str, places: list[float]) -> bool:
        """Move a control of the bench to a position, one number for each axis; false if it has none."""
        found = [self._ports.router.mover.raw_for(surface_id, control, axis, place)
                 for axis, place in enumerate(places)]
        for item in found:
            if item is not None:
                self.filters.move(surface_id, *item, self._ports.now())
        return any(found)

    def turn(self, surface_id: str, signal: int, steps: int) -> None:
        """Turn a wheel of the bench."""
        self.filters.move(surface_id, signal, steps, self._ports.now())

    def press_device(self, holder: int, facts: DeviceFacts, code: int, down: bool,
                     strength: int = FULL_STRENGTH) -> Trace | None:
        """A client presses a key of a device of the bench, whether it is a surface or not."""
        from brass_pebble.kinds.inputs.listening import Heard
        surface, now = self.devices.owner(facts.id), self._ports.now()
        second = self.setup.bench.doubled[facts.id].get(code)
        trace = None
        for node, key in (("", code), ("its second part", second)):
            if key is None:
                continue
            if self.chord_catcher.hear_bench(facts.id, key, int(down)):
                continue
            if surface:
                trace = self.press(holder, surface, key, down, node, strength) or trace
            else:
                self.meet.hear(facts, Heard(node, key, int(down), now))
        return trace

    def let_go(self, holder: int) -> None:
        """Release what a client or the class holds on the bench."""
        for (surface, code), who in list(self._held.items()):
            if holder in who:
                self.press(holder, surface, code, False)

    def start_script(self) -> None:
        """Play the class from its beginning."""
        self.stop_script()
        self._start, self._next = self._ports.now(), 0
        self._step(self._start)

    def stop_script(self) -> None:
        """End the class."""
        if self._next >= 0:
            self._next = -1
            self._ports.alarms.cancel("script")
            self.let_go(0)
            self.tell_script("")

    @property
    def script_running(self) -> bool:
        """Whether the class plays."""
        return self._next >= 0

    def _step(self, now: int) -> None:
        script = self.setup.script
        assert script is not None
        caption = None
        while self._next < len(script.cues):
            cue = script.cues[self._next]
            if self._start + cue.at > now:
                break
            self._next += 1
            caption = cue.says or caption
            surface = self._ports.desk.surfaces.get(cue.surface)
            code = surface.code_of(cue.control) if surface else None
            if cue.to is not None:
                self.move_to(cue.surface, cue.control, list(cue.to))
            elif code is not None and cue.turns:
                control = next(c for c in surface.layout.controls if c.id == cue.control) if surface else None
                if control is not None and control.moves:
                    self.turn(cue.surface, control.moves[0], cue.turns)
            elif code is not None:
                self.press(0, cue.surface, code, cue.down, strength=cue.strength)
        if caption is not None:
            self.tell_script(caption)
        if self._next < len(script.cues):
            due = self._start + script.cues[self._next].at
        else:
            due = self._start + script.length
            if due <= now:
                self.stop_script()
                return
        self._ports.alarms.at("script", due, self._step)

    def tell_script(self, caption: str) -> None:
        """Tell clients how far the class is."""
        script = self.setup.script
        if script is not None and self._ports.publisher.wanted("script"):
            self._ports.publisher.publish("script", {
                "running": self.script_running, "name": script.name, "caption": caption,
                "at_ms": (self._ports.now() - self._start) / MS, "length_ms": script.length / MS})
