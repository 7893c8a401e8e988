"""What a control's gestures lead to with certain layers on: worked out once, looked up at each press."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, field, replace
from fractions import Fraction
from itertools import chain

from brass_pebble.core.desk.action import PASS, REST, SWALLOW, Action
from brass_pebble.core.desk.binding import RAPID_EVERY, Binding
from brass_pebble.core.desk.layer_switch import LayerTarget
from brass_pebble.core.desk.model import GO_ON, Desk, Layer, Surface
from brass_pebble.core.devices.layout import Control
from brass_pebble.core.devices.parts import taker
from brass_pebble.core.effects.drive import DriveTarget, LevelChange
from brass_pebble.core.effects.gate import Rights
from brass_pebble.core.macro.timetable import Macro, Timetable, chord_timetable
from brass_pebble.core.say.durations import MS
from brass_pebble.core.signals.keys import Chord, is_sendable
from brass_pebble.core.signals.signal import part_of, part_signal

from .gesture import (
    AT,
    DOUBLE,
    GESTURES,
    HOLD,
    MOVE,
    PRESS,
    PUSHES,
    STRIKE,
    TURN_LEFT,
    TURN_RIGHT,
    WITH,
    is_part,
    needs_care,
    read_band,
)
from .player import FOR_EVER, ONCE, Manner

# A tap that starts over would cut the one before too short to be noticed.
HOLDING, LATCHING = Manner("start over"), Manner("end")
RAPID = Manner("start over", FOR_EVER, to_the_end=True)
# Steps of a knob come fast and none is lost: each is just long enough for a program that looks once a frame, and they
# wait for one another.  Those that have queued up are shortened, to the desk's shortest tap at most.
TURN_TAP, TURN_GAP = 20 * MS, 10 * MS
HURRIED, MOST_WAITING = (20 * MS, 12 * MS, 8 * MS, 5 * MS, 3 * MS), 1_000
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
    timetable: Timetable | None = None
    manner: Manner = ONCE
    again_key: object = None
    why: str = ""
    deed: str = ""
    # The keys that a press is sure to send down first; empty where that depends on more than the layers.
    first: tuple[int, ...] = ()
    macro: Macro | None = None
    layer_switch: LayerTarget | None = None
    steps: tuple[Answer, ...] = ()
    back: int = 0
    drives: tuple[DriveTarget, ...] = ()
    level: LevelChange | None = None
    # Whose it is, where it came from somebody else.
    rights: Rights | None = None

    @property
    def latches(self) -> bool:
        """Whether letting go leaves it down."""
        return self.action is not None and self.action.kind == "latch"


@dataclass(slots=True)
class Plan:
    """Everything a control leads to.  `press` is its answer to a press.

    With `plain`, that is all there is. `strikes` answer presses of a strength (from, to, answer). `together` are
    answers while another control is held: its spot, the answer. `bound` are the gestures that mean something, for
    the recogniser.
    """

    press: Answer
    plain: bool = True
    answers: dict[str, Answer] = field(default_factory=dict)
    together: tuple[tuple[Spot, Answer], ...] = ()
    bound: frozenset[str] = frozenset()
    hold_after: int = 0
    second_within: int = 0
    wakes: bool = False
    strikes: tuple[tuple[int, int, Answer], ...] = ()

    def struck(self, strength: int) -> Answer:
        """The answer to a press with a strength (1 to 127)."""
        return next((answer for low, high, answer in self.strikes if low <= strength <= high), self.press)

    def any(self) -> tuple[Answer, ...]:
        """All its answers."""
        every = (self.press, *self.answers.values(), *(answer for _, answer in self.together),
                 *(answer for _, _, answer in self.strikes))
        return (*every, *(step for answer in every for step in answer.steps))

    def sends(self) -> bool:
        """Whether anything it leads to sends keys."""
        return any(answer.timetable is not None for answer in self.any())

    def does(self, deed: str) -> bool:
        """Whether a press of it does a deed."""
        return self.press.deed == deed


@dataclass(slots=True)
class MotionPlan:
    """What the position of a moving control leads to: signals of its parts, and what it drives.

    `turns` are the signals of a step to the left and to the right (0: none) and how far a step is; `zones` are from,
    to (0 to 1) and signal; with `presses`, passing its threshold is a press.
    """

    turns: tuple[int, int, Fraction] = (0, 0, Fraction(0))
    pushes: dict[str, int] = field(default_factory=dict)
    zones: tuple[tuple[float, float, int], ...] = ()
    presses: bool = False
    drive: Answer | None = None


def leads_to_the_same(before: Desk, desk: Desk, surface: Surface) -> bool:
    """Whether every control of a surface leads to the very same on two desks."""
    return (before.surfaces.get(surface.id) is surface and before.typing == desk.typing and not surface.leans_on_others
            and all(before.macros.get(name) is desk.macros.get(name)
                    and before.broken_macros.get(name) == desk.broken_macros.get(name) for name in surface.plays))


class Planner:
    """Makes plans for one desk."""

    def __init__(self, desk: Desk, before: Planner | None = None) -> None:
        self.desk = desk
        self._names = {macro.id: macro.name for macro in desk.macros.values()}
        # For each surface: the codes that matter, and which layers bind a control, the topmost first.
        self.codes: dict[str, tuple[int, ...]] = {}
        self._owners: dict[str, dict[str, list[Layer]]] = {}
        self._together: dict[str, dict[str, list[str]]] = {}
        self._cycles: dict[str, list[tuple[Surface, Layer, Binding]]] = {}
        self._laid: dict[object, tuple[Timetable, ...]] = {}
        for name, surface in desk.surfaces.items():
            if before is not None and before.desk.surfaces.get(name) is surface:
                # A surface is never changed in place: what was seen of it holds.
                self.codes[name], self._owners[name] = before.codes[name], before._owners[name]
                self._together[name], self._cycles[name] = before._together[name], before._cycles[name]
            else:
                self._survey(surface)

    @property
    def cycles(self) -> Iterator[tuple[Surface, Layer, Binding]]:
        """Everything that takes the next of several actions with each press."""
        return chain.from_iterable(self._cycles.values())

    def _survey(self, surface: Surface) -> None:
        together = self._together[surface.id] = {}
        owners = self._owners[surface.id] = {}
        cycles = self._cycles[surface.id] = []
        codes: dict[object, int] = {control.id: control.code for control in surface.layout.controls}
        for layer in reversed(surface.layers):
            for (control, gesture), binding in layer.bindings.items():
                if control not in codes and (code := surface.code_of(control)) is not None:
                    codes[control] = code
                if is_part(gesture):
                    codes[control, gesture] = part_signal(control, gesture)
                if binding.action.steps:
                    cycles.append((surface, layer, binding))
                if gesture.startswith(WITH):
                    if gesture not in together.setdefault(control, []):
                        together[control].append(gesture)
                elif (known := owners.setdefault(control, [])) == [] or known[-1] is not layer:
                    known.append(layer)
        self.codes[surface.id] = tuple(dict.fromkeys(codes.values()))

    def plan(self, surface: Surface, code: int, stack: Collection[str]) -> Plan:
        """The plan of a control while the layers of `stack` are on."""
        part = part_of(code)
        if part is not None:
            return self._part(surface, code, *part, stack)
        control = surface.control_of(code)
        if surface.takes and not taker(surface.takes, surface.layout, stack)(code):
            return Plan(self._passes_by(surface, control))
        owner = self._owner(surface, control, stack)
        answers = {}
        strikes = []
        bound = owner.gestures_of(control) if owner is not None else ()
        if owner is not None:
            answers = {gesture: self._answer(surface, code, owner, owner.bindings[control, gesture])
                       for gesture in bound if gesture in GESTURES}
            strikes = [(*(read_band(gesture) or (0, 0)),
                        self._answer(surface, code, owner, owner.bindings[control, gesture]))
                       for gesture in bound if gesture.startswith(STRIKE)]
        together = []
        for gesture in self._together[surface.id].get(control, ()):
            found = surface.answer(control, gesture, stack)
            holder_surface, holder = surface.holder_of(gesture)
            holder_code = self.desk.surfaces[holder_surface].code_of(holder) if holder_surface in self.desk.surfaces \
                else None
            if found and holder_code is not None:
                together.append(((holder_surface, holder_code), self._answer(surface, code, *found)))
        press = answers.get(PRESS) or self._nothing(surface, control, code, bound=bool(bound))
        double, hold = (owner.bindings.get((control, gesture)) if owner else None for gesture in (DOUBLE, HOLD))
        wanted = {*answers, *(("adds",) if double and double.adds else ())}
        plan = Plan(press, not (needs_care(answers) or together), answers, tuple(together), frozenset(wanted),
                    (hold.hold_after if hold else 0) or surface.hold_after,
                    (double.second_within if double else 0) or surface.second_within)
        plan.strikes = tuple(strikes)
        plan.wakes = any(answer.deed == REST for answer in plan.any())
        return plan

    def _passes_by(self, surface: Surface, control: str) -> Answer:
        """A press of what is not taken over: programs get it from the device itself."""
        answer = Answer(surface, control, layer=surface.layers[0] if surface.layers else None)
        answer.deed, answer.why = SWALLOW, "not taken over: it reaches your programs"
        return answer

    def _owner(self, surface: Surface, control: str, stack: Collection[str]) -> Layer | None:
        return next((layer for layer in self._owners[surface.id].get(control, ()) if layer.id in stack), None)

    def _part(self, surface: Surface, code: int, control: str, gesture: str, stack: Collection[str]) -> Plan:
        """The plan of what a moving control does in a part: one answer, to its being there."""
        owner = self._owner(surface, control, stack)
        binding = owner.bindings.get((control, gesture)) if owner is not None else None
        if owner is None or binding is None:
            return Plan(self._nothing(surface, control, code, bound=True))
        plan = Plan(self._answer(surface, code, owner, binding))
        plan.wakes = plan.press.deed == REST
        return plan

    def motion(self, surface: Surface, control: Control, stack: Collection[str]) -> MotionPlan:
        """What the position of a control leads to while the layers of `stack` are on."""
        plan = MotionPlan()
        owner = self._owner(surface, control.id, stack)
        if owner is None:
            return plan
        bound = owner.gestures_of(control.id)
        left, right = (part_signal(control.id, gesture) if gesture in bound else 0
                       for gesture in (TURN_LEFT, TURN_RIGHT))
        each = next((each for gesture in (TURN_RIGHT, TURN_LEFT)
                     if gesture in bound and (each := owner.bindings[control.id, gesture].each)), Fraction(0))
        plan.turns = (left, right, each or (Fraction(1) if control.turns else Fraction(1, 20)))
        plan.pushes = {gesture.removeprefix("push "): part_signal(control.id, gesture)
                       for gesture in PUSHES if gesture in bound}
        plan.zones = tuple((low / 100, high / 100, part_signal(control.id, gesture)) for gesture in bound
                           if gesture.startswith(AT) for low, high in [read_band(gesture) or (0, 0)])
        plan.presses = control.code == control.moves[0] and any(
            gesture in GESTURES or gesture.startswith(STRIKE) for gesture in bound)
        if MOVE in bound:
            plan.drive = self._answer(surface, control.code, owner, owner.bindings[control.id, MOVE])
        return plan

    def _nothing(self, surface: Surface, control: str, code: int, *, bound: bool) -> Answer:
        """A press that is not bound; silent if other gestures are."""
        answer = Answer(surface, control, layer=surface.layers[0] if surface.layers else None)
        if bound:
            return answer
        answer.deed = PASS if surface.unbound == "pass" else SWALLOW
        answer.why = "nothing bound; " + ("passed through" if surface.unbound == "pass" else "swallowed")
        if answer.deed == PASS:
            self._pass(answer, code)
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
        # What passes through is what the person presses, whoever bound it.
        answer.rights = binding.rights if action.target != PASS or action.kind != "do" else None
        if binding.asleep:
            answer.deed = SWALLOW
            answer.why = f"waiting for your approval: {action.target}"
            return answer
        _PLANNED[action.kind](self, answer, binding, action, code)
        if answer.timetable is not None and answer.rights is None and answer.timetable.whose is None and \
                not (answer.macro and (answer.macro.live or answer.macro.types_text)):
            answer.first = answer.timetable.head
        return answer

    def _of_macro(self, answer: Answer, binding: Binding, action: Action, code: int) -> None:
        macro = self.desk.macros.get(action.target)
        if macro is None:
            answer.why = self.desk.broken_macros.get(action.target, f"there is no macro “{action.target}”")
            return
        answer.timetable, answer.macro = macro.timetable, macro
        manner = binding.manner
        again = manner.again if binding.again or manner.again == "end" else macro.again
        answer.manner = replace(manner, again=again, longest=macro.longest, overtaken=self.desk.overtaken_after,
                                goes_on=(macro.overtaken or self.desk.overtaken) == GO_ON)

    def _of_steps(self, answer: Answer, binding: Binding, action: Action, code: int) -> None:
        """A cycle does nothing by itself: each of its steps is planned, and a press takes the next."""

    def _of_deed(self, answer: Answer, binding: Binding, action: Action, code: int) -> None:
        answer.deed = action.target
        answer.why = "swallowed, as bound" if action.target == SWALLOW else ""
        if action.target == PASS:
            self._pass(answer, code)

    def _of_layer(self, answer: Answer, binding: Binding, action: Action, code: int) -> None:
        answer.layer_switch = action.layer

    def _of_level(self, answer: Answer, binding: Binding, action: Action, code: int) -> None:
        answer.level = action.level

    def _of_drive(self, answer: Answer, binding: Binding, action: Action, code: int) -> None:
        answer.drives = action.drives

    def _of_rapid(self, answer: Answer, binding: Binding, action: Action, code: int) -> None:
        every = binding.every or RAPID_EVERY
        assert action.chord is not None
        answer.timetable = chord_timetable(action.chord, tap=min(self.desk.tap, every // 2), places=self.desk.places)
        answer.timetable.length, answer.manner = every, RAPID

    def _of_tap(self, answer: Answer, binding: Binding, action: Action, code: int) -> None:
        chord, tap = action.chord, self.desk.tap
        assert chord is not None
        if binding.gesture in (TURN_LEFT, TURN_RIGHT):
            answer.timetable = chord_timetable(chord, tap=min(tap, TURN_TAP), places=self.desk.places)
            answer.timetable.length += TURN_GAP
        else:
            answer.timetable = self._shared((chord, tap), lambda: (chord_timetable(
                chord, tap=tap, places=self.desk.places),))[0]
        answer.manner = Manner("queue", most=MOST_WAITING, hurries=self._hurries(chord))

    def _of_held_chord(self, answer: Answer, binding: Binding, action: Action, code: int) -> None:
        assert action.chord is not None
        answer.timetable = chord_timetable(action.chord, holds=True, tap=self.desk.tap, places=self.desk.places)
        answer.manner = LATCHING if action.kind == "latch" else HOLDING

    def _hurries(self, chord: Chord) -> tuple[Timetable, ...]:
        """A tap of a chord, faster and faster, each with a gap behind it."""
        def lay() -> tuple[Timetable, ...]:
            shortest = self.desk.shortest_tap
            taps = [tap for tap in HURRIED if shortest < tap < self.desk.tap] + [shortest]
            timetables = [chord_timetable(chord, tap=tap, places=self.desk.places) for tap in taps]
            for tap, timetable in zip(taps, timetables, strict=True):
                timetable.length = tap + max(MS, tap // 2)
            return tuple(timetables)
        return self._shared(chord, lay)

    def _shared(self, key: object, lay: Callable[[], tuple[Timetable, ...]]) -> tuple[Timetable, ...]:
        """Timetables that every control has which sends the same: they are laid once, and never changed."""
        found = self._laid.get(key)
        if found is None:
            found = self._laid[key] = lay()
        return found

    def _pass(self, answer: Answer, code: int) -> None:
        if not is_sendable(code):
            answer.deed, answer.why = SWALLOW, "cannot pass through, because no virtual device can send it; swallowed"
            return
        answer.timetable = Timetable(holds=True)
        answer.timetable.add(0, self.desk.places.name(code), 1)
        answer.first = answer.timetable.head


# How each kind of action is planned.
_PLANNED: dict[str, Callable[[Planner, Answer, Binding, Action, int], None]] = {
    "play": Planner._of_macro, "do": Planner._of_deed, "layer": Planner._of_layer, "set": Planner._of_level,
    "step": Planner._of_level, "drive": Planner._of_drive, "rapid": Planner._of_rapid, "tap": Planner._of_tap,
    "sustain": Planner._of_held_chord, "latch": Planner._of_held_chord, "cycle": Planner._of_steps}


def show_action(kind: str, target: str, macro_names: dict[str, str]) -> str:
    """An action in a few words: `“Oven close-up”`, `Ctrl+M`, `stop everything`."""
    if kind == "play":
        return f"“{macro_names.get(target, target)}”"
    return target
