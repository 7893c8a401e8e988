"""From a control's press to what answers it.  Pure: the time is an argument, effects go into a list."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from .desk import Binding, Desk, Layer, Surface
from .durations import MS
from .macro.program import Macro, Program, chord_program
from .macro.values import Given
from .player import ONCE, Effect, Live, Manner, Player
from .trace import Trace, show_action

# A tap that starts over would cut the one before too short to be noticed.
TAPPING, HOLDING = Manner("queue"), Manner("start over")


def given_by(trace: Trace, now: int, values: dict[str, int] | None = None) -> Given:
    """What a press brings to a live macro, or what a client gave with it."""
    pressed = trace.answer is not None

    def held_ms(since: int) -> int:
        return ((trace.released or now + since) - trace.fed) // MS if pressed else 0

    return Given({"strength": 127, "position": 0, "number": 0, **(values or {})}, held_ms,
                 lambda: pressed and not trace.released)


@dataclass(slots=True)
class Answer:
    """What a press of one control leads to, made ready when the desk is loaded."""

    surface: Surface
    control: str
    layer: Layer | None
    binding: Binding | None
    words: str
    program: Program | None
    manner: Manner
    again_key: object
    why: str
    deed: str
    first: tuple[int, ...] = ()
    macro: Macro | None = None


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
        # Told by the engine, which can see the lamp.
        self.caps_lock: Callable[[], bool] = lambda: False
        self.layers_off: set[tuple[str, str]] = set()
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
        found = surface.answer(control, "press", self.layers_off)
        answer = Answer(surface, control, None, None, "", None, ONCE, None, "", "")
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
                    answer.program, answer.macro = macro.program, macro
                    manner = answer.binding.manner
                    again = manner.again if answer.binding.again or manner.again == "end" else macro.again
                    answer.manner = replace(manner, again=again, longest=macro.longest)
            elif action.kind == "do":
                answer.deed = action.target
                answer.why = "swallowed, as bound" if action.target == "swallow" else ""
            else:
                assert action.chord is not None
                answer.program = chord_program(action.chord, holds=action.kind == "sustain", tap=self.desk.tap)
                answer.manner = HOLDING if action.kind == "sustain" else TAPPING
        if answer.deed == "pass through":
            answer.program = Program(holds=True)
            answer.program.add(0, code, 1)
        if answer.program is not None and not (answer.macro and answer.macro.live):
            answer.first = answer.program.first_down()
        self._answers[surface.id, code] = answer
        return answer

    def switch_layer(self, surface_id: str, layer: str, *, on: bool) -> bool:
        """Switch a layer of a surface, by its id or name.  False if it has none of that name."""
        surface = self.desk.surfaces.get(surface_id)
        found = next((la.id for la in surface.layers if layer in (la.id, la.name)), "") if surface else ""
        if not found:
            return False
        (self.layers_off.discard if on else self.layers_off.add)((surface_id, found))
        self.load(self.desk)
        return True

    def layer_is_on(self, surface_id: str, layer: str) -> bool:
        """Whether a layer answers."""
        return (surface_id, layer) not in self.layers_off

    def sends(self, surface_id: str, code: int) -> bool:
        """Whether a press of this control sends keys."""
        answer = self._answers.get((surface_id, code))
        return answer is not None and answer.program is not None and (surface_id, code) not in self._held

    def records(self, surface_id: str, code: int) -> bool:
        """Whether a press of this control begins or ends a recording."""
        answer = self._answers.get((surface_id, code))
        return answer is not None and answer.deed == "record"

    def stops(self, surface_id: str, code: int) -> bool:
        """Whether a press of this control stops everything: that never waits."""
        answer = self._answers.get((surface_id, code))
        return answer is not None and answer.deed == "stop everything"

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
            live = None
            if answer.macro is not None:
                trace.macro = answer.macro.id
                if answer.macro.live or answer.macro.types_text:
                    live = self._live(trace, answer, now)
            program = answer.program
            if live is None and answer.macro is not None and answer.macro.types_text and self.caps_lock():
                program = answer.macro.locked_program or program
            self.play(trace, program, answer.manner, answer.again_key, now, out, live)
        elif answer.deed == "stop everything":
            count = self.player.stop_all(now, out)
            trace.state = "done"
            trace.why = f"{count} {'run' if count == 1 else 'runs'} ended"
        elif answer.deed == "rest or wake":
            trace.state = "done"
            trace.why = "commands again" if surface_id in self.resting else "types normally until it is woken"
        return trace

    def _live(self, trace: Trace, answer: Answer, now: int) -> Live | None:
        macro = answer.macro
        if macro is None or macro.score is None:
            return None
        return Live(macro.score, given_by(trace, now), locked=macro.types_text and self.caps_lock())

    def play_macro(self, trace: Trace, macro: Macro, now: int, out: list[Effect],
                   values: dict[str, int] | None = None) -> None:
        """Play a macro that no control plays: for a client, with the values that it gave."""
        trace.macro = macro.id
        locked = macro.types_text and self.caps_lock()
        given = given_by(trace, now, values)
        live = Live(macro.score, given, locked=locked) if macro.score else None
        program = macro.locked_program if locked and macro.locked_program else macro.program
        self.play(trace, program, Manner(macro.again, longest=macro.longest), ("play", macro.id), now, out, live)

    def play(self, trace: Trace, program: Program, manner: Manner, again_key: object, now: int,
             out: list[Effect], live: Live | None = None) -> None:
        """Start a run on behalf of a trace."""
        trace.state = "holding" if program.holds else "playing"
        run, outcome = self.player.start(program, now, out, again_key=again_key, owner=trace, manner=manner, live=live)
        trace.run = run
        if run is None:
            trace.state = {"queued": "queued", "ended": "done"}.get(outcome, "nothing")
            trace.why = {"ignored": "still playing from the press before; ignored",
                         "queued": "waits for the run before it to end", "ended": "ended by this press",
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
