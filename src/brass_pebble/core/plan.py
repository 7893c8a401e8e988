"""What a control's gestures lead to with certain layers on: worked out once, looked up at each press."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field, replace

from .action import PASS, REST, SWALLOW, Action
from .binding import RAPID_EVERY, Binding
from .desk import Desk, Layer, Surface
from .gesture import DOUBLE, HOLD, PRESS, WITH, needs_care
from .layers import LayerTarget
from .macro.program import Macro, Program, chord_program
from .player import FOR_EVER, ONCE, Manner

# A tap that starts over would cut the one before too short to be noticed.
TAPPING, HOLDING, LATCHING = Manner("queue"), Manner("start over"), Manner("end")
RAPID = Manner("start over", FOR_EVER, to_the_end=True)
Spot = tuple[str, int]  # surface id, code


@dataclass(slots=True)
class Answer:
    """What one gesture of one control leads to."""

    surface: Surface
    control: str
    gesture: str = PRESS
    layer: Layer | None = None
    binding: Binding | None = None
    action: Action | None = None
    words: str = ""
    program: Program | None = None
    manner: Manner = ONCE
    again_key: object = None
    why: str = ""
    deed: str = ""
    first: tuple[int, ...] = ()
    macro: Macro | None = None
    layer_switch: LayerTarget | None = None
    steps: tuple[Answer, ...] = ()
    back: int = 0

    @property
    def latches(self) -> bool:
        """Whether letting go leaves it down."""
        return self.action is not None and self.action.kind == "latch"


@dataclass(slots=True)
class Plan:
    """Everything a control leads to.  `press` is its answer to a press.

    With `plain`, that is all there is.  `together` are answers while another control is held: its spot, the answer.
    `bound` are the gestures that mean something, for the recogniser.
    """

    press: Answer
    plain: bool = True
    answers: dict[str, Answer] = field(default_factory=dict)
    together: tuple[tuple[Spot, Answer], ...] = ()
    bound: frozenset[str] = frozenset()
    hold_after: int = 0
    second_within: int = 0
    wakes: bool = False

    def any(self) -> tuple[Answer, ...]:
        """All its answers."""
        every = (self.press, *self.answers.values(), *(answer for _, answer in self.together))
        return (*every, *(step for answer in every for step in answer.steps))

    def sends(self) -> bool:
        """Whether anything it leads to sends keys."""
        return any(answer.program is not None for answer in self.any())

    def does(self, deed: str) -> bool:
        """Whether a press of it does a deed."""
        return self.press.deed == deed


class Planner:
    """Makes plans for one desk."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._names = {macro.id: macro.name for macro in desk.macros.values()}
        # For each surface: the codes that matter, and which layers bind a control, the topmost first.
        self.codes: dict[str, tuple[int, ...]] = {}
        self._owners: dict[str, dict[str, list[Layer]]] = {}
        self._together: dict[str, dict[str, list[str]]] = {}
        self.cycles: list[tuple[Surface, Layer, Binding]] = []
        for surface in desk.surfaces.values():
            self._survey(surface)

    def _survey(self, surface: Surface) -> None:
        together = self._together[surface.id] = {}
        owners = self._owners[surface.id] = {}
        codes = {control.id: control.code for control in surface.layout.controls}
        for layer in reversed(surface.layers):
            for (control, gesture), binding in layer.bindings.items():
                if control not in codes and (code := surface.code_of(control)) is not None:
                    codes[control] = code
                if binding.action.steps:
                    self.cycles.append((surface, layer, binding))
                if gesture.startswith(WITH):
                    if gesture not in together.setdefault(control, []):
                        together[control].append(gesture)
                elif (known := owners.setdefault(control, [])) == [] or known[-1] is not layer:
                    known.append(layer)
        self.codes[surface.id] = tuple(dict.fromkeys(codes.values()))

    def plan(self, surface: Surface, code: int, stack: Collection[str]) -> Plan:
        """The plan of a control while the layers of `stack` are on."""
        control = surface.control_of(code)
        owner = next((layer for layer in self._owners[surface.id].get(control, ()) if layer.id in stack), None)
        answers = {}
        if owner is not None:
            answers = {gesture: self._answer(surface, code, owner, owner.bindings[control, gesture])
                       for gesture in owner.gestures_of(control)}
        together = []
        for gesture in self._together[surface.id].get(control, ()):
            found = surface.answer(control, gesture, stack)
            holder_surface, holder = surface.holder_of(gesture)
            holder_code = self.desk.surfaces[holder_surface].code_of(holder) if holder_surface in self.desk.surfaces \
                else None
            if found and holder_code is not None:
                together.append(((holder_surface, holder_code), self._answer(surface, code, *found)))
        press = answers.get(PRESS) or self._nothing(surface, control, code, bound=bool(answers))
        double, hold = (owner.bindings.get((control, gesture)) if owner else None for gesture in (DOUBLE, HOLD))
        bound = {*answers, *(("adds",) if double and double.adds else ())}
        plan = Plan(press, not (needs_care(answers) or together), answers, tuple(together), frozenset(bound),
                    (hold.hold_after if hold else 0) or surface.hold_after,
                    (double.second_within if double else 0) or surface.second_within)
        plan.wakes = any(answer.deed == REST for answer in plan.any())
        return plan

    def _nothing(self, surface: Surface, control: str, code: int, *, bound: bool) -> Answer:
        """A press that is not bound; silent if other gestures are."""
        answer = Answer(surface, control, layer=surface.layers[0] if surface.layers else None)
        if bound:
            return answer
        answer.deed = PASS if surface.unbound == "pass" else SWALLOW
        answer.why = "nothing bound; " + ("passed through" if surface.unbound == "pass" else "swallowed")
        if answer.deed == PASS:
            _pass(answer, code)
        return answer

    def _answer(self, surface: Surface, code: int, layer: Layer, binding: Binding) -> Answer:
        answer = self._of_action(surface, code, layer, binding, binding.action)
        answer.steps = tuple(self._of_action(surface, code, layer, binding, step) for step in binding.action.steps)
        answer.back = binding.back
        return answer

    def _of_action(self, surface: Surface, code: int, layer: Layer, binding: Binding, action: Action) -> Answer:
        answer = Answer(surface, binding.control, binding.gesture, layer, binding, action,
                        show_action(action.kind, action.target, self._names))
        answer.again_key = (surface.id, layer.id, binding.control, binding.gesture)
        if action.kind == "play":
            macro = self.desk.macros.get(action.target)
            if macro is None:
                answer.why = self.desk.broken_macros.get(action.target, f"there is no macro “{action.target}”")
            else:
                answer.program, answer.macro = macro.program, macro
                manner = binding.manner
                again = manner.again if binding.again or manner.again == "end" else macro.again
                answer.manner = replace(manner, again=again, longest=macro.longest)
        elif action.kind == "do":
            answer.deed = action.target
            answer.why = "swallowed, as bound" if action.target == SWALLOW else ""
            if action.target == PASS:
                _pass(answer, code)
        elif action.layer is not None:
            answer.layer_switch = action.layer
        elif action.chord is not None:
            self._of_chord(answer, binding, action)
        if answer.program is not None and not (answer.macro and answer.macro.live):
            answer.first = answer.program.first_down()
        return answer

    def _of_chord(self, answer: Answer, binding: Binding, action: Action) -> None:
        assert action.chord is not None
        if action.kind == "rapid":
            every = binding.every or RAPID_EVERY
            answer.program = chord_program(action.chord, tap=min(self.desk.tap, every // 2))
            answer.program.length, answer.manner = every, RAPID
            return
        holds = action.kind in ("sustain", "latch")
        answer.program = chord_program(action.chord, holds=holds, tap=self.desk.tap)
        answer.manner = {"sustain": HOLDING, "latch": LATCHING}.get(action.kind, TAPPING)


def _pass(answer: Answer, code: int) -> None:
    answer.program = Program(holds=True)
    answer.program.add(0, code, 1)
    answer.first = answer.program.first_down()




def show_action(kind: str, target: str, macro_names: dict[str, str]) -> str:
    """An action in a few words: `“Oven close-up”`, `Ctrl+M`, `stop everything`."""
    if kind == "play":
        return f"“{macro_names.get(target, target)}”"
    return target
