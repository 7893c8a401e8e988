"""The desk: surfaces and layers.  Read from TOML tables; never changed in place."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from itertools import pairwise
from typing import Any

from brass_pebble.core.devices.identity import RULE_FIELDS, DeviceRule
from brass_pebble.core.devices.layout import EMPTY, MISSING, Control, Layout
from brass_pebble.core.devices.parts import GROUPS, NOTHING, Part, Shares, read_part, signals_of, taker
from brass_pebble.core.effects.drive import DriveTarget
from brass_pebble.core.effects.messages import receiver_name
from brass_pebble.core.effects.pointer import MESSAGES, OSC_MESSAGES, SOUNDING
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.label.sizes import Size, read_size
from brass_pebble.core.macro.timetable import DEFAULT_GAP, DEFAULT_TAP, Macro
from brass_pebble.core.play.axis import PLAIN, STICK, AxisSettings, read_settings
from brass_pebble.core.play.gesture import (
    AT,
    GESTURES,
    HOLD_AFTER,
    MOTIONS,
    SECOND_WITHIN,
    STRIKE,
    WITH,
    is_part,
    rank,
    read_band,
)
from brass_pebble.core.play.layers import FollowRule
from brass_pebble.core.play.player import OVERTAKEN
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.core.say.problem import Problem, ProblemError, nearest
from brass_pebble.core.say.toml_fields import Fields
from brass_pebble.core.say.toml_fields import Places as TextPlaces
from brass_pebble.core.signals.key_places import US, Places
from brass_pebble.core.signals.keys import is_sendable
from brass_pebble.core.signals.signal import AXIS, MOVING, WHEEL, find_signal, part_of, part_signal, signal_name

from .action import ACTION_KINDS
from .binding import Binding, Check, Reading, check_holder, read_binding, read_tint, read_wait

FORMAT = 1
MOST_SURFACES = 500
DEFAULT_PATIENCE = 250_000_000
OUTPUTS = ("uinput", "x11", "stage")
LAMPS = ("num", "caps", "scroll")
# Where an HTTP request of a macro may be led on to.
SAME_HOST, ANYWHERE = "same host", "anywhere"
REDIRECTS = (SAME_HOST, ANYWHERE)
ARMED = "armed"
# What a person types to take over the last keyboard there is.
ON_TRIAL = "take my only keyboard"
LONGEST_DEBOUNCE = 200_000_000
# BTN_LEFT; KEY_A, KEY_ENTER and KEY_SPACE of linux/input-event-codes.h
LEFT_BUTTON, TYPED_WITH = 0x110, (30, 28, 57)
# What becomes of a run that is overtaken, since the computer stood still; and from when on, in ns: the least.
END, GO_ON = "end", "go on"
LEAST_OVERTAKEN = 100_000_000
DEFAULT_SHORTEST_TAP = 3_000_000


@dataclass(frozen=True)
class Layer:
    """A named set of bindings: (control, gesture) → binding.

    `starts` is "on" or "off" (the lowest layer of a surface is always on); `follows` tells for which focused window it
    comes on by itself.
    """

    id: str
    name: str
    tint: str = ""
    bindings: dict[tuple[str, str], Binding] = field(default_factory=dict)
    starts: str = "off"
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
    """A device that is taken over: its drawing, its place on the desk (key units), its layers from base to top.

    `unbound` is "swallow" or "pass": what becomes of presses that nothing answers.  Without `may_be_only_keyboard` the
    last full keyboard of the machine is never taken over.  `unplugged` is "go on" or "end": what becomes of the macros
    it started when its device goes away.  `second` are keys that the device sends along with another one; they are
    dropped.  `debounce` is how long a release must last, in ns (0: it counts at once).  `lamps` tells what each of the
    device's own lamps (num, caps, scroll) shows: "armed", or the id of a layer.  `also` are further devices that belong
    to it: some pads report a second device for the same fingers.  `cap` and `label_sizes` are how large its labels are
    on paper, in mm: those of a key of one unit, and of single controls.  `home` are controls on which fingers rest.
    `takes` are the parts of the device that are taken (see core/devices/parts.py), all of them without it; the rest
    passes as it came.  Without `may_be_only_pointer` the last thing to point and click with is never taken over.
    """

    id: str
    name: str
    layout: Layout = EMPTY
    rule: DeviceRule = DeviceRule()
    unbound: str = "swallow"
    may_be_only_keyboard: bool = False
    at: tuple[float, float] = (0.0, 0.0)
    layers: tuple[Layer, ...] = ()
    unplugged: str = "go on"
    second: frozenset[int] = frozenset()
    debounce: int = 0
    lamps: tuple[tuple[str, str], ...] = ()
    also: tuple[DeviceRule, ...] = ()
    hold_after: int = HOLD_AFTER
    second_within: int = SECOND_WITHIN
    axes: tuple[tuple[str, AxisSettings], ...] = ()
    never_lets_go: bool = False
    rumble: frozenset[str] = frozenset()
    cap: Size | None = None
    label_sizes: tuple[tuple[str, Size], ...] = ()
    home: tuple[str, ...] = ()
    takes: tuple[Part, ...] = ()
    may_be_only_pointer: bool = False

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
        for control in self.layout.controls:
            if control.code == code or code in control.moves:
                return control.id
        return signal_name(code)

    def proper_name(self, control: str) -> str:
        """The one name by which a control is found: its id in the drawing, or the name of the key it sends."""
        if any(item.id == control for item in self.layout.controls):
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
        for item in self.layout.controls:
            if item.id == control:
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
    """What is open to the network: ports for MIDI sessions (the next one, too) and OSC, 0 for none.

    `listen` is the address that is listened at, `name` what others see; the desk's own name without it.
    """

    midi: int = 0
    osc: int = 0
    listen: str = "0.0.0.0"
    name: str = ""


@dataclass(frozen=True)
class Desk:
    """One whole set-up.  `output` is "uinput", "x11" or "stage"; times in ns.

    `keyboard` is the layout that the receiving programs have; `screen` its size in pixels; `patience` is how long a
    press waits for modifiers that are held on the main keyboard; `hold_after` and `second_within` are the times of
    holds and of double taps where surfaces and bindings say nothing else.  `midi_to` is where MIDI messages go that
    name no receiver; `middle_c` the octave in which note 60 lies.  Without `history`, presses are not counted.
    `places` are where the receiving programs' layout has its keys.  A macro of which a step comes later than
    `overtaken_after`, since the computer stood still, ends or goes on from then: `overtaken` is "end" or "go on".
    `redirects` is where a macro's HTTP request may be led on to: "same host" or "anywhere".
    `shortest_tap` is how short taps may become when a dial is turned quickly.
    """

    name: str = "Empty desk"
    output: str = "uinput"
    tap: int = DEFAULT_TAP
    gap: int = DEFAULT_GAP
    keyboard: str = "us"
    screen: tuple[int, int] = (1920, 1080)
    patience: int = DEFAULT_PATIENCE
    hold_after: int = HOLD_AFTER
    second_within: int = SECOND_WITHIN
    surfaces: dict[str, Surface] = field(default_factory=dict)
    stage: tuple[StagePlace, ...] = ()
    macros: dict[str, Macro] = field(default_factory=dict)
    broken_macros: dict[str, str] = field(default_factory=dict)
    midi_to: str = ""
    middle_c: int = 4
    network: NetworkSettings = field(default_factory=NetworkSettings)
    history: bool = True
    redirects: str = SAME_HOST
    overtaken: str = END
    overtaken_after: int = OVERTAKEN
    shortest_tap: int = DEFAULT_SHORTEST_TAP
    places: Places = US

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
        return any(target.kind == "controller" for target in self._targets())

    @cached_property
    def receivers(self) -> frozenset[str]:
        """The names of those that messages go to; an empty one is the usual receiver."""
        driven = {target.to for target in self._targets() if target.kind == "midi"}
        return frozenset(driven | {receiver_name(code) for macro in self.macros.values()
                                   for code in set(macro.program.codes)
                                   if MESSAGES <= code < OSC_MESSAGES or code >= SOUNDING})


@dataclass(frozen=True)
class KnownSurface:
    """A surface as it was read, without anything to complain of, and what it was read from."""

    table: dict[str, Any]
    made_from: tuple[object, ...]
    layout_id: str
    layout: Layout | None
    surface: Surface

    def fits(self, table: dict[str, Any], made_from: tuple[object, ...],
             layouts: Callable[[str], Layout | None]) -> bool:
        """Whether reading it again would give the same."""
        return (self.made_from == made_from and self.table == table
                and (not self.layout_id or layouts(self.layout_id) is self.layout))


def read_typing(data: dict[str, Any]) -> tuple[int, int, str]:
    """The desk's tap length and gap in ns and its keyboard layout, needed before its macros can be laid out."""
    fields = Fields(data, (), TextPlaces(""), "", [])
    return fields.duration("tap", DEFAULT_TAP), fields.duration("gap", DEFAULT_GAP), fields.text("keyboard", "us")


