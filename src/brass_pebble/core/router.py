"""From a control's press to what answers it.  Pure: the time is an argument, effects go into a list."""

from __future__ import annotations

from dataclasses import dataclass

from .desk import Binding, Desk, Layer, Surface
from .macro.program import Program, chord_program
from .player import Effect, Player
from .trace import Trace, show_action


@dataclass(slots=True)
class Answer:
    """What a press of one control leads to, made ready when the desk is loaded."""

    surface: Surface
    control: str
    layer: Layer | None
    binding: Binding | None
    words: str
    program: Program | None
    again: str
    again_key: object
    why: str
    deed: str
    first: tuple[int, ...] = ()


class Router:
    """Routes (surface, code) through the layers to an action.

    A surface in `resting` answers nothing but the control that wakes it.
    """

    def __init__(self, player: Player) -> None:
        self.player = player
        self.desk = Desk()
        self._answers: dict[tuple[str, int], Answer] = {}
        self._names: dict[str, str] = {}
        self._held: dict[tuple[str, int], Trace] = {}
        self.resting: set[str] = set()
        self._next_id = 1

    def load(self, desk: Desk) -> None:
        """Use another desk from now on.  Controls held and runs playing end as they began."""
        self.desk = desk
        self._answers = {}
        self._names = {macro.id: macro.name for macro in desk.macros.values()}
        for surface in desk.surfaces.values():
            for code in [control.code for control in surface.layout.controls]:
                self._prepare(surface, code)
            for layer in surface.layers:
                for control, _ in layer.bindings:
                    code_bound = surface.code_of(control)
                    if code_bound is not None:
                        self._prepare(surface, code_bound)

    def _prepare(self, surface: Surface, code: int) -> Answer:
        control = surface.control_of(code)
        found = surface.answer(control, "press")
        answer = Answer(surface, control, None, None, "", None, "both", None, "", "")
        if found is None:
            answer.layer = surface.layers[-1] if surface.layers else None
            answer.deed = "pass through" if surface.unbound == "pass" else "swallow"
            answer.why = "nothing bound; " + ("passed through" if surface.unbound == "pass" else "swallowed")
        else:
            answer.layer, answer.binding = found
            action = answer.binding.action
            answer.words = show_action(action.kind, action.target, self._names)
            answer.again_key = (surface.id, control)
            if action.kind == "play":
                macro = self.desk.macros.get(action.target)
                if macro is None:
                    answer.why = self.desk.broken_macros.get(action.target, f"there is no macro “{action.target}”")
                else:
                    answer.program, answer.again = macro.program, macro.again
            elif action.kind == "do":
                answer.deed = action.target
                answer.why = "swallowed, as bound" if action.target == "swallow" else ""
            else:
                assert action.chord is not None
                answer.program = chord_program(action.chord, holds=action.kind == "sustain", tap=self.desk.tap)
                # A tap that starts over would cut the one before too short to be noticed.
                answer.again = "start over" if action.kind == "sustain" else "queue"
        if answer.deed == "pass through":
            answer.program = Program(holds=True)
            answer.program.add(0, code, 1)
        if answer.program is not None:
            answer.first = answer.program.first_down()
        self._answers[surface.id, code] = answer
        return answer

    def sure_first(self, surface_id: str, code: int) -> tuple[int, ...]:
        """The keys that a press of this control, fed next, is sure to send down first; nothing if it is not sure.

        Lets the caller send them before `feed` does its bookkeeping: its effects then begin with just these.
        """
        answer = self._answers.get((surface_id, code))
        if answer is None or not answer.first or (surface_id, code) in self._held or surface_id in self.resting:
            return ()
        player = self.player
        if player.down or answer.again_key in player.by_key:
            return ()
        return answer.first

    def feed(self, surface_id: str, code: int, value: int, arrived: int, now: int,
             out: list[Effect]) -> Trace | None:
        """A control went down (1) or up (0).  Returns its trace; None if there is nothing to tell.

        `arrived` is the kernel's time of the event, `now` the time of this call, both in ns.
        """
        key = (surface_id, code)
        if not value:
            trace = self._held.pop(key, None)
            if trace is not None:
                trace.released = now
                if trace.run is not None:
                    self.player.let_go(trace.run, now, out)
            return trace
        if value != 1 or key in self._held:
            return None
        answer = self._answers.get(key)
        if answer is None:
            surface = self.desk.surfaces.get(surface_id)
            if surface is None:
                return None
            answer = self._prepare(surface, code)
        if surface_id in self.resting and answer.deed != "rest or wake":
            return None
        trace = self._held[key] = Trace(self._next_id, arrived, now)
        self._next_id += 1
        trace.answer, trace.code = answer, code
        if answer.why:
            trace.why = answer.why
        if answer.program is not None:
            self.play(trace, answer.program, answer.again, answer.again_key, now, out)
        elif answer.deed == "stop everything":
            count = self.player.stop_all(now, out)
            trace.state = "done"
            trace.why = f"{count} {'run' if count == 1 else 'runs'} ended"
        elif answer.deed == "rest or wake":
            trace.state = "done"
            trace.why = "commands again" if surface_id in self.resting else "types normally until it is woken"
        return trace

    def play(self, trace: Trace, program: Program, again: str, again_key: object, now: int,
             out: list[Effect]) -> None:
        """Start a run on behalf of a trace."""
        trace.state = "holding" if program.holds else "playing"
        run, outcome = self.player.start(program, now, out, again=again, again_key=again_key, owner=trace)
        trace.run = run
        if run is None:
            trace.state = "nothing" if outcome != "queued" else "queued"
            trace.why = {"ignored": "still playing from the press before; ignored",
                         "queued": "waits for the run before it to end",
                         "queue full": "too many presses are waiting already; ignored"}[outcome]

    def new_trace(self, arrived: int, now: int, origin: str = "press") -> Trace:
        """A fresh trace with the next number."""
        trace = Trace(self._next_id, arrived, now, origin)
        self._next_id += 1
        return trace

    def let_go_surface(self, surface_id: str, now: int, out: list[Effect]) -> list[Trace]:
        """Release every control of a surface that is gone."""
        keys = [key for key in self._held if key[0] == surface_id]
        return [trace for key in keys if (trace := self.feed(key[0], key[1], 0, now, now, out)) is not None]

    def held(self) -> list[tuple[str, int]]:
        """(surface, code) of the controls that are down."""
        return list(self._held)
