"""Recording without the screen: what surfaces send between two presses of a record control."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from brass_pebble.core.player import Effect
from brass_pebble.core.pointer import WIDE
from brass_pebble.core.problem import Problem
from brass_pebble.core.quick_record import CHOOSE, IDLE, Outcome, QuickRecord
from brass_pebble.core.trace import Trace

from .edits import Edit, binding_edit

if TYPE_CHECKING:
    from .engine import Engine

WORDS = {"choose": "now press the control that shall play it",
         "recording": "recording what the surfaces send; press record again to end"}


class Recorder:
    """Joins `QuickRecord` with the engine."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.quick = QuickRecord()

    @property
    def busy(self) -> bool:
        """Whether presses have to be looked at."""
        return self.quick.state != IDLE

    @property
    def chooses(self) -> bool:
        """Whether the next press is the target."""
        return self.quick.state == CHOOSE

    def toggle(self, trace: Trace) -> None:
        """The record control was pressed."""
        now = time.monotonic_ns()
        outcome = self.quick.toggle(now)
        trace.state = "done"
        if outcome is not None:
            trace.why = self._finish(outcome)
        else:
            trace.why = WORDS.get(self.quick.state, "nothing is recorded")
        self._follow()

    def take_target(self, surface: str, control: str) -> bool:
        """Whether this press only says which control shall play it."""
        if not self.quick.choose(surface, control, time.monotonic_ns()):
            return False
        self._follow()
        return True

    def note(self, effects: list[Effect], now: int) -> None:
        """Something was sent: it belongs to the recording if a surface's press caused it."""
        for code, value, _, run in effects:
            owner = run.owner
            # Keys and the pointer are recorded; messages and axes have no place in the text.
            if code < WIDE and isinstance(owner, Trace) and owner.origin == "press":
                self.quick.note(code, value, now)

    def _follow(self) -> None:
        """Let every surface be read as it has to be now, and tell clients."""
        engine = self._engine
        for surface in engine.desk.surfaces:
            engine.devices.listen(surface)
        if self.busy:
            engine.alarm("recorder", self.quick.until, self._expire)
        else:
            engine.cancel_alarm("recorder")
        engine.server.publish("recorder", self.state())

    def _expire(self, now: int) -> None:
        if self.quick.expire(now):
            self._follow()

    def state(self) -> dict[str, object]:
        """For clients."""
        surface, control = self.quick.target if self.quick.state == "recording" else ("", "")
        return {"state": self.quick.state, "surface": surface, "control": control}

    def _finish(self, outcome: Outcome) -> str:
        engine, store = self._engine, self._engine.store
        surface = engine.desk.surfaces.get(outcome.surface)
        if surface is None or not surface.layers:
            return "the control that was chosen is not there any more"
        # The layer that is on top now is the one that the person sees.
        layer = engine.router.layers.stack(surface)[-1]
        if not outcome.text:
            edit = binding_edit(surface.id, layer, outcome.control)
            said = f"nothing was played, so {surface.name} {outcome.control} was cleared"
        else:
            number = 1
            while f"recorded-{number}" in store.macro_names():
                number += 1
            name = f"recorded-{number}"
            text = f'name "Recorded {number}"\nlabel "rec {number}"\n\n{outcome.text}'
            bound = binding_edit(surface.id, layer, outcome.control, "play", name)
            edit = Edit(f"{surface.id} {outcome.control}: recorded", bound.values, ((f"macros/{name}.macro", text),),
                        bound.needs)
            said = f"recorded onto {surface.name} {outcome.control}, live now"

        def done(result: object) -> None:
            if isinstance(result, tuple):
                engine.take_loaded(result[1])
            else:
                engine.add_problem(Problem(f"what was recorded could not be saved: {result}"))
        engine.worker.do(lambda: (store.change(edit), store.load()), done)
        return said