def read_desk(data: dict[str, Any], *, text: str, file: str, layouts: Callable[[str], Layout | None],
              layout_names: Iterable[str], macros: dict[str, Macro],
              broken_macros: dict[str, str],
              sleeps: Callable[[str, Reach], bool] = lambda place, reach: False,
              plays: Callable[[str, str], tuple[Reach, ...]] = lambda place, macro: (),
              known: dict[str, KnownSurface] | None = None, sleeping: object = None,
              places: Places = US,
              last_drawing: Callable[[str], Layout | None] = lambda surface: None) -> tuple[Desk, list[Problem]]:
    """A desk from its TOML table.  What is broken is left out and reported; the rest stands.

    `places` are those of the layout that `keyboard` names; `last_drawing(surface)` is the one that it had, for one
    whose layout is not there.

    `known` are surfaces that were read before, and are taken over if nothing they are made from has changed; it is
    brought up to date.  `sleeping` is what `sleeps` answers by: another one makes them be read anew.
    """
    problems: list[Problem] = []
    top = Fields(data, (), TextPlaces(text), file, problems)
    version = top.number("format", FORMAT)
    if version != FORMAT:
        top.problem("format", f"this desk has format {version:g}", f"This program reads format {FORMAT}")
    known_macros = {**macros, **broken_macros}
    surfaces = {}
    name = top.text("name", "Unnamed desk")
    output = top.choice("output", OUTPUTS, "uinput")
    tap, gap = top.duration("tap", DEFAULT_TAP), top.duration("gap", DEFAULT_GAP)
    keyboard = top.text("keyboard", "us")
    wide, high = top.pair("screen", (1920.0, 1080.0)) or (1920.0, 1080.0)
    patience = top.duration("patience", DEFAULT_PATIENCE)
    times = read_wait(top, "hold_after", HOLD_AFTER), read_wait(top, "second_within", SECOND_WITHIN)
    checks: list[Check] = []
    kept: dict[str, KnownSurface] = {}
    made_from = (frozenset(known_macros), times, sleeping)
    for count, (surface_id, fields) in enumerate(top.entries("surface")):
        if count >= MOST_SURFACES:
            fields.problem("", f"a desk has at most {MOST_SURFACES} surfaces; this one and the rest are left out",
                           "Split the desk into several")
            break
        before = (known or {}).get(surface_id)
        if before is not None and before.fits(fields.data, made_from, layouts):
            surfaces[surface_id], kept[surface_id] = before.surface, before
            continue
        so_far = len(problems), len(checks)
        try:
            surfaces[surface_id] = _read_surface(surface_id, fields, layouts, layout_names,
                                                 Reading(known_macros, checks), times, sleeps, plays,
                                                 partial(last_drawing, surface_id))
        except Exception as error:
            # Whatever it is, it concerns this surface and no other.
            fields.problem("", f"the surface “{surface_id}” cannot be read: {error!r}", "Write it in a simpler way")
            continue
        if so_far == (len(problems), len(checks)):
            name_of_layout = str(fields.data.get("layout", ""))
            kept[surface_id] = KnownSurface(fields.data, made_from, name_of_layout,
                                            layouts(name_of_layout) if name_of_layout else None,
                                            surfaces[surface_id])
    if known is not None:
        known.clear()
        known.update(kept)
    midi_to = top.text("midi_to", "")
    middle_c = int(top.number("middle_c", 4))
    if not 3 <= middle_c <= 5:
        top.problem("middle_c", "note 60 is called C3, C4 or C5", "Write 3, 4 or 5")
        middle_c = 4
    network = _read_network(top.table("network"))
    history = top.flag("history", default=True)
    redirects = top.choice("redirects", REDIRECTS, SAME_HOST)
    overtaken, overtaken_after = _read_overtaken(top)
    shortest_tap = _read_shortest_tap(top, tap)
    for check in checks:
        try:
            check(surfaces)
        except Exception as error:
            top.problem("", f"something bound together cannot be read: {error!r}")
    drawn = []
    for program, fields in top.entries("stage"):
        drawn.append(StagePlace(program, fields.pair("at", (0.0, 0.0)) or (0.0, 0.0),
                                fields.pair("size", (6.0, 3.0)) or (6.0, 3.0)))
        fields.done()
    top.done()
    return Desk(name, output, tap, gap, keyboard, (int(wide), int(high)), patience, *times,
                surfaces, tuple(drawn), macros, broken_macros, midi_to, middle_c, network, history, redirects,
                overtaken, overtaken_after, shortest_tap, places), problems


