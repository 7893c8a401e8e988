"""What the screen knows of the engine, kept up to date by its news.  No widgets here."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Iterable

from msgspec.structs import replace

from brass_pebble.core.desk.look.drawn import BindingRow, ControlRow, LabelsRow, LayerRow, SurfaceRow
from brass_pebble.core.desk.look.shown import show_controls
from brass_pebble.core.play.told import TraceRow
from brass_pebble.core.say.limits import fill_label
from brass_pebble.protocol import topics
from brass_pebble.protocol.base import News
from brass_pebble.protocol.desk import WholeDesk
from brass_pebble.protocol.devices import Devices
from brass_pebble.protocol.rows import DeskRow, HandsOffRow, LayersRow, ProblemRow, RecorderRow, StageRow
from brass_pebble.protocol.voice import VoiceRow

from .outside import Letters

Spot = tuple[str, str]  # surface id, control id
KEPT = 200
LIVE = ("playing", "holding", "queued")
# Before anything is known.
NO_DESK = DeskRow(name="", folder="", output="", surfaces=[], stage=[], macros=[], broken_macros={}, hold_after_ms=0.0,
                  second_within_ms=0.0, history=False, settings={}, undo="", sends=True, script="", question="",
                  recorder=RecorderRow(state="idle", surface="", control="", keyboard=False),
                  hands_off=HandsOffRow(surfaces={}))


# What is gone meanwhile, or not known yet.
NO_BINDING = BindingRow()
NO_CONTROL = ControlRow(id="", code=0, x=0.0, y=0.0, w=1.0, h=1.0, legend="")
NO_LAYER = LayerRow(id="", name="", tint="", on=False, why="", starts="off", follows=None, bindings=[])
NO_SURFACE = SurfaceRow(
    id="", name="", at=[0.0, 0.0], labels=LabelsRow(cap="", sizes={}), home=[], layout="", layers=[], controls=[],
    unbound="swallow", unplugged="", settings={}, hold_after_ms=0.0, second_within_ms=0.0, debounce_ms=0.0, lamps={},
    takes=[], second=[], trial=False, device="", where="", known_by=[], has_lamps=[], ask=[], chatter=None, bench=False,
    state="missing", why="")


class Known:
    """The engine's desk, stage, traces and lights."""

    def __init__(self) -> None:
        # As the engine told it, and with the kept values that labels name.
        self._told = NO_DESK
        self._filled: DeskRow | None = None
        self.programs: list[StageRow] = []
        self.problems: list[ProblemRow] = []
        self.traces: deque[TraceRow] = deque(maxlen=KEPT)
        self.down: set[Spot] = set()
        # When each control was last pressed on this screen, in s since 1970.
        self.pressed_here: dict[Spot, float] = {}
        # Where what moves is: 0 to 1, or -1 to 1 where it rests in the middle, for each of its axes.
        self.at: dict[Spot, list[float]] = {}
        self.raw: dict[Spot, list[float]] = {}
        self.script = topics.ScriptNews(running=False, name="", caption="", at_ms=0.0, length_ms=0.0)
        self.devices = topics.DevicesNews(devices=[], left_ms=0.0, main_known=True, pulled=[])
        self.layers = LayersRow(on={}, cycles=[], window=None, pinned=False, follows=False, source="", trouble="")
        # Values that macros keep, as text.
        self.values: dict[str, str] = {}
        # Microphones of the desk.
        self.voices: list[VoiceRow] = []
        # Surfaces that the screen presses though they are real, since the person said so.
        self.by_hand: set[str] = set()
        # How labels stand on caps.
        self.letters: Letters = "by room"
        # Whether the tour of the first time is shown, and whether everything was stopped once on this screen.
        self.tour = False
        self.stopped = False
        self.connected = False
        # The engine is not ready yet.
        self.starting = False
        self.missed = 0
        self.last_press = 0.0
        self._live: dict[int, TraceRow] = {}
        # When each live trace was seen first, in s of the monotonic clock.
        self._seen: dict[int, float] = {}

    @property
    def desk(self) -> DeskRow:
        """The desk; where a label names a value that macros keep, with that value."""
        if self._filled is None:
            self._filled = replace(self._told, surfaces=[_filled(row, self.values) for row in self._told.surfaces])
        return self._filled

    @desk.setter
    def desk(self, desk: DeskRow) -> None:
        self._told, self._filled = desk, None

    def take_snapshot(self, reply: WholeDesk, traces: Iterable[TraceRow]) -> None:
        """Begin again with what the engine says now."""
        self.desk, self.problems, self.programs = reply.desk, reply.problems, reply.programs
        self.layers, self.values, self.voices = reply.layers, reply.values, reply.voices
        self.at = {(surface, control): at for surface, control, at in reply.at}
        self.down = set(reply.down)
        self.traces.clear()
        self._live.clear()
        self._seen.clear()
        for trace in traces:
            self.take_trace(trace)

    def take(self, news: News) -> set[Spot]:
        """Take in news; returns the controls that look different now."""
        match news:
            case topics.PressNews():
                return self._take_press(news.keys)
            case topics.MovesNews():
                for surface, control, at, raw in news.at:
                    self.at[surface, control], self.raw[surface, control] = at, raw
                return {(surface, control) for surface, control, *_ in news.at}
            case topics.TraceNews():
                return self.take_trace(news.trace)
            case topics.DeskNews():
                self.desk = news.desk
            case topics.StageNews():
                self.programs = news.programs
            case topics.ProblemNews():
                self.problems = news.problems
            case topics.DevicesNews():
                self.devices = news
            case topics.RecorderNews():
                self.desk = replace(self._told, recorder=news)
            case topics.HandsOffNews():
                self.take_hands_off(news)
            case topics.ScriptNews():
                self.script = news
            case topics.LayersNews():
                return self._take_layers(news)
            case topics.ValuesNews():
                return self._take_values(news.values)
            case topics.VoiceNews():
                self.voices = news.voices
            case topics.MissedNews():
                self.missed += news.count
        return set()

    @property
    def mic_lamp(self) -> str:
        """Which microphones are read now, and whether what is said counts; empty if none is."""
        read = [voice for voice in self.voices if voice.reads]
        if met := self.devices.open_microphones:
            return f"◖ hears: {met[0] if len(met) == 1 else f'{len(met)} microphones'}, to meet one"
        if not read:
            return ""
        if kept := next((voice.name for voice in read if voice.recording is not None and voice.recording.records), ""):
            return f"● records: {kept}"
        counts = any(voice.on for voice in read)
        names = read[0].name if len(read) == 1 else f"{len(read)} microphones"
        return f"◖ hears: {names}{'' if counts else ', phrases off'}"

    def move_surface(self, surface_id: str, at: list[float]) -> None:
        """Draw a surface at another place; the engine does not know of it yet."""
        self.desk = replace(self._told, surfaces=[replace(surface, at=at) if surface.id == surface_id else surface
                                                  for surface in self._told.surfaces])

    def take_devices(self, reply: Devices) -> None:
        """The devices that are here, as they were asked for."""
        self.devices = topics.DevicesNews(devices=reply.devices, left_ms=reply.left_ms, main_known=reply.main_known,
                                          pulled=reply.pulled, open_microphones=reply.open_microphones)

    def take_hands_off(self, row: HandsOffRow) -> None:
        """Which surfaces' presses only select, from now on."""
        self.desk = replace(self._told, hands_off=row)

    def _take_layers(self, news: LayersRow) -> set[Spot]:
        """Layers went on or off: what controls show is worked out here, the engine has better things to do."""
        self.layers = news
        surfaces = [_switched(surface, news.on.get(surface.id, {})) for surface in self._told.surfaces]
        self.desk = replace(self._told, surfaces=surfaces)
        return {(surface.id, control.id) for surface in surfaces for control in surface.controls}

    def _take_values(self, values: dict[str, str]) -> set[Spot]:
        """Kept values have changed: caps that show one look different."""
        before, self.values = self.values, {**dict.fromkeys(self.values, ""), **values}
        self._filled = None
        changed = {name for name in self.values if self.values[name] != before.get(name)}
        return {(surface.id, control.id) for surface in self._told.surfaces for control in surface.controls
                if any(f"{{{name}}}" in control.label for name in changed)}

    def cycle_at(self, surface: str, row: BindingRow) -> int:
        """Which action of a cycle comes next, from 0."""
        place = (surface, row.layer, row.control, row.gesture)
        return next((at for *where, at in self.layers.cycles if tuple(where) == place), 0)

    def latched(self, surface: str) -> set[str]:
        """The controls of a surface that hold a chord latched down."""
        return {trace.control for trace in self._live.values()
                if trace.surface == surface and trace.action == "latch" and trace.state == "holding"}

    def _take_press(self, keys: Iterable[tuple[str, str, int]]) -> set[Spot]:
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

    def take_trace(self, trace: TraceRow) -> set[Spot]:
        """A new trace, or a known one that has gone on."""
        if trace.state in LIVE:
            self._seen.setdefault(trace.id, time.monotonic())
            self._live[trace.id] = trace
        else:
            self._live.pop(trace.id, None)
            self._seen.pop(trace.id, None)
        for index in range(len(self.traces) - 1, -1, -1):
            if self.traces[index].id == trace.id:
                self.traces[index] = trace
                break
        else:
            self.traces.append(trace)
        return {(trace.surface, trace.control)}

    def playing(self, spot: Spot) -> TraceRow | None:
        """The latest trace of a control that still plays."""
        found = None
        for trace in self._live.values():
            if (trace.surface, trace.control) == spot:
                found = trace
        return found

    def live(self) -> list[TraceRow]:
        """All traces that still play."""
        return list(self._live.values())

    def since(self, trace: TraceRow) -> float:
        """For how long a live trace has been known here, in s."""
        return time.monotonic() - self._seen.get(trace.id, time.monotonic())

    def hands_off(self) -> str:
        """Which surfaces hands are off, in words; empty while all command."""
        names = self.desk.hands_off.surfaces
        if not names:
            return ""
        if len(names) == len(self.desk.surfaces):
            return "HANDS OFF"
        return "HANDS OFF " + ", ".join(s.name for s in self.desk.surfaces if s.id in names)

    def forget_live(self) -> None:
        """The engine has gone: nothing plays and nothing is down."""
        self._live.clear()
        self._seen.clear()
        self.down.clear()

    def surface(self, surface_id: str) -> SurfaceRow | None:
        """A surface by its id."""
        return next((s for s in self.desk.surfaces if s.id == surface_id), None)

    def control(self, spot: Spot) -> ControlRow | None:
        """A control by surface and control id."""
        surface = self.surface(spot[0])
        return next((c for c in surface.controls if c.id == spot[1]), None) if surface else None

    def last_trace_of(self, spot: Spot) -> TraceRow | None:
        """The latest trace of a control."""
        return next((t for t in reversed(self.traces) if (t.surface, t.control) == spot), None)


def _switched(surface: SurfaceRow, on: dict[str, str]) -> SurfaceRow:
    """A surface with these layers on, and why."""
    if on == {layer.id: layer.why for layer in surface.layers if layer.on}:
        return surface
    layers = [replace(layer, why=on.get(layer.id, ""), on=bool(on.get(layer.id))) for layer in surface.layers]
    return replace(surface, layers=layers, controls=show_controls(surface.controls, layers))


def _filled(surface: SurfaceRow, values: dict[str, str]) -> SurfaceRow:
    if not any("{" in control.label for control in surface.controls):
        return surface
    return replace(surface, controls=[replace(control, label=fill_label(control.label, values))
                                      for control in surface.controls])
