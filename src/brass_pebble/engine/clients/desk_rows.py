"""The desk as clients draw it, put together once: what did not change is not written again for every change.

On a large desk that is the difference between an edit that is felt by a running macro and one that is not.
"""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from msgspec import Raw, to_builtins

from brass_pebble.core.desk.look.rows import control_row, label_rows, layer_row, macro_rows, phrase_row
from brass_pebble.core.desk.look.shown import show_controls
from brass_pebble.core.desk.model import Desk, Surface
from brass_pebble.core.devices.parts import taker
from brass_pebble.core.play.bounce import Chatter
from brass_pebble.core.say.memo import Memo
from brass_pebble.core.say.setting import write_all
from brass_pebble.core.signals.signal import STRUCK, signal_name
from brass_pebble.core.voice.listening import write_listening
from brass_pebble.engine.devices.focus import Focus
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.devices.set_aside import SetAside
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.ports import Ports
from brass_pebble.engine.runs.recorder import Recorder
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.outputs.base import Reacts
from brass_pebble.protocol.wire import raw

from .server import Message

if TYPE_CHECKING:
    from brass_pebble.engine.devices.ownership import Holding

MS = 1_000_000


class DeskRows:
    """Writes rows for an engine."""

    store: DeskStore
    setup: Setup
    devices: Devices
    recorder: Recorder
    aside: SetAside
    focus: Focus
    sends_nothing = False

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        # A surface's layers and controls as JSON, without the braces; and all macros.
        self._written: Memo[str, str] = Memo()
        self._macros: Memo[str, Raw] = Memo()

    def desk(self) -> Message:
        """The desk as clients draw it."""
        desk = self._ports.desk
        return {
            "name": desk.name, "folder": str(self.store.folder), "output": desk.output,
            "surfaces": [self._surface(surface) for surface in desk.surfaces.values()],
            "stage": [{"program": place.program, "at": place.at, "size": place.size} for place in desk.stage],
            "macros": self._macro_rows(desk),
            "broken_macros": desk.broken_macros,
            "hold_after_ms": desk.hold_after / MS, "second_within_ms": desk.second_within / MS,
            "history": desk.history, "settings": write_all(desk), "undo": self.store.next_undo(),
            "sends": not self.sends_nothing,
            "script": self.setup.script.name if self.setup.script else "",
            "question": self.devices.question(), "recorder": self.recorder.state(),
            "hands_off": self.aside.state(),
        }

    def stage(self, output: Reacts) -> list[Message]:
        """The stage's programs as they are."""
        return [{"id": name, "name": program.name, "what": program.what, "panels": program.panels,
                 "state": program.values, "window": program.window, "opening": program.opening,
                 "focused": name == output.focused}
                for name, program in output.programs.items()]

    def layers(self) -> Message:
        """Which layers are on and why, where cycles stand, and the window that has the focus."""
        layers = self._ports.router.layers
        window, cycles = layers.window, self._ports.router.cycles(self._ports.now())
        return {"on": {surface.id: {layer.id: why for layer in surface.layers if (why := layers.why(surface, layer.id))}
                       for surface in self._ports.desk.surfaces.values()},
                "cycles": cycles, "window": {"class": window.cls, "title": window.title, "shown": window.shown}
                if window else None, "pinned": layers.pinned, "follows": self.focus.wanted(),
                "source": self.focus.source, "trouble": self.focus.trouble}

    def _macro_rows(self, desk: Desk) -> Raw:
        known = self._macros.find("", desk.macros)
        if known is None:
            known = self._macros.keep("", desk.macros, raw(macro_rows(desk)))
        return known

    def _surface(self, surface: Surface) -> Raw:
        holding = self.devices.holdings.get(surface.id)
        fields = {
            "id": surface.id, "name": surface.name, "at": surface.at, "unbound": surface.unbound,
            "settings": {**write_all(surface), **({"takes": [*map(str, surface.takes)]} if surface.takes else {})},
            "labels": to_builtins(label_rows(surface)), "home": list(surface.home),
            "hold_after_ms": surface.hold_after / MS, "second_within_ms": surface.second_within / MS,
            "lamps": dict(surface.lamps), "layout": surface.layout.id, "debounce_ms": surface.debounce / MS,
            "takes": [str(part) for part in surface.takes],
            "phrases": [to_builtins(phrase_row(phrase)) for phrase in surface.phrases],
            "listening": write_listening(surface.listening) if surface.phrases else {},
            "pronounced": {word: " ".join(sounds) for word, sounds in surface.pronounced},
            "unplugged": surface.unplugged, "second": [signal_name(code) for code in surface.second],
            "trial": surface.id in self.devices.ways.trials, **self._held(surface, holding)}
        return Raw(f"{_json(fields)[:-1]},{self._bound(surface, holding)}}}".encode("utf-8", "replace"))

    def _held(self, surface: Surface, holding: Holding | None) -> Message:
        """What is known of the surface's device."""
        if holding is None:
            return {"device": "", "where": "", "known_by": [], "has_lamps": [], "ask": [], "chatter": None,
                    "bench": False, "state": "missing", "why": ""}
        source = holding.source
        return {"device": holding.parts[0].shown if source else "", "where": holding.parts[0].where if source else "",
                "known_by": list(holding.reasons), "has_lamps": list(source.facts.lamps) if source else [],
                "ask": [{"device": facts.id, "shown": facts.shown, "where": facts.where} for facts in holding.ask],
                "chatter": _chatter(surface, holding.chatter) if holding.chatter else None,
                "bench": bool(source and self.devices.kind_of(source.facts).simulated), "state": holding.state,
                "why": holding.why}

    def _bound(self, surface: Surface, holding: Holding | None) -> str:
        """Its layers and controls, as they were written before if none of it changed."""
        desk, layers = self._ports.desk, self._ports.router.layers
        knows = [part.codes for part in holding.parts if part.codes] if holding else []
        absent = frozenset(control.id for control in surface.layout.controls if knows and control.code < STRUCK
                           and not any(control.code in codes for codes in knows))
        whys = tuple(layers.why(surface, layer.id) for layer in surface.layers)
        made_from = (surface, whys, absent, desk.middle_c, *_macros(desk, surface.plays))
        if (known := self._written.find(surface.id, made_from)) is not None:
            return known
        takes = taker(surface.takes, surface.layout, None)
        passes = {control.id for control in surface.layout.controls
                  if not any(takes(signal) for signal in (control.code, *control.moves))}
        rows = [layer_row(desk, layer, why) for layer, why in zip(surface.layers, whys, strict=True)]
        controls = [control_row(desk, surface, control, absent=control.id in absent, passes=control.id in passes)
                    for control in surface.layout.controls]
        written = bytes(raw({"layers": rows, "controls": show_controls(controls, rows)})).decode()
        return self._written.keep(surface.id, made_from, written[1:-1])


def _macros(desk: Desk, plays: tuple[str, ...]) -> tuple[object, ...]:
    """What bindings show of the macros that they play."""
    macros = desk.macros
    return tuple((found.name, found.label, found.tint) if (found := macros.get(name)) else None for name in plays)


def _json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, separators=(",", ":"))


def _chatter(surface: Surface, chatter: Chatter) -> Message | None:
    if surface.debounce:
        return None
    return {"control": surface.control_of(chatter.code), "times": chatter.times, "presses": chatter.presses,
            "offer": f"{chatter.offer // MS}ms"}