def _read_overtaken(fields: Fields) -> tuple[str, int]:
    after = fields.duration("overtaken_after", OVERTAKEN)
    if after < LEAST_OVERTAKEN:
        fields.problem("overtaken_after", f"“overtaken_after” must be at least {say_duration(LEAST_OVERTAKEN)}: "
                       "shorter pauses are ordinary", 'Most desks need no more than the default, "1s"')
        after = OVERTAKEN
    return fields.choice("overtaken", (END, GO_ON), END), after


def _read_shortest_tap(fields: Fields, tap: int) -> int:
    shortest = fields.duration("shortest_tap", min(tap, DEFAULT_SHORTEST_TAP))
    if not MS <= shortest <= max(tap, MS):
        fields.problem("shortest_tap", f"“shortest_tap” must be between 1 ms and the desk's tap of {say_duration(tap)}",
                       "Write the shortest time for which your programs notice a key")
        return min(tap, DEFAULT_SHORTEST_TAP)
    return shortest


def _read_surface(surface_id: str, fields: Fields, layouts: Callable[[str], Layout | None],
                  layout_names: Iterable[str], reading: Reading, times: tuple[int, int],
                  sleeps: Callable[[str, Reach], bool], plays: Callable[[str, str], tuple[Reach, ...]],
                  last_drawing: Callable[[], Layout | None]) -> Surface:
    layout_id = fields.text("layout", "")
    layout = EMPTY
    if layout_id:
        found = layouts(layout_id)
        if found is None:
            layout = last_drawing() or MISSING
            fields.problem("layout", f"there is no layout “{layout_id}”" + (
                "; the last drawing stays in use" if layout is not MISSING else ""),
                           nearest(layout_id, layout_names) or f"Known are {', '.join(sorted(layout_names))}",
                           word=layout_id)
        else:
            layout = found
    codes: dict[str, int] = {}
    keys = fields.table("keys")
    for control in keys.data:
        word = keys.text(control, "")
        if layout is MISSING:
            continue
        if control not in {c.id for c in layout.controls}:
            keys.problem(control, f"the layout has no control “{control}”",
                         nearest(control, [c.id for c in layout.controls]))
            continue
        try:
            code = find_signal(word)
        except ProblemError as error:
            keys.problem(control, error.problem.what, error.problem.hint, word=word)
            continue
        if other := next((name for name, known in codes.items() if known == code), ""):
            keys.problem(control, f"“{control}” and “{other}” send the same key, so only one could answer",
                         "Give each a key of its own", word=word)
            continue
        codes[control] = code
    if codes:
        layout = layout.with_keys(codes)
    rule = _read_rule(fields.table("device"))
    also = tuple(_read_rule(row) for row in fields.tables("also"))
    surface = Surface(surface_id, fields.text("name", surface_id), layout, rule,
                      fields.choice("unbound", ("swallow", "pass"), "swallow"),
                      fields.flag("may_be_only_keyboard"), fields.pair("at", None) or (0.0, 0.0),
                      unplugged=fields.choice("unplugged", ("go on", "end"), "go on"),
                      second=_read_second(fields) | {signal for item in layout.controls for signal in item.beside},
                      debounce=_read_debounce(fields), also=also,
                      hold_after=read_wait(fields, "hold_after", times[0]),
                      second_within=read_wait(fields, "second_within", times[1]),
                      axes=_read_axes(fields, layout), home=_read_home(fields, layout),
                      never_lets_go=fields.flag("never_lets_go"), rumble=_read_rumble(fields),
                      may_be_only_pointer=fields.flag("may_be_only_pointer"))
    cap, sizes = _read_labels(fields.table("labels"), layout)
    layers = tuple(_read_layer(layer_id, sub, surface, replace(
        reading, sleeps=partial(sleeps, f"{surface_id}/{layer_id}"),
        plays=partial(plays, f"{surface_id}/{layer_id}"))) for layer_id, sub in fields.entries("layer"))
    surface = replace(surface, layers=layers, cap=cap, label_sizes=sizes, takes=_read_takes(fields, layout, layers),
                      lamps=_read_lamps(fields.table("lamps"), layers))
    fields.done()
    return surface


