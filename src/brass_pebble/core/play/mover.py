"""What turns, slides and tilts: from reported positions to presses of parts, and to what a position drives.

A step of a knob, a push of a stick and a zone of a slider are pressed and let go like keys, through the router, so
that they have layers, macros and traces like any key.  Pure: the time is an argument, effects go into a list.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Protocol

from brass_pebble.core.desk.model import Desk, Surface
from brass_pebble.core.devices.layout import Control
from brass_pebble.core.effects.drive import DriveTarget
from brass_pebble.core.effects.messages import merge_values
from brass_pebble.core.effects.pointer import REL_HWHEEL, REL_WHEEL
from brass_pebble.core.macro.timetable import Timetable
from brass_pebble.core.say.durations import MS, SECOND
from brass_pebble.core.signals.midi_in import COUNTS
from brass_pebble.core.signals.signal import AXIS, BEND, FINE_CC, NRPN, OSC, WHEEL, family_of

from .axis import SMOOTH_EVERY, AxisSettings, Calibration, Detents, Scale, directions, in_zone, pressed, smoothed
from .plan import MotionPlan
from .player import Effect, Run
from .trace import Trace

# A motion is over, and its trace told as done, when nothing has moved for so long.
QUIET = 400 * MS
RATE_EVERY = 8 * MS
# How often the trace of a motion that goes on is put into words.
SAY_EVERY = 40 * MS
# A pointer's motion as directions: so many counts within the time are a full push; it fades when the motion ends.
FULL_PUSH, FADE = 24, 40 * MS
MOST_STEPS = 400
# The wheels of a mouse: EV_REL codes HWHEEL and WHEEL.
WHEELS = (WHEEL.first + 6, WHEEL.first + 8)
_NOTHING = MotionPlan()
_RANGES = {FINE_CC: (0, 16383), BEND: (0, 16383), NRPN: (0, 16383), OSC: (0, 65535), AXIS: (-32768, 32767)}


@dataclass
class Moving:
    """One moving control.  `at` are its positions as they count, `target` where smoothing leads to."""

    surface: Surface
    control: Control
    settings: list[AxisSettings]
    scales: list[Scale]
    raw: list[int | None] = field(default_factory=lambda: [None, None])
    at: list[float] = field(default_factory=lambda: [0.0, 0.0])
    target: list[float] = field(default_factory=lambda: [0.0, 0.0])
    detents: Detents | None = None
    active: set[int] = field(default_factory=set)
    ways: frozenset[str] = frozenset()
    down: bool = False
    sent: dict[int, int] = field(default_factory=dict)
    carry: list[float] = field(default_factory=lambda: [0.0, 0.0])
    level: Fraction = Fraction(0)
    seen: int = 0
    moved: int = 0
    flowed: int = 0
    said: int = 0
    trace: Trace | None = None
    run: Run | None = None
    due: int = 0
    calibrations: list[Calibration] | None = None

    @property
    def id(self) -> tuple[str, str]:
        """Surface and control."""
        return self.surface.id, self.control.id


class PartsPlayer(Protocol):
    """What answers the parts of a moving control: turned right, pushed up, in a zone."""

    resting: set[str]
    fresh: list[Trace]

    def motion_plans(self, surface_id: str) -> dict[str, MotionPlan]:
        """What the positions of a surface's moving controls lead to, by control."""

    def feed_part(self, surface_id: str, code: int, value: int, arrived: int, now: int, out: list[Effect],
                  position: int = 0) -> None:
        """A part was pressed or let go."""

    def held_trace(self, surface_id: str, code: int) -> Trace | None:
        """The trace of a part that is down, if its press is answered by itself."""

    def new_trace(self, arrived: int, now: int) -> Trace:
        """A trace to be filled in."""


