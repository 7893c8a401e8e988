"""From a control's press to what answers it.  Pure: the time is an argument, effects go into a list."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from brass_pebble.core.desk.action import FIRST, PASS, PIN, REST, STOP, SWALLOW
from brass_pebble.core.desk.layer_switch import ONE_PRESS
from brass_pebble.core.desk.model import GO_ON, Desk, find_layer
from brass_pebble.core.effects.drive import Levels
from brass_pebble.core.macro.timetable import Macro, Timetable
from brass_pebble.core.macro.value.kinds import Given, KeptValues, NothingKept, Value
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.signal import PART, STRUCK, Spoken

from .gesture import DOUBLE, HOLD, PRESS, RELEASE, TAP, Recogniser
from .layers import Layers
from .mover import Mover
from .plan import Answer, MotionPlan, Plan, Planner, Spot, leads_to_the_same
from .player import OVERTAKEN, Effect, Live, Manner, Player, Run
from .trace import Trace

FULL = 127
# So many sets of layers that are on together are kept ready for each surface.
KEPT_STACKS = 64


def given_by(trace: Trace, now: int, values: Mapping[str, Value] | None = None, *, kept: KeptValues, levels: Levels,
             macro: str, answers: Mapping[str, str] | None = None) -> Given:
    """What a press brings to a live macro, or what a client gave with it; and where values are kept."""
    pressed = trace.answer is not None

    def held_ms(since: int) -> int:
        return ((trace.released or now + since) - (trace.pressed or trace.fed)) // MS if pressed else 0

    said = trace.code
    if isinstance(said, Spoken):
        values, answers = {**said.values, **(values or {})}, {**said.answers, **(answers or {})}
    return Given({"strength": trace.strength, **(values or {})}, held_ms, lambda: pressed and not trace.released,
                 answers or {}, kept, levels=levels, macro=macro)


@dataclass(slots=True)
class Pressing:
    """A control whose gestures are being recognised: since when it is down, until when it was, and the traces that
    letting go ends; `together` if it answered together with another control."""

    plan: Plan
    recogniser: Recogniser
    since: int
    until: int = 0
    together: bool = False
    strength: int = FULL
    traces: list[Trace] = field(default_factory=list)


class Router:
    """Routes (surface, code) through gestures and layers to an action.

    A surface in `resting` answers nothing but the control that wakes it.  `fresh` are traces made beside the one that
    `feed` returns: of gestures that were decided by time, by letting go, or by another press.
    """

    def __init__(self, player: Player) -> None:
        self.player = player
        self.desk = Desk()
        # Told of every surface whose layers have just changed.
        self.on_layers: Callable[[str], None] = lambda surface_id: None
        self.layers = Layers()
        self.resting: set[str] = set()
        self.fresh: list[Trace] = []
        # Where macros keep values.
        self.kept: KeptValues = NothingKept()
        # Told by the engine, which can see the lamp.
        self.caps_lock: Callable[[], bool] = lambda: False
        # What the press that is fed next was found to play, since its first keys were sent ahead.
        self._ahead: Timetable | None = None
        # A press that comes later than this, in ns, was made before the computer stood still.
        self.stale_after = OVERTAKEN
        self._planner = Planner(self.desk)
        self._plans: dict[str, dict[int, Plan]] = {}
        self._ready: dict[str, dict[tuple[str, ...], dict[int, Plan]]] = {}
        self.mover = Mover(self)
        self.levels = Levels()
        # Parts of moving controls that were pressed or let go, for whoever shows them: surface, signal, value, arrival.
        self.parts: list[tuple[str, int, int, int]] = []
        self._motion: dict[str, dict[str, MotionPlan]] = {}
        self._position = 0
        self._held: dict[Spot, Trace | None] = {}
        self._pressing: dict[Spot, Pressing] = {}
        self._waiting: set[Spot] = set()
        self._cycles: dict[object, tuple[int, int]] = {}
        # The gesture by which each stranger's control was counted last.
        self._counted: dict[Spot, str] = {}
        self._next_id = 1

    def load(self, desk: Desk) -> None:
        """Use another desk from now on.  Controls held and runs playing end as they began."""
        before, self.desk = self.desk, desk
        self.player.gate.places = desk.places
        self.stale_after = max(desk.overtaken_after, desk.patience + OVERTAKEN // 2)
        self._planner = Planner(desk, self._planner)
        # What surfaces lead to that are just as they were is known already.
        self._ready = {name: self._ready[name] for name, surface in desk.surfaces.items()
                       if name in self._ready and leads_to_the_same(before, desk, surface)}
        self._plans, self._motion = {}, {}
        self.mover.load(desk)
        self.layers.load(desk)
        self.follow_layers()
        known = {(surface.id, layer.id, binding.control, binding.gesture)
                 for surface, layer, binding in self._planner.cycles}
        self._cycles = {key: at for key, at in self._cycles.items() if key in known}

    def follow_layers(self) -> bool:
        """Have the plans at hand for the layers that are on now.  True if any surface's have changed."""
        changed = False
        for surface_id in self.layers.changed & self.desk.surfaces.keys():
            surface = self.desk.surfaces[surface_id]
            stack = self.layers.stack(surface)
            ready = self._ready.setdefault(surface_id, {})
            plans = ready.get(stack)
            if plans is None:
                if len(ready) >= KEPT_STACKS:
                    del ready[next(iter(ready))]
                on = frozenset(stack)
                plans = ready[stack] = {code: self._planner.plan(surface, code, on)
                                        for code in self._planner.codes[surface_id]}
            if self._plans.get(surface_id) is not plans:
                changed = True
                self._motion.pop(surface_id, None)
                self._plans[surface_id] = plans
                self.on_layers(surface_id)
        self.layers.changed.clear()
        return changed

    def motion_plans(self, surface_id: str) -> dict[str, MotionPlan]:
        """What the positions of a surface's moving controls lead to, with the layers that are on now."""
        plans = self._motion.get(surface_id)
        if plans is None:
            surface = self.desk.surfaces[surface_id]
            stack = self.layers.stack(surface)
            plans = self._motion[surface_id] = {control.id: self._planner.motion(surface, control, stack)
                                                for control in surface.layout.controls if control.moves}
        return plans

    def _plan(self, surface_id: str, code: int) -> Plan | None:
        plans = self._plans.get(surface_id)
        if plans is None:
            return None
        plan = plans.get(code)
        if plan is None:
            surface = self.desk.surfaces[surface_id]
            plan = plans[code] = self._planner.plan(surface, code, self.layers.stack(surface))
        return plan

    def switch_layer(self, surface_id: str, layer: str, *, on: bool) -> str:
        """Switch a layer of a surface, by its id or name; what became of it, or an empty text if there is none."""
        surface = self.desk.surfaces.get(surface_id)
        found = find_layer(surface, layer) if surface else None
        if surface is None or found is None:
            return ""
        if found is surface.layers[0]:
            return f"“{found.name}” is the lowest layer and always on"
        self.layers.set_on(surface, found, on=on)
        self.follow_layers()
        return f"“{found.name}” {'on' if on else 'off'}"

    # What the engine asks on the way, before a press is fed.

    def sends(self, surface_id: str, code: int) -> bool:
        """Whether a press of this control sends keys, now or when it has become a gesture."""
        plan = self._plan(surface_id, code)
        return plan is not None and (surface_id, code) not in self._held and plan.sends()

    def does(self, surface_id: str, code: int, deed: str) -> bool:
        """Whether a press of this control does a deed of the engine's own, at once."""
        plan = self._plan(surface_id, code)
        return plan is not None and plan.does(deed)

    def sure_first(self, surface_id: str, code: int) -> tuple[int, ...]:
        """The keys that a press of this control, fed next, is sure to send down first; nothing if it is not sure.

        Lets the caller send them before `feed` does its bookkeeping: its effects then begin with just these.
        """
        plans = self._plans.get(surface_id)
        plan = plans.get(code) if plans is not None else None
        if plan is None or self._waiting:
            return ()
        answer = plan.press
        if plan.together or plan.strikes:
            return ()
        if (surface_id, code) in self._held or surface_id in self.resting:
            return ()
        player = self.player
        if player.down or answer.again_key in player.by_key:
            return ()
        first = answer.first
        return first if first or answer.macro is None else self._typed_first(answer)

    def _typed_first(self, answer: Answer) -> tuple[int, ...]:
        """The first keys of a text, which depend on Caps Lock."""
        assert answer.macro is not None
        if answer.timetable is None or not answer.macro.types_text or answer.macro.live or \
                answer.rights is not None or answer.timetable.whose is not None:
            return ()
        # What is played is chosen now, and `feed` plays just that: what goes ahead is its head.
        self._ahead = self._choose(answer)
        return self._ahead.head

    def _choose(self, answer: Answer) -> Timetable:
        """The timetable of an answer that types a text, as it is with Caps Lock on or off now."""
        assert answer.timetable is not None and answer.macro is not None
        return (answer.macro.locked_timetable if self.caps_lock() else None) or answer.timetable

    # Presses and releases.

    def feed(self, surface_id: str, code: int, value: int, arrived: int, now: int,
             out: list[Effect], *, gone: bool = False) -> Trace | None:
        """A control went down (1) or up (0; `gone` if its device went away).

        Returns its trace; None if there is nothing to tell.  `arrived` is the kernel's time of the event, `now` the
        time of this call, both in ns.
        """
        key = (surface_id, code)
        if not value:
            return self._up(key, arrived, now, out, gone=gone)
        if key in self._held:
            return None
        plan = self._plan(surface_id, code)
        if plan is None or (surface_id in self.resting and not plan.wakes):
            return None
        if now - arrived > self.stale_after:
            return self._ignore_stale(key, plan, arrived, now)
        if self._waiting:
            self._end_waits(key, arrived, now, out)
        pressing = self._pressing.get(key)
        trace: Trace | None
        if pressing is None and plan.plain:
            trace = self._held[key] = Trace(self._next_id, arrived, now)
            self._next_id += 1
            answer = plan.press
            if code >= STRUCK:
                answer = self._strike(trace, plan, code, value)
            trace.answer, trace.code = answer, code
            self._carry_out(trace, answer, now, out)
        else:
            self._held[key] = None
            trace = self._down(key, plan, pressing, arrived, now, out, value if STRUCK <= code < PART else FULL)
            if trace is not None:
                # Told by being returned, and by nothing else: what it asks of the engine is done once.
                self.fresh.remove(trace)
        if surface_id in self.layers.once_surfaces:
            self._end_once(surface_id, plan)
        return trace

    def account(self, surface_id: str, code: int, arrived: int, now: int, why: str) -> Trace | None:
        """The trace of a press that is not fed at all, and why not; None for an unknown surface."""
        plan = self._plan(surface_id, code)
        if plan is None:
            return None
        trace = self.new_trace(arrived, now)
        trace.answer, trace.code, trace.why = plan.press, code, why
        return trace

    def _ignore_stale(self, key: Spot, plan: Plan, arrived: int, now: int) -> Trace:
        """A press that was made before the computer stood still is not poured into what has the focus now."""
        trace = self._held[key] = self.new_trace(arrived, now)
        trace.answer, trace.code = plan.press, key[1]
        trace.why = f"made {say_duration(now - arrived)} ago, while the computer was suspended or busy; ignored"
        return trace

    def _strike(self, trace: Trace, plan: Plan, code: int, value: int) -> Answer:
        """The answer to a press that has a strength, or comes from what moves."""
        if code < PART:
            trace.strength = value
            if plan.strikes:
                return plan.struck(value)
        return plan.press

    def feed_part(self, surface_id: str, code: int, value: int, arrived: int, now: int, out: list[Effect],
                  position: int = 0) -> None:
        """A part of what moves was pressed or let go; `position` is 0 to 100.  Its trace is in `fresh`."""
        self._position = position
        trace = self.feed(surface_id, code, value, arrived, now, out)
        self._position = 0
        if trace is not None and value:
            self.fresh.append(trace)
        self.parts.append((surface_id, code, value, arrived))

    def held_trace(self, surface_id: str, code: int) -> Trace | None:
        """The trace of a control that is down, if its press is answered by itself."""
        return self._held.get((surface_id, code))

    def _down(self, key: Spot, plan: Plan, pressing: Pressing | None, arrived: int, now: int,
              out: list[Effect], strength: int) -> Trace | None:
        """A control went down that has more meanings than one."""
        first_press = pressing is None
        if pressing is None:
            pressing = self._pressing[key] = Pressing(
                plan, Recogniser(plan.bound, plan.hold_after, plan.second_within), arrived)
        pressing.strength = strength
        if first_press:
            for holder, together in plan.together:
                if holder in self._held:
                    if other := self._pressing.get(holder):
                        other.recogniser.feed("used", arrived)
                    pressing.recogniser.feed("down", arrived)
                    pressing.recogniser.feed("used", arrived)
                    pressing.together = True
                    return self._fire(key, pressing, together, arrived, now, out)
        pressing.since = arrived
        first = None
        for gesture in pressing.recogniser.feed("down", arrived):
            trace = self._make(key, pressing, gesture, arrived, now, out)
            first = first or trace
        self._waiting.discard(key)
        return first

    def _up(self, key: Spot, arrived: int, now: int, out: list[Effect], *, gone: bool) -> Trace | None:
        trace = self._held.pop(key, None)
        if self.layers.holding:
            self.layers.let_go(key)
            self.follow_layers()
        pressing = self._pressing.get(key)
        if pressing is not None:
            return self._let_go(key, pressing, arrived, now, out, gone=gone)
        if trace is not None:
            self._released(trace, arrived, now, out)
        return trace

    def _released(self, trace: Trace, arrived: int, now: int, out: list[Effect]) -> None:
        trace.released = max(arrived, trace.arrived)
        run = trace.run
        if run is not None and not (trace.answer is not None and trace.answer.latches):
            self.player.let_go(run, now, out)

    def _let_go(self, key: Spot, pressing: Pressing, arrived: int, now: int, out: list[Effect], *,
                gone: bool) -> Trace | None:
        """The release of a control with several meanings: what it held ends, then what letting go means."""
        due = pressing.recogniser.due
        if due and arrived >= due:
            # The time was over before it was let go, whoever was slow to look.
            self._decide(key, pressing, "time", due, now, out)
        ended = None
        for trace in pressing.traces:
            self._released(trace, arrived, now, out)
            ended = trace
        pressing.traces = []
        pressing.until = arrived
        for gesture in pressing.recogniser.feed("gone" if gone else "up", arrived):
            made = self._make(key, pressing, gesture, arrived, now, out)
            if made is not None:
                self._released(made, arrived, now, out)
                pressing.traces = []
        self._settle(key, pressing)
        return ended

    def _settle(self, key: Spot, pressing: Pressing) -> None:
        state = pressing.recogniser.state
        (self._waiting.add if state == "waiting" else self._waiting.discard)(key)
        if state == "up":
            self._pressing.pop(key, None)

    def _end_waits(self, pressed: Spot, arrived: int, now: int, out: list[Effect]) -> None:
        """A press decides what other controls of its surface were waiting for, so that the order is kept."""
        for key in [key for key in self._waiting if key == pressed or key[0] == pressed[0]]:
            pressing = self._pressing[key]
            due = pressing.recogniser.due
            if key != pressed:
                self._decide(key, pressing, "other", min(arrived, due), now, out)
            elif arrived >= due:
                self._decide(key, pressing, "time", due, now, out)

    def _decide(self, key: Spot, pressing: Pressing, event: str, at: int, now: int, out: list[Effect]) -> None:
        """Time, or another press, decided what a control's press was."""
        waited = pressing.recogniser.state == "waiting"
        for gesture in pressing.recogniser.feed(event, at):
            trace = self._make(key, pressing, gesture, at, now, out)
            if trace is not None and waited:
                trace.released = pressing.until
                trace.waited = max(0, at - pressing.until)
                trace.remark(f"waited {say_duration(max(0, at - pressing.until))} for a second tap")
                self._released(trace, pressing.until, now, out)
                pressing.traces = []
        self._settle(key, pressing)

    def _make(self, key: Spot, pressing: Pressing, gesture: str, at: int, now: int, out: list[Effect]) -> Trace | None:
        """A gesture was made: answer it, if it is bound, or if it is a press of nothing at all."""
        if pressing.together:
            # It answered together with another control: nothing of its own comes of it, its release neither.
            return None
        plan = pressing.plan
        answer = plan.answers.get(gesture)
        if gesture == PRESS and (plan.strikes or (answer is None and not plan.answers)):
            answer = plan.struck(pressing.strength)
            if answer is plan.press and plan.answers and PRESS not in plan.answers:
                answer = None
        if answer is None or (key[0] in self.resting and answer.deed != REST):
            return None
        return self._fire(key, pressing, answer, at, now, out)

    def _fire(self, key: Spot, pressing: Pressing, answer: Answer, at: int, now: int, out: list[Effect]) -> Trace:
        trace = Trace(self._next_id, at, now)
        self._next_id += 1
        trace.answer, trace.code, trace.pressed = answer, key[1], pressing.since
        if pressing.strength != FULL:
            trace.strength = pressing.strength
        if answer.gesture == HOLD:
            trace.remark(f"held for {say_duration(at - pressing.since)}")
        elif answer.gesture == DOUBLE and pressing.until:
            trace.remark(f"the second tap came after {say_duration(at - pressing.until)}")
        self.fresh.append(trace)
        self._carry_out(trace, answer, now, out)
        if answer.gesture not in (TAP, RELEASE):
            pressing.traces.append(trace)
        return trace

    def _end_once(self, surface_id: str, plan: Plan) -> None:
        """A layer that was on for one press goes off, unless this was the press that switched it on."""
        if any(answer.layer_switch and answer.layer_switch.how == ONE_PRESS for answer in plan.any()):
            return
        self.layers.end_once(surface_id)
        self.follow_layers()

    def next_deadline(self) -> int | None:
        """When `advance` has to be called next, in ns, or None."""
        dues = [pressing.recogniser.due for pressing in self._pressing.values() if pressing.recogniser.due]
        if (moves := self.mover.next_deadline()) is not None:
            dues.append(moves)
        return min(dues) if dues else None

    def advance(self, now: int, out: list[Effect]) -> None:
        """Decide the gestures whose time is over; their traces are in `fresh`."""
        for key, pressing in list(self._pressing.items()):
            due = pressing.recogniser.due
            if due and due <= now:
                self._decide(key, pressing, "time", due, now, out)
        self.mover.advance(now, out)

    @property
    def recognising(self) -> bool:
        """Whether any gesture is undecided, or anything moves."""
        return bool(self._pressing) or self.mover.busy

    def drop_gestures(self) -> None:
        """Everything is stopped: what waits to become a tap or a hold becomes nothing."""
        for key, pressing in list(self._pressing.items()):
            pressing.recogniser.feed("stop", 0)
            self._settle(key, pressing)

    # Carrying out.

    def _carry_out(self, trace: Trace, answer: Answer, now: int, out: list[Effect]) -> None:
        try:
            self._answer(trace, answer, now, out)
        except ProblemError as error:
            # What one press meets is told in its trace, and stops nobody else.
            self._ahead = None
            trace.state, trace.why = "nothing", f"it cannot be played: {error.problem}"

    def _answer(self, trace: Trace, answer: Answer, now: int, out: list[Effect]) -> None:
        if answer.steps:
            answer = trace.answer = self._next_step(trace, answer, now)
        if answer.why:
            trace.why = answer.why
        if answer.timetable is not None:
            live = None
            if answer.macro is not None:
                trace.macro = answer.macro.id
                if answer.macro.live or answer.macro.types_text:
                    live = self._live(trace, answer, now)
            timetable, self._ahead = self._ahead or answer.timetable, None
            if timetable is answer.timetable and live is None and answer.macro is not None and answer.macro.types_text:
                timetable = self._choose(answer)
            self.play(trace, timetable, answer.manner, answer.again_key, now, out, live)
        elif answer.layer_switch is not None:
            trace.state = "done"
            trace.why = self.layers.switch(answer.layer_switch, answer.surface.id, (answer.surface.id, trace.code))
            self.follow_layers()
        elif answer.level is not None:
            level, change = self.levels.change(answer.level), answer.level
            run = trace.run = Run(0, Timetable(), now, None, trace)
            run.rights = answer.rights
            run.state, run.ended, trace.state = "done", now, "done"
            out.extend((code, value, now, run) for code, value in
                       change.target.values(level, centred=change.target.centred))
            trace.why = f"now at {float(level) * 100:.4g} %"
        elif answer.deed:
            self._do(trace, answer, now, out)

    def _do(self, trace: Trace, answer: Answer, now: int, out: list[Effect]) -> None:
        deed = answer.deed
        if deed not in (SWALLOW, PASS):
            trace.state = "done"
        if deed == STOP:
            count = self.player.stop_all(now, out)
            self.drop_gestures()
            trace.why = f"{count} {'run' if count == 1 else 'runs'} ended"
        elif deed == REST:
            trace.why = "acts again" if answer.surface.id in self.resting else "types normally until you wake it"
        elif deed == FIRST:
            count = self.restart_cycles(answer.surface.id, answer.control)
            trace.why = "its cycle starts again" if count else "no cycle is under way"
        elif deed == PIN:
            self.layers.pin(pinned=not self.layers.pinned)
            self.follow_layers()
            trace.why = ("layers stay as they are, whatever has the focus" if self.layers.pinned
                         else "layers follow the focus again")

    def _next_step(self, trace: Trace, answer: Answer, now: int) -> Answer:
        at, last = self._cycles.get(answer.again_key, (-1, 0))
        if answer.back and last and now - last > answer.back:
            at = -1
        at = (at + 1) % len(answer.steps)
        self._cycles[answer.again_key] = (at, now)
        self.layers.version += 1
        trace.remark(f"{at + 1} of {len(answer.steps)}")
        return answer.steps[at]

    def cycles(self, now: int) -> list[tuple[str, str, str, str, int]]:
        """Where every cycle stands: surface, layer, control, gesture, and which action comes next, from 0."""
        found = []
        for surface, layer, binding in self._planner.cycles:
            key = (surface.id, layer.id, binding.control, binding.gesture)
            found.append((*key, self._cycle_at(key, binding.back, now) % len(binding.action.steps)))
        return found

    def _cycle_at(self, key: object, back: int, now: int) -> int:
        at, last = self._cycles.get(key, (-1, 0))
        return 0 if back and last and now - last > back else at + 1

    def restart_cycles(self, surface_id: str, control: str = "") -> int:
        """Begin the cycles of a control (or all of a surface) with their first action.  Returns how many."""
        keys = [key for key in self._cycles if isinstance(key, tuple) and key[0] == surface_id
                and control in ("", key[2])]
        for key in keys:
            del self._cycles[key]
        self.layers.version += 1
        return len(keys)

    def _live(self, trace: Trace, answer: Answer, now: int) -> Live | None:
        macro = answer.macro
        if macro is None or macro.score is None:
            return None
        given = given_by(trace, now, {"position": self._position}, kept=self.kept, levels=self.levels,
                         macro=macro.id)
        return Live(macro.score, given, locked=macro.types_text and self.caps_lock())

    def play_macro(self, trace: Trace, macro: Macro, now: int, out: list[Effect],
                   values: Mapping[str, Value] | None = None, answers: Mapping[str, str] | None = None) -> None:
        """Play a macro that no control plays: for a client, with the values and answers that it gave."""
        trace.macro = macro.id
        locked = macro.types_text and self.caps_lock()
        given = given_by(trace, now, values, kept=self.kept, levels=self.levels, macro=macro.id, answers=answers)
        live = Live(macro.score, given, locked=locked) if macro.score else None
        timetable = macro.locked_timetable if locked and macro.locked_timetable else macro.timetable
        manner = Manner(macro.again, longest=macro.longest, overtaken=self.desk.overtaken_after,
                        goes_on=(macro.overtaken or self.desk.overtaken) == GO_ON)
        self.play(trace, timetable, manner, ("play", macro.id), now, out, live)

    def play(self, trace: Trace, timetable: Timetable, manner: Manner, again_key: object, now: int,
             out: list[Effect], live: Live | None = None) -> None:
        """Start a run on behalf of a trace."""
        trace.state = "holding" if timetable.holds else "playing"
        rights = trace.answer.rights if trace.answer is not None else None
        if rights is not None or timetable.whose is not None:
            self._count_press(trace, now)
        run, outcome = self.player.start(timetable, now, out, again_key=again_key, owner=trace, manner=manner,
                                         live=live, rights=rights)
        trace.run = run
        if run is not None and trace.macro and (macro := self.desk.macros.get(trace.macro)) is not None:
            run.types = macro.types_text
        if run is not None and trace.answer is not None:
            run.surface, run.latched = trace.answer.surface.id, trace.answer.latches
        if run is None:
            trace.state = {"queued": "queued", "ended": "done"}.get(outcome, "nothing")
            trace.why = {"ignored": "still playing from the previous press; ignored",
                         "queued": "waits for the previous run to end", "ended": "ended by this press",
                         "queue full": "too many presses are waiting; ignored"}[outcome]

    def _count_press(self, trace: Trace, now: int) -> None:
        """A person's press lets a stranger's control type one character, whichever of its gestures comes of it."""
        surface, gesture = (trace.answer.surface.id, trace.answer.gesture) if trace.answer is not None else ("", PRESS)
        control = (surface, trace.code)
        if gesture == RELEASE or (gesture in (TAP, HOLD, DOUBLE) and self._counted.get(control) == PRESS):
            return
        self._counted[control] = gesture
        self.player.gate.begun(now)

    def new_trace(self, arrived: int, now: int, origin: str = "press") -> Trace:
        """A fresh trace with the next number."""
        trace = Trace(self._next_id, arrived, now, origin)
        self._next_id += 1
        return trace

    def let_go_surface(self, surface_id: str, now: int, out: list[Effect]) -> list[tuple[int, Trace | None]]:
        """Release every control of a surface that is gone: their codes, and the traces that ended."""
        self.mover.let_go(surface_id, now, out)
        keys = [key for key in self._held if key[0] == surface_id]
        ended = [(key[1], self.feed(*key, 0, now, now, out, gone=True)) for key in keys]
        for key in [key for key in self._pressing if key[0] == surface_id]:
            self._decide(key, self._pressing[key], "gone", now, now, out)
        return ended

    def lost_latches(self) -> list[Run]:
        """Runs that are latched down by bindings that are not there any more: nobody could let them go."""
        latched = [run for run in self.player.runs.values() if run.latched]
        if not latched:
            return []
        there = {(surface.id, layer.id, *key) for surface in self.desk.surfaces.values() for layer in surface.layers
                 for key, binding in layer.bindings.items()
                 if any(step.kind == "latch" for step in (binding.action, *binding.action.steps))}
        return [run for run in latched if run.again_key not in there]

    def held(self) -> list[Spot]:
        """(surface, code) of the controls that are down."""
        return list(self._held)
