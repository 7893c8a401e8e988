"""What the screen knows of the engine, kept up to date by its news.  No widgets here."""

from __future__ import annotations

import time
from collections import deque
from typing import Any

from brass_pebble.core.desk.look.shown import fill, show_surface

Row = dict[str, Any]
Spot = tuple[str, str]  # surface id, control id
KEPT = 200
LIVE = ("playing", "holding", "queued")


class DeskState:
    """The engine's desk, stage, traces and lights."""

    def __init__(self) -> None:
        self.desk: Row = {"name": "", "surfaces": [], "stage": [], "macros": [], "output": "", "undo": "",
                          "script": "", "folder": "", "broken_macros": {}, "sends": True}
        self.programs: list[Row] = []
        self.problems: list[Row] = []
        self.traces: deque[Row] = deque(maxlen=KEPT)
        self.down: set[Spot] = set()
        # Where what moves is: 0 to 1, or -1 to 1 where it rests in the middle, for each of its axes.
        # When each control was last pressed on this screen, in s since 1970.
        self.pressed_here: dict[Spot, float] = {}
        self.at: dict[Spot, list[float]] = {}
        self.raw: dict[Spot, list[int]] = {}
        self.script: Row = {"running": False, "caption": ""}
        self.devices: Row = {"devices": [], "left_ms": 0.0, "main_known": True, "pulled": []}
        self.layers: Row = {"on": {}, "cycles": [], "window": None, "pinned": False, "follows": False, "source": "",
                            "trouble": ""}
        self.chord: Row = {"state": "", "chord": "", "down": []}
        self.connected = False
        # The engine is not ready yet.
        self.starting = False
        self.missed = 0
        self.last_press = 0.0
        self._live: dict[int, Row] = {}

    def take_snapshot(self, reply: Row, traces: list[Row]) -> None:
        """Begin anew with what the engine says now."""
        self.desk, self.problems, self.programs = reply["desk"], reply["problems"], reply["programs"]
        fill(self.desk)
        self.layers = reply["layers"]
        self.at = {(surface, control): list(at) for surface, control, at in reply.get("at", [])}
        self.down = {(surface, control) for surface, control in reply["down"]}
        self.traces.clear()
        self._live.clear()
        for trace in traces:
            self.take_trace(trace)

    def take(self, message: Row) -> set[Spot]:
        """Take in news; returns the controls that look different now."""
        topic = message["topic"]
        if topic == "press":
            return self._take_press(message["keys"])
        if topic == "moves":
            for surface, control, at, raw in message["at"]:
                self.at[surface, control], self.raw[surface, control] = at, raw
            return {(surface, control) for surface, control, *_ in message["at"]}
        if topic == "trace":
            return self.take_trace(message["trace"])
        if topic == "desk":
            self.desk = message["desk"]
            fill(self.desk)
        elif topic == "stage":
            self.programs = message["programs"]
        elif topic == "problem":
            self.problems = message["problems"]
        elif topic == "devices":
            self.devices = message
        elif topic in ("recorder", "hands_off"):
            self.desk[topic] = message
        elif topic == "script":
            self.script = message
        elif topic == "layers":
            return self._take_layers(message)
        elif topic == "chord":
            self.chord = message
        elif topic == "missed":
            self.missed += message["count"]
        return set()

    def _take_layers(self, message: Row) -> set[Spot]:
        """Layers went on or off: what controls show is worked out here, the engine has better things to do."""
        self.layers = message
        changed = set()
        for surface in self.desk["surfaces"]:
            on = message["on"].get(surface["id"], {})
            if on != {layer["id"]: layer["why"] for layer in surface["layers"] if layer["on"]}:
                for layer in surface["layers"]:
                    layer["why"] = on.get(layer["id"], "")
                    layer["on"] = bool(layer["why"])
                show_surface(surface)
            changed |= {(surface["id"], control["id"]) for control in surface["controls"]}
        return changed

    def cycle_at(self, surface: str, row: Row) -> int:
        """Which action of a cycle comes next, from 0."""
        place = [surface, row["layer"], row["control"], row["gesture"]]
        return next((at for *where, at in self.layers["cycles"] if where == place), 0)

    def latched(self, surface: str) -> set[str]:
        """The controls of a surface that hold a chord latched down."""
        return {trace["control"] for trace in self._live.values()
                if trace["surface"] == surface and trace["action"] == "latch" and trace["state"] == "holding"}

    def _take_press(self, keys: list[list[Any]]) -> set[Spot]:
        changed = set()
        for surface, control, value in keys:
            spot = (surface, control)
            changed.add(spot)
            if value:
                self.down.add(spot)
                self.last_press = time.monotonic()
            else:
                self.down.discard(spot)
        return changed

    def take_trace(self, trace: Row) -> set[Spot]:
        """A new trace, or a known one that has gone on."""
        if trace["state"] in LIVE:
            known = self._live.get(trace["id"])
            trace["seen"] = known["seen"] if known else time.monotonic()
            self._live[trace["id"]] = trace
        else:
            self._live.pop(trace["id"], None)
        for index in range(len(self.traces) - 1, -1, -1):
            if self.traces[index]["id"] == trace["id"]:
                self.traces[index] = trace
                break
        else:
            self.traces.append(trace)
        return {(trace["surface"], trace["control"])}

    def playing(self, spot: Spot) -> Row | None:
        """The latest trace of a control that still plays."""
        found = None
        for trace in self._live.values():
            if (trace["surface"], trace["control"]) == spot:
                found = trace
        return found

    def live(self) -> list[Row]:
        """All traces that still play."""
        return list(self._live.values())

    def hands_off(self) -> str:
        """Which surfaces hands are off, in words; empty while all command."""
        names = self.desk.get("hands_off", {}).get("surfaces", {})
        if not names:
            return ""
        if len(names) == len(self.desk["surfaces"]):
            return "HANDS OFF"
        return "HANDS OFF " + ", ".join(s["name"] for s in self.desk["surfaces"] if s["id"] in names)

    def forget_live(self) -> None:
        """The engine has gone: nothing plays and nothing is down."""
        self._live.clear()
        self.down.clear()

    def surface(self, surface_id: str) -> Row | None:
        """A surface by its id."""
        return next((s for s in self.desk["surfaces"] if s["id"] == surface_id), None)

    def control(self, spot: Spot) -> Row | None:
        """A control by surface and control id."""
        surface = self.surface(spot[0])
        return next((c for c in surface["controls"] if c["id"] == spot[1]), None) if surface else None

    def last_trace_of(self, spot: Spot) -> Row | None:
        """The latest trace of a control."""
        return next((t for t in reversed(self.traces) if (t["surface"], t["control"]) == spot), None)
