"""The desk: surfaces, layers, bindings, actions.  Read from TOML tables; never changed in place."""

from __future__ import annotations

import re
from collections.abc import Callable, Container, Iterable
from dataclasses import dataclass, field, replace
from typing import Any

from .durations import say_duration
from .identity import RULE_FIELDS, DeviceRule
from .keys import Chord, key_table, parse_chord
from .layout import EMPTY, MISSING, Layout
from .macro.program import DEFAULT_GAP, DEFAULT_TAP, Macro
from .macro.steps import LONGEST_LABEL, TINTS
from .player import FOR_EVER, Manner
from .problem import Problem, ProblemError, nearest
from .toml_fields import Fields, Places

FORMAT = 1
DEFAULT_PATIENCE = 250_000_000
OUTPUTS = ("uinput", "x11", "stage")
LAMPS = ("num", "caps", "scroll")
ARMED = "armed"
PLAYS = re.compile(r"once|while held|until pressed again|[1-9][0-9]{0,4} times")
POLICIES = ("start over", "ignore", "queue", "both")
# What a person types to take over the last keyboard there is.
ON_TRIAL = "take my only keyboard"
LONGEST_DEBOUNCE = 200_000_000


@dataclass(frozen=True)
class ActionKind:
    """A kind of action: how desk.toml writes it, the glyph on a cap, and what it is called on screen."""

    word: str
    takes: str
    glyph: str
    means: str


ACTION_KINDS = {kind.word: kind for kind in (
    ActionKind("play", "macro", "▸", "play a macro"),
    ActionKind("tap", "chord", "•", "tap a chord once"),
    ActionKind("sustain", "chord", "◖", "sustain a chord while held"),
    ActionKind("do", "deed", "■", "do something here"),
)}
DEEDS = {
    "stop everything": "■",
    "swallow": "∅",
    "pass through": "→",
    "rest or wake": "◌",
    "record": "◎",
}


@dataclass(frozen=True)
class Action:
    """What a binding does: its kind (see `ACTION_KINDS`) and the chord, macro id or deed it names."""

    kind: str
    target: str
    chord: Chord | None = None

    @property
    def glyph(self) -> str:
        """One character for a cap."""
        return DEEDS[self.target] if self.kind == "do" else ACTION_KINDS[self.kind].glyph


@dataclass(frozen=True)
class Binding:
    """layer + control + gesture → action, with what stands on the cap."""

    control: str
    gesture: str
    action: Action
    label: str = ""
    tint: str = ""
    note: str = ""
    plays: str = "once"
    again: str = ""

    @property
    def manner(self) -> Manner:
        """How a press plays it; `again` is the macro's own unless the binding says otherwise."""
        again = self.again or "start over"
        if self.plays == "while held":
            return Manner(again, FOR_EVER, while_held=True)
        if self.plays == "until pressed again":
            return Manner("end", FOR_EVER)
        if self.plays != "once":
            return Manner(again, int(self.plays.split()[0]))
        return Manner(again)


@dataclass(frozen=True)
class Layer:
    """A named set of bindings: (control, gesture) → binding."""

    id: str
    name: str
    tint: str = ""
    bindings: dict[tuple[str, str], Binding] = field(default_factory=dict)


@dataclass(frozen=True)
class Surface:
    """A device that is taken over: its drawing, its place on the desk (key units), its layers from base to top.

    `unbound` is "swallow" or "pass": what becomes of presses that nothing answers.  Without `may_be_only_keyboard` the
    last full keyboard of the machine is never taken over.  `unplugged` is "go on" or "end": what becomes of the macros
    it started when its device goes away.  `second` are keys that the device sends along with another one; they are
    dropped.  `debounce` is how long a release must last, in ns (0: it counts at once).  `lamps` tells what each of the
    device's own lamps (num, caps, scroll) shows: "armed", or the id of a layer.  `also` are further devices that belong
    to it: some pads report a second device for the same fingers.
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

    def control_of(self, code: int) -> str:
        """The id of the control that sends `code`; the key's name if the drawing has none."""
        for control in self.layout.controls:
            if control.code == code:
                return control.id
        return key_table().name(code)

    def code_of(self, control: str) -> int | None:
        """The code that a control sends."""
        for item in self.layout.controls:
            if item.id == control:
                return item.code
        try:
            return key_table().find(control).code
        except ProblemError:
            return None

    def can_wake_itself(self) -> bool:
        """Whether one of its controls puts it to rest and wakes it."""
        return any(binding.action.target == "rest or wake" for layer in self.layers
                   for binding in layer.bindings.values())

    def answer(self, control: str, gesture: str,
               off: Container[tuple[str, str]] = ()) -> tuple[Layer, Binding] | None:
        """The topmost layer that binds the control, and its binding; `off` are (surface, layer) switched off."""
        for layer in reversed(self.layers):
            if (self.id, layer.id) in off:
                continue
            binding = layer.bindings.get((control, gesture))
            if binding is not None:
                return layer, binding
        return None


