"""What clients hear of presses: collected while effects leave, put into words and told afterwards.

Never at once: the program that a press was for runs first, then the account of it is put together.
"""

from __future__ import annotations

import time
from collections import deque
from typing import TYPE_CHECKING

from brass_pebble.core.effects.pointer import HIDDEN
from brass_pebble.core.play.bounce import BounceWatch
from brass_pebble.core.play.player import Effect, Run
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.durations import say_duration
from brass_pebble.core.signals.signal import STRUCK
from brass_pebble.kinds.outputs.stage import StageOutput

if TYPE_CHECKING:
    from brass_pebble.engine.engine import Engine

MS = 1_000_000
TELL_AFTER = 2 * MS
TELL_EVERY = 25 * MS
STEP_IS_NEAR = MS // 2
TELL_AT_LATEST = 60 * MS
KEPT_TRACES = 500


class News:
    """`unnoted` are effects sent and not yet in their traces; `fresh` traces not yet told; `lit` controls that went
    down or up: surface, code, value, arrival.  `due` is when to tell next, in ns, or None."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
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
                trace.remark(f"the computer stood still for {say_duration(run.stood)}; it went on from there")
            self._touched[trace.id] = trace

    def start_dropped(self, owner: object) -> None:
        """A press that waited for the run before it to end will not be played."""
        if isinstance(owner, Trace):
            owner.state, owner.why = "nothing", "it waited for the run before it, and that was stopped"
            self._touched[owner.id] = owner

    def book(self) -> None:
        """At the end of each round of the loop: set the time of telling, if there is anything to tell."""
        if self.due is None and (self.unnoted or self.fresh or self.lit or self._touched or self._stage_changed()
                                 or self._engine.router.mover.told
                                 or self._layers_told != self._engine.router.layers.version):
            self.due = max(time.monotonic_ns() + TELL_AFTER, self._told + TELL_EVERY)

    def drop_effects(self) -> None:
        """After an error: nothing is known of what was about to be noted."""
        self.unnoted, self.due = [], None

    def _stage_changed(self) -> bool:
        output = self._engine.output
        return isinstance(output, StageOutput) and (output.changed or bool(output.reactions))

    def note(self) -> None:
        """Bring the traces up to date with what was sent and what came of it."""
        unnoted, self.unnoted = self.unnoted, []
        for at, effects in unnoted:
            for code, value, planned, run in effects:
                trace = run.owner
                if isinstance(trace, Trace):
                    if trace.run is None:
                        trace.run, trace.state, trace.why = run, "playing", ""
                    trace.note_sent(HIDDEN if run.program.secret else code, value, planned, at)
                    if trace.count <= 8:
                        self._touched[trace.id] = trace
        fresh, self.fresh = self.fresh, []
        fresh.sort(key=lambda trace: trace.id)
        for trace in fresh:
            self._touched[trace.id] = trace
            if not self.history or self.history[-1].id < trace.id:
                self._remember(trace)
        output = self._engine.output
        if isinstance(output, StageOutput) and output.reactions:
            for reaction in output.reactions:
                owner = reaction.cause.owner if isinstance(reaction.cause, Run) else None
                if isinstance(owner, Trace):
                    owner.note_reaction(reaction.program, reaction.text, reaction.at, reaction.good)
                    self._touched[owner.id] = owner
            output.reactions.clear()

    def _remember(self, trace: Trace) -> None:
        self.history.append(trace)
        while len(self.history) > KEPT_TRACES:
            old = self.history.popleft()
            if old.run is not None:
                # Breaks the circle of trace and run, so that both are freed at once.
                old.run.owner = None

    def tell(self, now: int) -> None:
        """Tell clients, unless a step is about to be due."""
        engine = self._engine
        due = engine.player.next_deadline()
        if due is not None and 0 < due - now < STEP_IS_NEAR and now - self._told < TELL_AT_LATEST:
            self.due = due + 1
            return
        self._told, self.due = now, None
        self.note()
        lit, self.lit = self.lit, []
        self._watch_bounces(lit)
        for surface_id, code, value, at in lit:
            engine.grips.press(surface_id, code, value, at)
        touched, self._touched = self._touched, {}
        server = engine.server
        if lit and server.wanted("press"):
            surfaces = engine.desk.surfaces
            server.publish("press", {"keys": [
                [surface, surfaces[surface].control_of(code), value]
                for surface, code, value, _ in lit if surface in surfaces]})
        if touched and server.wanted("trace"):
            for trace in touched.values():
                server.publish("trace", {"trace": trace.as_dict(engine.wall_offset)})
        self._tell_positions()
        self._tell_layers()
        engine.answers.follow(touched.values())
        engine.historian.note(touched.values())
        output = engine.output
        if isinstance(output, StageOutput) and output.changed:
            output.changed = False
            if server.wanted("stage"):
                server.publish("stage", {"programs": engine.requests.stage_state(output)})

    def _tell_positions(self) -> None:
        """Where things are that have moved: the latest of each, however often it was."""
        mover = self._engine.router.mover
        told, mover.told = mover.told, {}
        if told and self._engine.server.wanted("moves"):
            self._engine.server.publish("moves", {"at": [[surface, control, [round(value, 4) for value in at],
                                                          mover.raw(surface, control)]
                                                         for (surface, control), at in told.items()]})

    def _tell_layers(self) -> None:
        engine = self._engine
        version = engine.router.layers.version
        if version != self._layers_told:
            self._layers_told = version
            for surface_id in engine.devices.holdings:
                engine.devices.show_lamps(surface_id)
            if engine.server.wanted("layers"):
                engine.server.publish("layers", engine.requests.layers_state())

    def _watch_bounces(self, lit: list[tuple[str, int, int, int]]) -> None:
        engine = self._engine
        for surface_id, code, value, arrived in lit:
            if code >= STRUCK:
                # Only switches bounce; steps of a knob come close together by themselves.
                continue
            watch = self._bounces.get(surface_id)
            if watch is None:
                watch = self._bounces[surface_id] = BounceWatch()
            if (chatter := watch.feed(code, value, arrived)) and surface_id not in engine.careful.debouncers:
                engine.devices.notice_chatter(surface_id, chatter)