def _read_takes(fields: Fields, layout: Layout, layers: tuple[Layer, ...]) -> tuple[Part, ...]:
    """The parts that are taken.  What is not understood is told and left out; if nothing is left, nothing is taken."""
    parts = []
    words = [*GROUPS, *(control.id for control in layout.controls)]
    for text in fields.texts("takes"):
        part = read_part(text)
        if part.what not in GROUPS and not signals_of(layout, part.what) and layout is not MISSING:
            fields.problem("takes", f"“{part.what}” is not a part of this device", nearest(part.what, words) or
                           f"Write a control, or one of {', '.join(GROUPS)}", word=text)
        elif part.layer and part.layer not in {layer.id for layer in layers}:
            known = [layer.id for layer in layers]
            fields.problem("takes", f"there is no layer “{part.layer}” here", nearest(part.layer, known) or
                           f"Its layers are {', '.join(known) or 'none yet'}", word=text)
        else:
            parts.append(part)
    return tuple(parts) if parts or not fields.data.get("takes") else (Part(NOTHING),)


def _read_network(fields: Fields) -> NetworkSettings:
    ports = {}
    for name in ("midi", "osc"):
        port = fields.number(name, 0)
        if not (port == int(port) and 0 <= port < 65_535):
            fields.problem(name, f"{port:g} is no port", "Write a number from 1 to 65534, as midi = 5004")
            port = 0
        ports[name] = int(port)
    settings = NetworkSettings(ports["midi"], ports["osc"], fields.text("listen", "0.0.0.0"), fields.text("name", ""))
    fields.done()
    return settings