@dataclass(frozen=True)
class StagePlace:
    """Where a stage program is drawn on the desk, in key units."""

    program: str
    at: tuple[float, float] = (0.0, 0.0)
    size: tuple[float, float] = (6.0, 3.0)


@dataclass(frozen=True)
class Desk:
    """One whole set-up.  `output` is "uinput", "x11" or "stage"; times in ns.

    `keyboard` is the layout that the receiving programs have; `screen` its size in pixels; `patience` is how long a
    press waits for modifiers that are held on the main keyboard.
    """

    name: str = "Empty desk"
    output: str = "uinput"
    tap: int = DEFAULT_TAP
    gap: int = DEFAULT_GAP
    keyboard: str = "us"
    screen: tuple[int, int] = (1920, 1080)
    patience: int = DEFAULT_PATIENCE
    surfaces: dict[str, Surface] = field(default_factory=dict)
    stage: tuple[StagePlace, ...] = ()
    macros: dict[str, Macro] = field(default_factory=dict)
    broken_macros: dict[str, str] = field(default_factory=dict)


def read_action(kind: str, target: str, macros: Iterable[str] | None = None) -> Action:
    """An action from its word and what it names.

    `macros` are the ids that exist; None leaves macros unchecked.

    Raises:
        ProblemError: unknown kind, deed, key or macro.
    """
    if kind not in ACTION_KINDS:
        raise ProblemError(f"“{kind}” is not a kind of action",
                           hint=nearest(kind, ACTION_KINDS) or f"Known are {', '.join(ACTION_KINDS)}")
    takes = ACTION_KINDS[kind].takes
    if takes == "chord":
        return Action(kind, target, parse_chord(target))
    if takes == "deed":
        if target not in DEEDS:
            raise ProblemError(f"“{target}” is nothing that can be done here",
                               hint=nearest(target, DEEDS) or f"Known are {', '.join(DEEDS)}")
    elif macros is not None and target not in macros:
        raise ProblemError(f"there is no macro “{target}”",
                           hint=nearest(target, macros) or f"Write it as macros/{target}.macro")
    return Action(kind, target)


def read_typing(data: dict[str, Any]) -> tuple[int, int, str]:
    """The desk's tap length and gap in ns and its keyboard layout, needed before its macros can be laid out."""
    fields = Fields(data, (), Places(""), "", [])
    return fields.duration("tap", DEFAULT_TAP), fields.duration("gap", DEFAULT_GAP), fields.text("keyboard", "us")


def read_desk(data: dict[str, Any], *, text: str, file: str, layouts: Callable[[str], Layout | None],
              layout_names: Iterable[str], macros: dict[str, Macro],
              broken_macros: dict[str, str]) -> tuple[Desk, list[Problem]]:
    """A desk from its TOML table.  What is broken is left out and reported; the rest stands."""
    problems: list[Problem] = []
    top = Fields(data, (), Places(text), file, problems)
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
    for surface_id, fields in top.entries("surface"):
        surfaces[surface_id] = _read_surface(surface_id, fields, layouts, layout_names, known_macros)
    places = []
    for program, fields in top.entries("stage"):
        places.append(StagePlace(program, fields.pair("at", (0.0, 0.0)) or (0.0, 0.0),
                                 fields.pair("size", (6.0, 3.0)) or (6.0, 3.0)))
        fields.done()
    top.done()
    return Desk(name, output, tap, gap, keyboard, (int(wide), int(high)), patience, surfaces,
                tuple(places), macros, broken_macros), problems


