"""What clients hear of presses: collected while effects leave, put into words and told afterwards.

Never at once: the program that a press was for runs first, then the account of it is put together.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import Any

from brass_pebble.core.effects.pointer import HIDDEN
from brass_pebble.core.play.bounce import BounceWatch, Chatter
from brass_pebble.core.play.player import Effect, Player, Run
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.durations import say_duration
from brass_pebble.core.signals.signal import STRUCK
from brass_pebble.engine.ports import ControlTold, Ports, TracesTold
from brass_pebble.kinds.outputs.base import Output, Reacts

MS = 1_000_000
TELL_AFTER = 2 * MS
TELL_EVERY = 25 * MS
STEP_IS_NEAR = MS // 2
TELL_AT_LATEST = 60 * MS
KEPT_TRACES = 500
# In place of what a program says of the keys of a secret.
HIDDEN_REACTION = "received keys of a secret"


class News:
    """`unnoted` are effects sent and not yet in their traces; `fresh` traces not yet told; `lit` controls that went
    down or up: surface, code, value, arrival.  `due` is when to tell next, in ns, or None."""

    layer_rows: Callable[[], dict[str, Any]]
    stage_rows: Callable[[Reacts], list[dict[str, Any]]]

    def __init__(self, ports: Ports, player: Player, output: Output) -> None:
        self._ports, self._player = ports, player
        self._stage = output.ability(Reacts)
        # Who else wants to know: of a control that went down or up, of traces that changed, of layers, of a switch
        # that bounces (surface, how).
        self.on_control: list[ControlTold] = []
        self.on_traces: list[TracesTold] = []
        self.on_layers: list[Callable[[], object]] = []
        self.on_chatter: list[Callable[[str, Chatter], object]] = []
        self.history: deque[Trace] = deque()
        self.unnoted: list[tuple[int, list[Effect]]] = []
        self.fresh: list[Trace] = []
        self.lit: list[tuple[str, int, int, int]] = []
        self.due: int | None = None
        self._touched: dict[int, Trace] = {}
        self._bounces: dict[str, BounceWatch] = {}
        self._told = 0
        self._layers_told = -1

    def touch(self, trace: Trace) -> None:
        """A trace has changed: clients are told of it."""
        self._touched[trace.id] = trace

    def run_ended(self, run: Run) -> None:
        """A run's trace says how it ended."""
        trace = run.owner
        if isinstance(trace, Trace):
            trace.run = run
            trace.state = run.state
            if run.trouble:
                trace.why = run.trouble
            if run.stood:
                trace.remark(f"the computer was suspended or busy for {say_duration(run.stood)}; it went on from there")
            self._touched[trace.id] = trace

    def start_dropped(self, owner: object) -> None:
        """A press that waited for the run before it to end will not be played."""
        if isinstance(owner, Trace):
            owner.state, owner.why = "nothing", "it waited for the run before it, and that was stopped"
            self._touched[owner.id] = owner

    def book(self) -> None:
        """At the end of each round of the loop: set the time of telling, if there is anything to tell."""
        if self.due is None and (self.unnoted or self.fresh or self.lit or self._touched or self._stage_changed()
                                 or self._ports.router.mover.told
                                 or self._layers_told != self._ports.router.layers.version):
            self.due = max(self._ports.now() + TELL_AFTER, self._told + TELL_EVERY)

    def drop_effects(self) -> None:
        """After an error: nothing is known of what was about to be noted."""
        self.unnoted, self.due = [], None

    def _stage_changed(self) -> bool:
        stage = self._stage
        return stage is not None and (stage.changed or bool(stage.reactions))

    def note(self) -> None:
        """Bring the traces up to date with what was sent and what came of it."""
        unnoted, self.unnoted = self.unnoted, []
        for at, effects in unnoted:
            for code, value, planned, run in effects:
                trace = run.owner
                if isinstance(trace, Trace):
                    if trace.run is None:
                        trace.run, trace.state, trace.why = run, "playing", ""
                    trace.note_sent(HIDDEN if run.timetable.secret else code, value, planned, at)
                    if trace.count <= 8:
                        self._touched[trace.id] = trace
        fresh, self.fresh = self.fresh, []
        fresh.sort(key=lambda trace: trace.id)
        for trace in fresh:
            self._touched[trace.id] = trace
            if not self.history or self.history[-1].id < trace.id:
                self._remember(trace)
        stage = self._stage
        if stage is not None and stage.reactions:
            for reaction in stage.reactions:
                cause = reaction.cause if isinstance(reaction.cause, Run) else None
                owner = cause.owner if cause is not None else None
                if cause is not None and isinstance(owner, Trace):
                    # What a program makes of the keys of a secret would spell it.
                    text = HIDDEN_REACTION if cause.timetable.secret else reaction.text
                    owner.note_reaction(reaction.program, text, reaction.at, reaction.good)
                    self._touched[owner.id] = owner
            stage.reactions.clear()

    def _remember(self, trace: Trace) -> None:
        self.history.append(trace)
        while len(self.history) > KEPT_TRACES:
            old = self.history.popleft()
            if old.run is not None:
                # Breaks the circle of trace and run, so that both are freed at once.
                old.run.owner = None

    def tell(self, now: int) -> None:
        """Tell clients, unless a step is about to be due."""
        due = self._player.next_deadline()
        if due is not None and 0 < due - now < STEP_IS_NEAR and now - self._told < TELL_AT_LATEST:
            self.due = due + 1
            return
        self._told, self.due = now, None
        self.note()
        lit, self.lit = self.lit, []
        self._watch_bounces(lit)
        for surface_id, code, value, at in lit:
            for told in self.on_control:
                told(surface_id, code, value, at)
        touched, self._touched = self._touched, {}
        server = self._ports.publisher
        if lit and server.wanted("press"):
            surfaces = self._ports.desk.surfaces
            server.publish("press", {"keys": [
                [surface, surfaces[surface].control_of(code), value]
                for surface, code, value, _ in lit if surface in surfaces]})
        if touched and server.wanted("trace"):
            for trace in touched.values():
                server.publish("trace", {"trace": trace.told(self._ports.wall_offset())})
        self._tell_positions()
        self._tell_layers()
        for tell in self.on_traces:
            tell(touched.values())
        stage = self._stage
        if stage is not None and stage.changed:
            stage.changed = False
            if server.wanted("stage"):
                server.publish("stage", {"programs": self.stage_rows(stage)})

    def _tell_positions(self) -> None:
        """Where things are that have moved: the latest of each, however often it was."""
        mover = self._ports.router.mover
        told, mover.told = mover.told, {}
        if told and self._ports.publisher.wanted("moves"):
            self._ports.publisher.publish("moves", {"at": [[surface, control, [round(value, 4) for value in at],
                                                          mover.raw(surface, control)]
                                                         for (surface, control), at in told.items()]})

    def _tell_layers(self) -> None:
        version = self._ports.router.layers.version
        if version != self._layers_told:
            self._layers_told = version
            for call in self.on_layers:
                call()
            if self._ports.publisher.wanted("layers"):
                self._ports.publisher.publish("layers", self.layer_rows())

    def _watch_bounces(self, lit: list[tuple[str, int, int, int]]) -> None:
        for surface_id, code, value, arrived in lit:
            if code >= STRUCK:
                # Only switches bounce; steps of a knob come close together by themselves.
                continue
            watch = self._bounces.get(surface_id)
            if watch is None:
                watch = self._bounces[surface_id] = BounceWatch()
            if chatter := watch.feed(code, value, arrived):
                for tell in self.on_chatter:
                    tell(surface_id, chatter)
