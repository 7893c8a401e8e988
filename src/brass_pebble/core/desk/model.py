"""The desk: surfaces and layers.  Data only, never changed in place; `read/` makes it of TOML."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, field
from functools import cached_property

from brass_pebble.core.desk.layer_switch import FollowRule
from brass_pebble.core.devices.identity import DeviceRule
from brass_pebble.core.devices.layout import EMPTY, Control, Layout
from brass_pebble.core.devices.parts import Part, Shares, signals_of, taker
from brass_pebble.core.effects.drive import DriveTarget
from brass_pebble.core.effects.kinds import MIDI, NOTE, kind_of
from brass_pebble.core.effects.messages import receiver_name
from brass_pebble.core.label.sizes import Size
from brass_pebble.core.macro.timetable import DEFAULT_GAP, DEFAULT_TAP, Macro
from brass_pebble.core.play.axis import PLAIN, STICK, AxisSettings
from brass_pebble.core.play.gesture import HOLD_AFTER, SECOND_WITHIN, WITH, is_part, rank
from brass_pebble.core.play.player import OVERTAKEN
from brass_pebble.core.say.durations import MS
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.say.setting import Choice, Flag, Number, Pair, Text, Texts, Time, setting
from brass_pebble.core.say.tints import TINTS
from brass_pebble.core.signals.key_places import US, Places
from brass_pebble.core.signals.keys import is_sendable
from brass_pebble.core.signals.signal import AXIS, MOVING, WHEEL, find_signal, part_of, part_signal, signal_name
from brass_pebble.core.voice.listening import Listening
from brass_pebble.core.voice.phrase import Phrase

from .binding import WAIT, WAITS, Binding

DEFAULT_PATIENCE = 250_000_000
# Where an HTTP request of a macro may be led on to.
SAME_HOST, ANYWHERE = "same host", "anywhere"
REDIRECTS = (SAME_HOST, ANYWHERE)
ARMED = "armed"
# What a person types to take over the last keyboard there is.
ON_TRIAL = "take my only keyboard"
# BTN_LEFT; KEY_A, KEY_ENTER and KEY_SPACE of linux/input-event-codes.h
LEFT_BUTTON, TYPED_WITH = 0x110, (30, 28, 57)
# What becomes of a run that is overtaken, since the computer stood still; and from when on, in ns: the least.
END, GO_ON = "end", "go on"
DEFAULT_SHORTEST_TAP = 3_000_000
LEAST_OVERTAKEN = 100 * MS
LONGEST_DEBOUNCE = 200 * MS
PORT = Number(0, 65_534, hint="Write a number from 1 to 65534, as midi = 5004", whole=True)


@dataclass(frozen=True)
class Layer:
    """A named set of bindings: (control, gesture) → binding.  It comes on by itself for the window it `follows`."""

    id: str
    name: str = setting("", Text(), "its name; its id without it", "name")
    tint: str = setting("", Choice(TINTS), "its tint", "tint", proposals=("", *TINTS))
    bindings: dict[tuple[str, str], Binding] = field(default_factory=dict)
    starts: str = setting("off", Choice(("on", "off")), "whether it is on at the start; the lowest always is",
                          "at the start", proposals=("off", "on"))
    follows: FollowRule | None = None

    def gestures_of(self, control: str) -> tuple[str, ...]:
        """The gestures that are bound on a control, without those together with another one."""
        return self._by_control.get(control, ())

    @cached_property
    def _by_control(self) -> dict[str, tuple[str, ...]]:
        found: dict[str, list[str]] = {}
        for control, gesture in self.bindings:
            if not gesture.startswith(WITH):
                found.setdefault(control, []).append(gesture)
        return {control: tuple(sorted(gestures, key=rank)) for control, gestures in found.items()}


@dataclass(frozen=True)
class Surface:
    """A device that is taken over: its drawing, its settings, its layers from base to top.

    Times are in ns.  `second` are keys that the device sends along with another one; they are dropped.  `lamps` tells
    what each of the device's own lamps (num, caps, scroll) shows: "armed", or the id of a layer.  `also` are further
    devices that belong to it: some pads report a second device for the same fingers.  `wanted` are devices that one
    that came from somebody else would take if it were approved.  `cap` and `label_sizes` are how
    large its labels are on paper, in mm: those of a key of one unit, and of single controls.  One that is spoken to has
    `phrases`, and is drawn from them; `pronounced` are words with their sounds (ARPAbet).
    """

    id: str
    name: str = setting("", Text(), "its name; its id without it", "name")
    layout: Layout = EMPTY
    rule: DeviceRule = DeviceRule()
    unbound: str = setting("swallow", Choice(("swallow", "pass")), "what happens to presses without a binding",
                           "unbound controls", proposals=("swallow", "pass"),
                           shown={"swallow": "are swallowed", "pass": "pass through to the focused program"})
    may_be_only_keyboard: bool = setting(False, Flag(), "true: it is taken even if it is the only full keyboard")
    at: tuple[float, float] = setting((0.0, 0.0), Pair(), "its position on the desk, in key units", "place")
    layers: tuple[Layer, ...] = ()
    unplugged: str = setting("go on", Choice(("go on", "end")), "what happens to its macros when it is unplugged",
                             "when unplugged", proposals=("go on", "end"),
                             shown={"go on": "its macros play on", "end": "its macros end"})
    second: frozenset[int] = setting(frozenset(), Texts("keys"), "keys that the device sends along with another one: "
                                     "dropped, and said in the trace", leans=True)
    debounce: int = setting(0, Time(most=LONGEST_DEBOUNCE, why=", or every release would be late",
                                    hint="Switches settle within 5 to 30 ms", bends=True),
                            "a release counts when it has lasted so long; without it at once", "debounce",
                            proposals=(None, "5ms", "10ms", "15ms", "20ms", "30ms", "50ms"),
                            shown={"0ms": "none: a release counts at once"})
    lamps: tuple[tuple[str, str], ...] = ()
    also: tuple[DeviceRule, ...] = ()
    wanted: tuple[DeviceRule, ...] = ()
    hold_after: int = setting(HOLD_AFTER, WAIT, "how long a control is down until it is a hold; without it, the "
                              "desk's", "held for", proposals=(None, *WAITS[1:]))
    second_within: int = setting(SECOND_WITHIN, WAIT, "how soon the second tap of a double tap comes; without it, the "
                                 "desk's", "second tap within", proposals=(None, *WAITS[1:]))
    axes: tuple[tuple[str, AxisSettings], ...] = ()
    never_lets_go: bool = setting(False, Flag(), "true: the device tells no releases, so each press ends at once")
    rumble: frozenset[str] = setting(frozenset(), Texts("kinds of action"), "what makes it rumble, if it can",
                                     leans=True)
    cap: Size | None = None
    label_sizes: tuple[tuple[str, Size], ...] = ()
    home: tuple[str, ...] = setting((), Texts("controls"), "where fingers rest, for better places", leans=True)
    phrases: tuple[Phrase, ...] = ()
    listening: Listening = Listening()
    pronounced: tuple[tuple[str, tuple[str, ...]], ...] = ()
    takes: tuple[Part, ...] = setting((), Texts("parts"), "the parts of its device that are taken; without it, all",
                                      "parts taken", leans=True, shown={"": "everything"})
    may_be_only_pointer: bool = setting(False, Flag(), "true: it is taken even if it is the only thing to point and "
                                        "click with")

    @property
    def shares(self) -> Shares | None:
        """What of its device passes at any time; None if nothing does but by a virtual key."""
        if not self.takes and self.unbound != "pass":
            return None
        always = taker(self.takes, self.layout, ())
        # What nothing is bound to depends on the layers; keys that a virtual keyboard can send are passed on by it.
        return Shares(taker(self.takes, self.layout, None), lambda signal: always(signal) and (
            self.unbound != "pass" or (signal < MOVING and is_sendable(signal))))

    def taken_now(self, stack: Collection[str]) -> Callable[[int], bool]:
        """Which signals are taken while these layers are on."""
        bound = frozenset(signal for item in self.layout.controls if self._means_something(item.id, stack)
                          for signal in signals_of(self.layout, item.id))

        takes = taker(self.takes, self.layout, stack)

        def taken(signal: int) -> bool:
            return takes(signal) and (
                self.unbound != "pass" or (signal < MOVING and is_sendable(signal)) or signal in bound)
        return taken

    def _means_something(self, control: str, stack: Collection[str]) -> bool:
        return any(layer.id in stack and any(bound == control for bound, _ in layer.bindings) for layer in self.layers)

    @property
    def takes_pointing(self) -> bool:
        """Whether it takes what one points and clicks with: the motion, a place, or the left button.

        What it takes only while a layer is on that something has to bring on can be got back by letting that go.
        """
        pointing = (WHEEL.first, WHEEL.first + 1, AXIS.first, AXIS.first + 1, LEFT_BUTTON)
        taken = self.taken_now([layer.id for index, layer in enumerate(self.layers)
                                if not index or layer.starts == "on"])
        passed = LEFT_BUTTON if self.unbound == "pass" and not self._binds(LEFT_BUTTON) else None
        return any(taken(signal) for signal in pointing if signal != passed)

    def _binds(self, code: int) -> bool:
        control = self.control_of(code)
        return any(bound == control for layer in self.layers for bound, _ in layer.bindings)

    @property
    def takes_typing(self) -> bool:
        """Whether it takes the keys that one types with."""
        return all(map(taker(self.takes, self.layout, ()), TYPED_WITH))

    def control_of(self, code: int) -> str:
        """The id of the control that sends `code`; the key's name if the drawing has none."""
        if part := part_of(code):
            return part[0]
        control = self.layout.by_signal.get(code)
        return control.id if control is not None else signal_name(code)

    def proper_name(self, control: str) -> str:
        """The one name by which a control is found: its id in the drawing, or the name of the key it sends."""
        if control in self.layout.by_id:
            return control
        code = self.code_of(control)
        return control if code is None else self.control_of(code)

    def settings_of(self, control: Control, axis: int = 0) -> AxisSettings:
        """How an axis of a control is read; a stick's second one may have settings of its own, named “stick down”."""
        known = dict(self.axes)
        found = known.get(f"{control.id} down") if axis else None
        return found or known.get(control.id) or usual_settings(control)

    def parts(self) -> list[int]:
        """The signals of the parts of moving controls that anything is bound to."""
        return [part_signal(control, gesture) for layer in self.layers for control, gesture in layer.bindings
                if is_part(gesture)]

    def code_of(self, control: str) -> int | None:
        """The code that a control sends."""
        if (item := self.layout.by_id.get(control)) is not None:
            return item.code
        try:
            return find_signal(control)
        except ProblemError:
            return None

    @cached_property
    def plays(self) -> tuple[str, ...]:
        """The macros that it plays, by id, each once."""
        return tuple(dict.fromkeys(
            action.target for layer in self.layers for binding in layer.bindings.values()
            for action in (binding.action, *binding.action.steps) if action.kind == "play"))

    @cached_property
    def leans_on_others(self) -> bool:
        """Whether anything of it is bound together with a control of another surface."""
        return any(gesture.startswith(WITH) and "/" in gesture for layer in self.layers
                   for _, gesture in layer.bindings)

    def can_wake_itself(self) -> bool:
        """Whether one of its controls puts it to rest and wakes it."""
        return any(binding.action.target == "rest or wake" for layer in self.layers
                   for binding in layer.bindings.values())

    def owner(self, control: str, stack: Collection[str] | None = None) -> Layer | None:
        """The topmost layer of those that are on (`stack`, ids; None for all) that binds anything on a control itself.

        It owns the control: what lower layers bind there does not answer, so that no second meaning comes along.
        """
        for layer in reversed(self.layers):
            if (stack is None or layer.id in stack) and layer.gestures_of(control):
                return layer
        return None

    def answer(self, control: str, gesture: str,
               stack: Collection[str] | None = None) -> tuple[Layer, Binding] | None:
        """The layer that answers a gesture of a control, and its binding.

        Together with another control, each layer is asked on its own, from the topmost.
        """
        if gesture.startswith(WITH):
            for layer in reversed(self.layers):
                if (stack is None or layer.id in stack) and (control, gesture) in layer.bindings:
                    return layer, layer.bindings[control, gesture]
            return None
        owner = self.owner(control, stack)
        binding = owner.bindings.get((control, gesture)) if owner else None
        return (owner, binding) if owner and binding else None

    def holder_of(self, gesture: str) -> tuple[str, str]:
        """The surface and control that a gesture like "with pedals/left" is together with."""
        surface, slash, control = gesture.removeprefix(WITH).partition("/")
        return (surface, control) if slash else (self.id, surface)