def _read_surface(surface_id: str, fields: Fields, layouts: Callable[[str], Layout | None],
                  layout_names: Iterable[str], macros: dict[str, Any]) -> Surface:
    layout_id = fields.text("layout", "")
    layout = EMPTY
    if layout_id:
        found = layouts(layout_id)
        if found is None:
            layout = MISSING
            fields.problem("layout", f"there is no layout “{layout_id}”",
                           nearest(layout_id, layout_names) or f"Known are {', '.join(sorted(layout_names))}",
                           word=layout_id)
        else:
            layout = found
    codes = {}
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
            codes[control] = key_table().find(word).code
        except ProblemError as error:
            keys.problem(control, error.problem.what, error.problem.hint, word=word)
    if codes:
        layout = layout.with_keys(codes)
    rule = _read_rule(fields.table("device"))
    also = tuple(_read_rule(row) for row in fields.tables("also"))
    surface = Surface(surface_id, fields.text("name", surface_id), layout, rule,
                      fields.choice("unbound", ("swallow", "pass"), "swallow"),
                      fields.flag("may_be_only_keyboard"), fields.pair("at", None) or (0.0, 0.0),
                      unplugged=fields.choice("unplugged", ("go on", "end"), "go on"),
                      second=_read_second(fields), debounce=_read_debounce(fields), also=also)
    layers = tuple(_read_layer(layer_id, sub, surface, macros) for layer_id, sub in fields.entries("layer"))
    surface = replace(surface, layers=layers, lamps=_read_lamps(fields.table("lamps"), layers))
    fields.done()
    return surface


def _read_rule(fields: Fields) -> DeviceRule:
    rule = DeviceRule(tuple((name, value) for name in RULE_FIELDS if (value := fields.text(name, ""))))
    fields.done()
    return rule


def _read_second(fields: Fields) -> frozenset[int]:
    codes = set()
    for word in fields.texts("second"):
        try:
            codes.add(key_table().find(word).code)
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


def _read_layer(layer_id: str, fields: Fields, surface: Surface, macros: dict[str, Any]) -> Layer:
    bindings = {}
    name = fields.text("name", layer_id)
    tint = fields.text("tint", "")
    for control, row in fields.table("press").entries_here():
        binding = _read_binding(control, "press", row, surface, macros)
        if binding is not None:
            bindings[(control, "press")] = binding
    fields.done()
    return Layer(layer_id, name, tint, bindings)


def _read_binding(control: str, gesture: str, row: Fields, surface: Surface,
                  macros: dict[str, Any]) -> Binding | None:
    if surface.code_of(control) is None and surface.layout is not MISSING:
        row.problem("", f"“{surface.name}” has no control “{control}”",
                    nearest(control, [c.id for c in surface.layout.controls]), word=control)
        row.done(*row.data)
        return None
    plays, again = row.text("plays", "once"), row.text("again", "")
    if not PLAYS.fullmatch(plays):
        row.problem("plays", f"“{plays}” is not a way to play",
                    "Write once, while held, until pressed again, or 3 times", word=plays)
        plays = "once"
    if again and again not in POLICIES:
        row.problem("again", f"“{again}” is not what a second press can do", f"Known are {', '.join(POLICIES)}",
                    word=again)
        again = ""
    words = [kind for kind in ACTION_KINDS if kind in row.data]
    label, tint, note = row.text("label", ""), row.text("tint", ""), row.text("note", "")
    if tint and tint not in TINTS:
        row.problem("tint", f"there is no tint called “{tint}”",
                    nearest(tint, TINTS) or f"The tints are {', '.join(TINTS)}", word=tint)
        tint = ""
    if len(label) > LONGEST_LABEL:
        row.problem("label", f"a label has at most {LONGEST_LABEL} characters, this one has {len(label)}",
                    "Shorten it", word=label)
        label = label[:LONGEST_LABEL]
    if len(words) != 1:
        unknown = [key for key in row.data if key not in ("label", "tint", "note", "plays", "again", *ACTION_KINDS)]
        hint = (nearest(unknown[0], ACTION_KINDS) if unknown else "") or f"Write one of {', '.join(ACTION_KINDS)}"
        what = f"“{control}” has no action" if not words else f"“{control}” has {len(words)} actions"
        row.problem("", what, hint, word=unknown[0] if unknown else "")
        return None
    kind = words[0]
    target = row.text(kind, "")
    row.done(*ACTION_KINDS)
    try:
        action = read_action(kind, target, macros)
    except ProblemError as error:
        row.problem(kind, error.problem.what, error.problem.hint, word=target)
        return None
    return Binding(control, gesture, action, label, tint, note, plays, again)