def _read_axes(fields: Fields, layout: Layout) -> tuple[tuple[str, AxisSettings], ...]:
    """How the surface's axes are read: a table for each, named after its control."""
    found = []
    moving = {control.id: control for control in layout.controls if control.moves}
    for name, row in fields.entries("axis"):
        control = moving.get(name) or moving.get(name.removesuffix(" down"))
        if control is None and layout is not MISSING:
            row.problem("", f"the drawing has no “{name}” that moves", nearest(name, moving) or
                        (f"Moving are {', '.join(moving)}" if moving else "Nothing on it moves"), word=name)
        elif control is not None:
            found.append((name, read_settings(row, usual_settings(control))))
    return tuple(found)


def _read_home(fields: Fields, layout: Layout) -> tuple[str, ...]:
    known = [control.id for control in layout.controls]
    home = fields.texts("home")
    for word in home:
        if word not in known and layout is not MISSING:
            fields.problem("home", f"the layout has no control “{word}”", nearest(word, known), word=word)
    return home


def _read_labels(fields: Fields, layout: Layout) -> tuple[Size | None, tuple[tuple[str, Size], ...]]:
    """How large labels are: `cap` of a key of one unit, `sizes` of single controls."""
    def size(row: Fields, key: str) -> Size | None:
        text = row.text(key, "")
        try:
            return read_size(text) if text else None
        except ProblemError as error:
            row.problem(key, error.problem.what, error.problem.hint, word=text)
            return None
    cap, found, below = size(fields, "cap"), [], fields.table("sizes")
    for control in below.data:
        if layout is not MISSING and control not in {item.id for item in layout.controls}:
            below.problem(control, f"the layout has no control “{control}”",
                          nearest(control, [item.id for item in layout.controls]))
        elif (given := size(below, control)) is not None:
            found.append((control, given))
    fields.done()
    return cap, tuple(found)


def _read_rumble(fields: Fields) -> frozenset[str]:
    words = fields.texts("rumble")
    for word in words:
        if word not in ACTION_KINDS:
            fields.problem("rumble", f"“{word}” is not a kind of action", nearest(word, ACTION_KINDS) or
                           f"Known are {', '.join(ACTION_KINDS)}", word=word)
    return frozenset(words)


def _read_rule(fields: Fields) -> DeviceRule:
    rule = DeviceRule(tuple((name, value) for name in RULE_FIELDS if (value := fields.text(name, ""))))
    fields.done()
    return rule