class Mover:
    """All moving controls of a desk.  `told` are the positions that have changed since a client heard of them."""

    def __init__(self, router: PartsPlayer) -> None:
        self._router = router
        self._by_signal: dict[tuple[str, int], tuple[Moving, int]] = {}
        self._moving: dict[tuple[str, str], Moving] = {}
        self._ranges: dict[tuple[str, int], tuple[int, int]] = {}
        self._busy: dict[tuple[str, str], Moving] = {}
        self.told: dict[tuple[str, str], tuple[float, ...]] = {}

    def load(self, desk: Desk) -> None:
        """Use another desk.  What is where it was stays there."""
        before, self._moving, self._by_signal = self._moving, {}, {}
        for surface in desk.surfaces.values():
            for control in surface.layout.controls:
                if control.moves:
                    self._add(surface, control, before.get((surface.id, control.id)))
        self._busy = {key: moving for key, moving in self._moving.items() if moving.due}

    def _add(self, surface: Surface, control: Control, before: Moving | None) -> None:
        settings = [surface.settings_of(control, axis) for axis in range(len(control.moves))]
        moving = before if before is not None and before.control == control else Moving(surface, control, [], [])
        moving.surface, moving.settings = surface, settings
        self._moving[moving.id] = moving
        for axis, signal in enumerate(control.moves):
            self._by_signal[surface.id, signal] = (moving, axis)
        self._scale(moving)

    def _scale(self, moving: Moving) -> None:
        moving.scales = []
        for axis, signal in enumerate(moving.control.moves):
            family = family_of(signal)
            low, high = self._ranges.get((moving.surface.id, signal), _RANGES.get(family, (0, 127)) if family else
                                         (0, 127))
            centre = (low + high + 1) // 2 if moving.control.centred else None
            moving.scales.append(Scale(low, high, centre).fitted(moving.settings[axis]))

    def set_ranges(self, surface_id: str, ranges: dict[int, tuple[int, int]]) -> None:
        """The raw values at the ends that a device tells of its axes."""
        for signal, ends in ranges.items():
            if ends[1] > ends[0]:
                self._ranges[surface_id, signal] = ends
        for moving in self._moving.values():
            if moving.surface.id == surface_id:
                self._scale(moving)

    def calibrate(self, surface_id: str, control: str, calibrations: list[Calibration] | None) -> \
            list[Calibration] | None:
        """Have an axis watched, one calibration for each; or end it with None.  Returns those before."""
        moving = self._moving.get((surface_id, control))
        if moving is None:
            return None
        before, moving.calibrations = moving.calibrations, calibrations
        return before

    def raw(self, surface_id: str, control: str) -> list[int]:
        """What a control's axes reported last."""
        moving = self._moving.get((surface_id, control))
        return [value for value in moving.raw if value is not None] if moving else []

    def positions(self) -> list[tuple[str, str, tuple[float, ...]]]:
        """Where everything is that has moved yet."""
        return [(*key, tuple(moving.at[:len(moving.control.moves)])) for key, moving in self._moving.items()
                if moving.seen and not moving.control.turns]

    def raw_for(self, surface_id: str, control: str, axis: int, position: float) -> tuple[int, int] | None:
        """The signal and the raw value with which a control would report a position; None if it has no such axis."""
        moving = self._moving.get((surface_id, control))
        if moving is None or axis >= len(moving.control.moves):
            return None
        scale, signal = moving.scales[axis], moving.control.moves[axis]
        if scale.centre is None:
            return signal, round(scale.low + min(1.0, max(0.0, position)) * (scale.high - scale.low))
        side = scale.high - scale.centre if position >= 0 else scale.centre - scale.low
        return signal, round(scale.centre + min(1.0, max(-1.0, position)) * side)

    # Arrivals.

    def move(self, surface_id: str, signal: int, value: int, arrived: int, now: int, out: list[Effect]) -> None:
        """An axis reported a raw position, or a wheel how far it was turned."""
        found = self._by_signal.get((surface_id, signal))
        if found is None or surface_id in self._router.resting:
            return
        moving, axis = found
        if moving.control.turns:
            counts = moving.control.counts
            self._turn(moving, axis, COUNTS[counts](value) if counts else value, arrived, now, out)
            return
        if moving.calibrations:
            moving.calibrations[axis].see(value)
        settings, scale = moving.settings[axis], moving.scales[axis]
        place = scale.place(value)
        before = moving.target[axis]
        if moving.raw[axis] is not None and abs(place - before) < settings.still and place not in (0.0, 1.0, -1.0):
            return
        moving.raw[axis] = value
        moving.target[axis] = place
        if settings.smooth and moving.seen:
            self._smooth(moving, arrived)
            self._wake_at(moving, now + SMOOTH_EVERY)
        else:
            moving.at[axis] = place
        moving.seen = arrived
        self._apply(moving, arrived, now, out)

    def _smooth(self, moving: Moving, at: int) -> bool:
        going = False
        for axis in range(len(moving.control.moves)):
            moving.at[axis] = smoothed(moving.at[axis], moving.target[axis], at - moving.seen, moving.settings[axis])
            going |= moving.at[axis] != moving.target[axis]
        return going

    def _plan(self, moving: Moving) -> MotionPlan:
        return self._router.motion_plans(moving.surface.id).get(moving.control.id, _NOTHING)

    def _apply(self, moving: Moving, arrived: int, now: int, out: list[Effect]) -> None:
        """The position has changed: what follows from it."""
        plan = self._plan(moving)
        self.told[moving.id] = tuple(moving.at[:len(moving.control.moves)])
        settings = moving.settings[0]
        if plan.turns[0] or plan.turns[1]:
            self._step(moving, plan, arrived, now, out)
        wanted: set[int] = set()
        if plan.pushes:
            moving.ways = directions(*self._across_and_down(moving), moving.ways, settings)
            wanted.update(signal for way, signal in plan.pushes.items() if way in moving.ways)
        if plan.zones:
            place = self._way(moving)
            wanted.update(signal for low, high, signal in plan.zones
                          if in_zone(place, low, high, signal in moving.active))
        if wanted != moving.active:
            self._hold(moving, wanted, arrived, now, out)
        if plan.pushes and moving.active:
            self._hasten(moving)
        if plan.presses:
            down = pressed(moving.at[0], moving.down, settings)
            if down != moving.down:
                moving.down = down
                self._feed(moving, moving.control.code, int(down), arrived, now, out)
        if plan.drive is not None:
            self._drive(moving, plan, arrived, now, out)

    def _across_and_down(self, moving: Moving) -> tuple[float, float]:
        across = -moving.at[0] if moving.settings[0].invert else moving.at[0]
        down = moving.at[1] if len(moving.control.moves) > 1 else 0.0
        return across, -down if len(moving.settings) > 1 and moving.settings[1].invert else down

    def _way(self, moving: Moving) -> float:
        """How far along its whole way it is, 0 to 1."""
        place = (moving.at[0] + 1) / 2 if moving.control.centred else moving.at[0]
        return 1 - place if moving.settings[0].invert else place

    def _step(self, moving: Moving, plan: MotionPlan, arrived: int, now: int, out: list[Effect]) -> None:
        left, right, each = plan.turns
        if moving.detents is None or moving.detents.each != each:
            moving.detents = Detents(each)
        raw = moving.raw[0]
        if raw is not None:
            steps = moving.detents.to(moving.scales[0].share(raw))
            self._fire(moving, -steps if moving.settings[0].invert else steps, left, right, arrived, now, out)

    def _turn(self, moving: Moving, axis: int, counts: int, arrived: int, now: int, out: list[Effect]) -> None:
        """A wheel was turned by so many counts."""
        plan = self._plan(moving)
        if moving.settings[axis].invert:
            counts = -counts
        left, right, each = plan.turns
        if axis == 0 and (left or right):
            if moving.detents is None or moving.detents.each != each:
                moving.detents = Detents(each)
            self._fire(moving, moving.detents.by(counts), left, right, arrived, now, out)
        if plan.pushes:
            self._fade(moving, arrived)
            moving.at[axis] = min(1.0, max(-1.0, moving.at[axis] + counts / FULL_PUSH))
            moving.seen = arrived
            self._apply_flow(moving, plan, arrived, now, out)
        if plan.drive is not None:
            self._drive_counts(moving, axis, plan, counts, (arrived, now), out)

    def _fade(self, moving: Moving, at: int) -> None:
        left = 0.5 ** ((at - moving.seen) / FADE) if moving.seen else 0.0
        moving.at = [value * left if abs(value * left) > 0.05 else 0.0 for value in moving.at]

    def _apply_flow(self, moving: Moving, plan: MotionPlan, arrived: int, now: int, out: list[Effect]) -> None:
        moving.ways = directions(moving.at[0], moving.at[1], moving.ways, moving.settings[0])
        wanted = {signal for way, signal in plan.pushes.items() if way in moving.ways}
        if wanted != moving.active:
            self._hold(moving, wanted, arrived, now, out)
        if any(moving.at) or moving.active:
            self._wake_at(moving, now + 2 * RATE_EVERY)

    def _fire(self, moving: Moving, steps: int, left: int, right: int, arrived: int, now: int,
              out: list[Effect]) -> None:
        signal = right if steps > 0 else left
        if signal:
            begin = len(out)
            for _ in range(min(abs(steps), MOST_STEPS)):
                self._feed(moving, signal, 1, arrived, now, out)
                self._feed(moving, signal, 0, arrived, now, out)
            if abs(steps) > 1:
                merge_values(out, begin)

    def _hold(self, moving: Moving, wanted: set[int], arrived: int, now: int, out: list[Effect]) -> None:
        """Let go the parts it has left, press those it is in now."""
        for signal in sorted(moving.active - wanted):
            self._feed(moving, signal, 0, arrived, now, out)
        for signal in sorted(wanted - moving.active):
            self._feed(moving, signal, 1, arrived, now, out)
        moving.active = wanted

    def _hasten(self, moving: Moving) -> None:
        """What taps rapidly taps the faster the further it is pushed."""
        across, down = self._across_and_down(moving)
        reach = max(0.1, moving.settings[0].shape(min(1.0, max(abs(across), abs(down)))))
        for signal in moving.active:
            trace = self._router.held_trace(moving.surface.id, signal)
            binding = trace.answer.binding if trace is not None and trace.answer is not None else None
            if trace is not None and trace.run is not None and binding is not None and binding.by_strength:
                assert trace.answer is not None and trace.answer.timetable is not None
                plain = trace.answer.timetable
                trace.run.timetable = Timetable(plain.times, plain.codes, plain.values, plain.lines,
                                            max(plain.times[-1] + MS, int(plain.length / reach)))

    def _feed(self, moving: Moving, signal: int, value: int, arrived: int, now: int, out: list[Effect]) -> None:
        position = 0 if moving.control.turns else round(self._way(moving) * 100)
        self._router.feed_part(moving.surface.id, signal, value, arrived, now, out, position)

    # Driving.

    def _drive(self, moving: Moving, plan: MotionPlan, arrived: int, now: int, out: list[Effect]) -> None:
        assert plan.drive is not None
        centred = moving.control.centred
        for axis, target in enumerate(plan.drive.drives[:len(moving.control.moves)]):
            value = moving.settings[axis].respond(moving.at[axis], centred=centred)
            if target.kind != "rate":
                self._send(moving, plan, target.values(value, centred=centred), (arrived, now), out)
            elif centred:
                if value and not moving.flowed:
                    moving.flowed = now
                    self._wake_at(moving, now + RATE_EVERY)
            else:
                # It has one axis only: the second place keeps where it was.
                before, moving.carry[1] = moving.carry[1], value
                self._send_rate(moving, plan, axis, target, (value - before) * target.speed, (arrived, now), out)

    def _drive_counts(self, moving: Moving, axis: int, plan: MotionPlan, counts: int, when: tuple[int, int],
                      out: list[Effect]) -> None:
        assert plan.drive is not None and plan.drive.binding is not None
        if axis >= len(plan.drive.drives):
            return
        target, each = plan.drive.drives[axis], plan.drive.binding.each or Fraction(1, 128)
        if target.kind == "rate":
            # A stick that is pushed down scrolls down; a wheel counts upward, and a pointer's wheel does, too.
            wheel = moving.control.moves[axis] in WHEELS and target.code in (REL_WHEEL, REL_HWHEEL)
            self._send_rate(moving, plan, axis, target, float(counts * target.sign if wheel else counts), when, out)
            return
        moving.level = min(Fraction(1), max(Fraction(0), moving.level + counts * each))
        self._send(moving, plan, target.values(moving.level, centred=False), when, out)

    def _send_rate(self, moving: Moving, plan: MotionPlan, axis: int, target: DriveTarget, amount: float,
                   when: tuple[int, int], out: list[Effect]) -> None:
        total = moving.carry[axis] + amount
        whole = int(total)
        moving.carry[axis] = total - whole
        if whole:
            moving.sent.pop(target.code, None)
            self._send(moving, plan, [(target.code, whole * target.sign)], when, out)
            moving.sent.pop(target.code, None)

    def _send(self, moving: Moving, plan: MotionPlan, values: Sequence[tuple[int, int]],
              when: tuple[int, int], out: list[Effect]) -> None:
        sent = moving.sent
        for code, value in values:
            if sent.get(code) != value:
                break
        else:
            return
        run = self._run(moving, plan, *when)
        # A pair of messages belongs together, though one half is as before.
        for code, value in values:
            out.append((code, value, when[1], run))
            sent[code] = value

    def _run(self, moving: Moving, plan: MotionPlan, arrived: int, now: int) -> Run:
        """The run that stands for the motion that is going on; its trace is made with it."""
        moving.moved = now
        self._wake_at(moving, now + QUIET)
        if moving.run is None:
            trace = self._router.new_trace(arrived, now)
            trace.answer, trace.code, trace.state = plan.drive, moving.control.code, "playing"
            moving.trace, moving.run = trace, Run(0, Timetable(), now, None, trace)
            moving.run.rights = plan.drive.rights if plan.drive is not None else None
            trace.run = moving.run
            self._router.fresh.append(trace)
        if moving.trace is not None and not moving.control.turns and now >= moving.said + SAY_EVERY:
            self._say_place(moving, moving.trace)
            moving.said = now
        return moving.run

    def _say_place(self, moving: Moving, trace: Trace) -> None:
        """Where it is, in the words of the trace."""
        if not moving.control.turns:
            across, down = self._across_and_down(moving)
            trace.why = (f"across {round(across * 100)} %, down {round(down * 100)} %"
                         if len(moving.control.moves) > 1 else f"at {round(self._way(moving) * 100)} %")

    # Time.

    def _wake_at(self, moving: Moving, due: int) -> None:
        moving.due = min(moving.due, due) if moving.due else due
        self._busy[moving.id] = moving

    @property
    def busy(self) -> bool:
        """Whether anything goes on by itself."""
        return bool(self._busy)

    def next_deadline(self) -> int | None:
        """When `advance` has to be called next, in ns, or None."""
        return min((moving.due for moving in self._busy.values()), default=None)

    def advance(self, now: int, out: list[Effect]) -> None:
        """What goes on while nothing new arrives: smoothing, rates, fading, the end of a motion."""
        for moving in [moving for moving in self._busy.values() if moving.due <= now]:
            moving.due = 0
            plan = self._plan(moving)
            if moving.control.turns:
                if plan.pushes and moving.seen:
                    self._fade(moving, now)
                    moving.seen = now
                    self._apply_flow(moving, plan, now, now, out)
            elif any(settings.smooth for settings in moving.settings):
                if self._smooth(moving, now):
                    self._wake_at(moving, now + SMOOTH_EVERY)
                moving.seen = now
                self._apply(moving, now, now, out)
            if moving.flowed:
                self._flow(moving, plan, now, out)
            if moving.run is not None:
                if now - moving.moved >= QUIET:
                    self._end_motion(moving, now)
                else:
                    self._wake_at(moving, moving.moved + QUIET)
            if not moving.due:
                self._busy.pop(moving.id, None)

    def _flow(self, moving: Moving, plan: MotionPlan, now: int, out: list[Effect]) -> None:
        """A stick that is pushed moves the pointer on and on."""
        # A pause of the whole machine is no leap of the pointer.
        passed, moving.flowed = min(now - moving.flowed, 4 * RATE_EVERY), 0
        for axis, target in enumerate(plan.drive.drives[:len(moving.control.moves)] if plan.drive else ()):
            if target.kind != "rate":
                continue
            rate = moving.settings[axis].respond(moving.at[axis], centred=True)
            if rate:
                self._send_rate(moving, plan, axis, target, rate * target.speed * passed / SECOND, (now, now), out)
                moving.flowed = now
                self._wake_at(moving, now + RATE_EVERY)
            else:
                moving.carry[axis] = 0.0

    def _end_motion(self, moving: Moving, now: int) -> None:
        run, trace = moving.run, moving.trace
        moving.run = moving.trace = None
        if run is not None and trace is not None:
            self._say_place(moving, trace)
            run.state, run.ended, trace.state = "done", now, "done"
            self._router.fresh.append(trace)

    def let_go(self, surface_id: str, now: int, out: list[Effect]) -> None:
        """A surface's device is gone, or rests: what it held is let go, and what was pushed is in the middle again."""
        for moving in self._moving.values():
            if moving.surface.id != surface_id:
                continue
            if moving.control.centred and any(moving.at):
                moving.at, moving.target = [0.0, 0.0], [0.0, 0.0]
                moving.raw = [None, None]
                self._apply(moving, now, now, out)
            self._hold(moving, set(), now, now, out)
            if moving.down:
                moving.down = False
                self._feed(moving, moving.control.code, 0, now, now, out)
            self._end_motion(moving, now)
            moving.ways, moving.due, moving.flowed, moving.carry = frozenset(), 0, 0, [0.0, 0.0]
            self._busy.pop(moving.id, None)