def usual_settings(control: Control) -> AxisSettings:
    """How an axis is read that its desk says nothing of."""
    return STICK if control.centred else PLAIN


@dataclass(frozen=True)
class StagePlace:
    """Where a stage program is drawn on the desk, in key units."""

    program: str
    at: tuple[float, float] = (0.0, 0.0)
    size: tuple[float, float] = (6.0, 3.0)


@dataclass(frozen=True)
class NetworkSettings:
    """What is open to the network."""

    midi: int = setting(0, PORT, "port for MIDI sessions, and the next one; 0 for none")
    osc: int = setting(0, PORT, "port for OSC; 0 for none")
    listen: str = setting("0.0.0.0", Text(what="address"), "the address to listen on")
    name: str = setting("", Text(), "what others see; the desk's name without it")


@dataclass(frozen=True)
class Desk:
    """One whole set-up; times in ns.  `places` are where the receiving programs' layout has its keys."""

    name: str = setting("Unnamed desk", Text(), "its name", "name")
    output: str = setting("uinput", Text(what="kind of output"), "where keys go: `uinput`, `x11`, or `stage` for the "
                          "simulated programs", leans=True)
    tap: int = setting(DEFAULT_TAP, Time(), "how long a tap holds its key", "tap",
                       proposals=(None, "20ms", "30ms", "50ms", "60ms", "80ms", "100ms"))
    gap: int = setting(DEFAULT_GAP, Time(), "the pause between two taps", "gap",
                       proposals=(None, "5ms", "10ms", "30ms", "40ms", "60ms"))
    keyboard: str = setting("us", Text(what="keyboard layout"), "the keyboard layout of the receiving programs: `de`, "
                            "`us(dvorak)`, or `system`", "keyboard layout")
    screen: tuple[int, int] = setting((1920, 1080), Pair(whole=True), "the screen's size in pixels, for places of the "
                                      "pointer")
    patience: int = setting(DEFAULT_PATIENCE, Time(), "how long a press waits for modifiers held on the main keyboard",
                            "patience", proposals=(None, "0ms", "100ms", "500ms", "1s"))
    hold_after: int = setting(HOLD_AFTER, WAIT, "how long a control is down until it is a hold", "held for",
                              proposals=(None, *WAITS[1:]))
    second_within: int = setting(SECOND_WITHIN, WAIT, "how soon the second tap of a double tap has to come",
                                 "second tap within", proposals=(None, *WAITS[1:]))
    surfaces: dict[str, Surface] = field(default_factory=dict)
    stage: tuple[StagePlace, ...] = ()
    macros: dict[str, Macro] = field(default_factory=dict)
    broken_macros: dict[str, str] = field(default_factory=dict)
    midi_to: str = setting("", Text(), "where MIDI messages without a receiver go", "MIDI goes to")
    middle_c: int = setting(4, Number(3, 5, "note 60 is called C3, C4 or C5", "Write 3, 4 or 5", whole=True),
                            "the octave in which note 60 lies", "middle C", proposals=(3, 4, 5))
    network: NetworkSettings = field(default_factory=NetworkSettings)
    history: bool = setting(True, Flag(), "false: presses are not counted", "count presses", proposals=(True, False))
    redirects: str = setting(SAME_HOST, Choice(REDIRECTS), "where a macro's HTTP requests may be redirected to; the "
                             "same host means its port, too",
                             "HTTP redirects", proposals=REDIRECTS)
    overtaken: str = setting(END, Choice((END, GO_ON)), "what happens to a macro when the computer was suspended or "
                                                        "too busy",
                             "when overtaken", proposals=(END, GO_ON), shown={END: "macros end", GO_ON: "macros go on"})
    overtaken_after: int = setting(OVERTAKEN, Time(LEAST_OVERTAKEN, why=": shorter pauses are ordinary",
                                                   hint='Most desks need no more than the default, "1s"'),
                                   "for so long or longer; presses made meanwhile are never played", "overtaken after",
                                   proposals=(None, "500ms", "2s", "5s"))
    shortest_tap: int = setting(DEFAULT_SHORTEST_TAP, Time(), "how short taps may become when a dial is turned "
                                "quickly: what your programs notice", leans=True)
    places: Places = US
    # Marks of what came from somebody else and counts as approved now.
    allowed: frozenset[str] = frozenset()

    @property
    def typing(self) -> tuple[object, ...]:
        """What the keys that actions send depend on beside the actions themselves."""
        return self.tap, self.shortest_tap, self.overtaken, self.overtaken_after, self.places

    def _targets(self) -> Iterator[DriveTarget]:
        """Everything that positions drive and keys set."""
        for surface in self.surfaces.values():
            for layer in surface.layers:
                for binding in layer.bindings.values():
                    for action in (binding.action, *binding.action.steps):
                        yield from (*action.drives, *((action.level.target,) if action.level else ()))

    @cached_property
    def uses_controller(self) -> bool:
        """Whether anything on it drives the virtual controller."""
        return any(target.kind == "controller" for target in self._targets()) or any(
            macro.drives_controller for macro in self.macros.values())

    @cached_property
    def receivers(self) -> frozenset[str]:
        """The names of those that messages go to; an empty one is the usual receiver."""
        driven = {target.to for target in self._targets() if target.kind == "midi"}
        # Only a timetable with messages has its codes in a list.
        return frozenset(driven | {receiver_name(code) for macro in self.macros.values()
                                   if isinstance(macro.timetable.codes, list)
                                   for code in set(macro.timetable.codes)
                                   if kind_of(code) in (MIDI, NOTE)})


def find_layer(surface: Surface, name: str) -> Layer | None:
    """A layer by its id, or else its name in any case."""
    return next((layer for layer in surface.layers if layer.id == name), None) or next(
        (layer for layer in surface.layers if layer.name.casefold() == name.casefold()), None)