def _read_second(fields: Fields) -> frozenset[int]:
    codes = set()
    for word in fields.texts("second"):
        try:
            codes.add(find_signal(word))
        except ProblemError as error:
            fields.problem("second", error.problem.what, error.problem.hint, word=word)
    return frozenset(codes)


def _read_debounce(fields: Fields) -> int:
    time = fields.duration("debounce", 0)
    if time > LONGEST_DEBOUNCE:
        fields.problem("debounce", f"a debounce time has at most {say_duration(LONGEST_DEBOUNCE)}, or every release "
                       "would be late", "Switches settle within 5 to 30 ms")
        return LONGEST_DEBOUNCE
    return time


def _read_lamps(fields: Fields, layers: tuple[Layer, ...]) -> tuple[tuple[str, str], ...]:
    shown = [(lamp, fields.choice(lamp, (ARMED, *(layer.id for layer in layers)), ARMED))
             for lamp in LAMPS if lamp in fields.data]
    fields.done()
    return tuple(shown)


def _read_layer(layer_id: str, fields: Fields, surface: Surface, reading: Reading) -> Layer:
    bindings: dict[tuple[str, str], Binding] = {}
    name = fields.text("name", layer_id)
    tint = read_tint(fields)
    starts = fields.choice("starts", ("on", "off"), "off")
    follows = _read_follows(fields)
    gestures = [*GESTURES, *MOTIONS, *(key for key in fields.data if key.startswith((WITH, STRIKE, AT)))]
    for gesture in gestures:
        if gesture.startswith(WITH):
            check_holder(fields, gesture, surface, reading)
        elif gesture.startswith((STRIKE, AT)) and read_band(gesture) is None:
            fields.problem(gesture, f"“{gesture}” is no band", "Write strike 1 to 79 (strength, 1 to 127), or "
                           "at 0 to 33 % (of the way)")
            fields.table(gesture)
            continue
        for control, row in fields.table(gesture).entries_here():
            if surface.code_of(control) is None and surface.layout is not MISSING:
                row.problem("", f"“{surface.name}” has no control “{control}”",
                            nearest(control, [c.id for c in surface.layout.controls]), word=control)
            elif (proper := surface.proper_name(control)) != control and surface.layout is not MISSING:
                row.problem("", f"“{control}” is called “{proper}” on “{surface.name}”, so this binding does nothing",
                            f"Write {proper if proper.isidentifier() or proper.isdigit() else _quoted(proper)} = …",
                            word=control)
            elif (gesture in MOTIONS or gesture.startswith(AT)) and surface.layout is not MISSING and not any(
                    item.id == control and item.moves for item in surface.layout.controls):
                row.problem("", f"“{control}” of “{surface.name}” does not move, so there is no “{gesture}”",
                            "Bind it to press, or say in the layout what moves: moves = [\"cc 7 on 1\"]", word=control)
            elif (binding := read_binding(control, gesture, row, surface, reading)) is not None:
                bindings[control, gesture] = binding
    _check_bands(fields, bindings)
    fields.done()
    return Layer(layer_id, name, tint, bindings, starts, follows)


def _quoted(name: str) -> str:
    return f'"{name}"'


def _check_bands(fields: Fields, bindings: dict[tuple[str, str], Binding]) -> None:
    """Bands of strength, and zones, of one control that lie over one another: only one could answer."""
    for word in (STRIKE, AT):
        found: dict[str, list[tuple[int, int, str]]] = {}
        for control, gesture in bindings:
            if gesture.startswith(word) and (band := read_band(gesture)) is not None:
                found.setdefault(control, []).append((*band, gesture))
        for control, bands in found.items():
            bands.sort()
            for (_, high, first), (low, _, second) in pairwise(bands):
                # Zones may touch, since positions lie between the whole numbers.
                if low < high or (low == high and word == STRIKE):
                    fields.problem(second, f"“{first}” and “{second}” of “{control}” lie over one another",
                                   "Let the second begin where the first ends")


def _read_follows(fields: Fields) -> FollowRule | None:
    if "follows" not in fields.data:
        return None
    row = fields.table("follows")
    rule = FollowRule(row.text("class", ""), row.text("title", ""))
    row.done()
    if not (rule.cls or rule.title):
        fields.problem("follows", "a layer that follows the focus needs the window's class or title",
                       'Write follows = { class = "Crumbcut" }, with * for anything')
        return None
    return rule
