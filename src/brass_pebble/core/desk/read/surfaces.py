"""Surfaces and their layers read from desk.toml, with exact complaints."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from itertools import pairwise
from typing import TYPE_CHECKING

from brass_pebble.core.desk.action import ACTION_KINDS
from brass_pebble.core.desk.binding import Binding
from brass_pebble.core.desk.layer_switch import FollowRule
from brass_pebble.core.desk.model import ARMED, Layer, Surface, usual_settings
from brass_pebble.core.desk.read.bindings import Reading, check_holder, read_binding
from brass_pebble.core.desk.read.phrases import (
    SPOKEN,
    cannot_be_said,
    phrase_layout,
    read_listening,
    read_phrases,
    read_pronounced,
)
from brass_pebble.core.devices.identity import RULE_FIELDS, DeviceRule
from brass_pebble.core.devices.layout import EMPTY, MISSING, Layout
from brass_pebble.core.devices.parts import GROUPS, NOTHING, Part, read_part, signals_of
from brass_pebble.core.effects.reach import TAKES_DEVICE, Reach
from brass_pebble.core.label.sizes import Size, read_size
from brass_pebble.core.play.axis import AxisSettings, read_settings
from brass_pebble.core.play.gesture import AT, GESTURES, MOTIONS, STRIKE, WITH, read_band
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.core.say.setting import read_all
from brass_pebble.core.say.toml_fields import Fields
from brass_pebble.core.signals.signal import find_signal
from brass_pebble.core.voice.listening import Listening
from brass_pebble.core.voice.phrase import Phrase

if TYPE_CHECKING:
    from brass_pebble.core.desk.model import Layer, Surface

LAMPS = ("num", "caps", "scroll")


def read_surface(surface_id: str, fields: Fields, layouts: Callable[[str], Layout | None],
                  layout_names: Iterable[str], reading: Reading, times: dict[str, int],
                  last_drawing: Callable[[], Layout | None]) -> Surface:
    layout_id = fields.text("layout", "")
    layout = EMPTY
    phrases: tuple[Phrase, ...] = ()
    if layout_id == SPOKEN:
        phrases = read_phrases(fields)
        layout = phrase_layout(phrases)
    elif layout_id:
        found = layouts(layout_id)
        if found is None:
            layout = last_drawing() or MISSING
            fields.problem("layout", f"there is no layout “{layout_id}”" + (
                "; the last drawing stays in use" if layout is not MISSING else ""),
                           nearest(layout_id, layout_names) or f"Available: {', '.join(sorted(layout_names))}",
                           word=layout_id)
        else:
            layout = found
    if layout_id != SPOKEN:
        for table in sorted({"phrase", "listening", "pronounced"} & fields.data.keys()):
            fields.known(table)
            fields.problem(table, f"“{surface_id}” has no {table}, since it is not spoken to",
                           f'Write layout = "{SPOKEN}" for a microphone')
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
            keys.problem(control, f"“{control}” and “{other}” send the same key, so only one can work",
                         "Give each a key of its own", word=word)
            continue
        codes[control] = code
    if codes:
        layout = layout.with_keys(codes)
    rule = _read_rule(fields.table("device"))
    also = tuple(_read_rule(row) for row in fields.tables("also"))
    strangers = reading.strangers
    brought = strangers.brought(surface_id, spoken=layout_id == SPOKEN)
    wanted = tuple(one for one in (rule, *also) if brought and one.fields
                   and not strangers.approves(device_reach(surface_id, one).mark))
    if wanted:
        # A stranger's surface takes nothing before the person has given it a device.
        rule, also = DeviceRule(), ()
    settings = read_all(Surface, fields, {"name": surface_id, **times})
    surface = Surface(surface_id, layout=layout, rule=rule, also=also, wanted=wanted, axes=_read_axes(fields, layout),
                      second=_read_second(fields) | {signal for item in layout.controls for signal in item.beside},
                      home=_read_home(fields, layout), rumble=_read_rumble(fields), phrases=phrases,
                      listening=read_listening(fields.table("listening")) if layout_id == SPOKEN else Listening(),
                      pronounced=read_pronounced(fields.table("pronounced")) if layout_id == SPOKEN else (),
                      **settings)
    cap, sizes = _read_labels(fields.table("labels"), layout)
    layers = tuple(_read_layer(layer_id, sub, surface, replace(reading, place=f"{surface_id}/{layer_id}"))
                   for layer_id, sub in fields.entries("layer"))
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
            fields.problem("takes", f"this device has no part “{part.what}”", nearest(part.what, words) or
                           f"Write a control, or one of {', '.join(GROUPS)}", word=text)
        elif part.layer and part.layer not in {layer.id for layer in layers}:
            known = [layer.id for layer in layers]
            fields.problem("takes", f"there is no layer “{part.layer}” here", nearest(part.layer, known) or
                           f"Its layers are {', '.join(known) or 'none yet'}", word=text)
        else:
            parts.append(part)
    return tuple(parts) if parts or not fields.data.get("takes") else (Part(NOTHING),)


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
                           f"Available: {', '.join(ACTION_KINDS)}", word=word)
    return frozenset(words)


def device_reach(surface_id: str, rule: DeviceRule) -> Reach:
    """What it is that a stranger's surface takes a device: it needs approval like anything that reaches outside."""
    return Reach(TAKES_DEVICE, str(rule), whole=surface_id)


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


def _read_lamps(fields: Fields, layers: tuple[Layer, ...]) -> tuple[tuple[str, str], ...]:
    shown = [(lamp, fields.choice(lamp, (ARMED, *(layer.id for layer in layers)), ARMED))
             for lamp in LAMPS if lamp in fields.data]
    fields.done()
    return tuple(shown)


def _read_layer(layer_id: str, fields: Fields, surface: Surface, reading: Reading) -> Layer:
    """A layer, as it was read before if nothing it is made from has changed."""
    key, made_from = (surface.id, layer_id), (reading.depends, surface.name, surface.layout, fields.data)
    before = reading.layers.find(key, made_from)
    if before is not None:
        return before
    so_far = len(reading.problems), len(reading.checks)
    layer = _read_new_layer(layer_id, fields, surface, reading)
    # One that depends on other surfaces is looked at each time.
    return layer if so_far != (len(reading.problems), len(reading.checks)) else \
        reading.layers.keep(key, made_from, layer)


def _read_new_layer(layer_id: str, fields: Fields, surface: Surface, reading: Reading) -> Layer:
    bindings: dict[tuple[str, str], Binding] = {}
    settings = read_all(Layer, fields, {"name": layer_id})
    follows = _read_follows(fields)
    gestures = [*GESTURES, *MOTIONS, *(key for key in fields.data if key.startswith((WITH, STRIKE, AT)))]
    for gesture in gestures:
        if gesture.startswith(WITH):
            check_holder(fields, gesture, surface, reading)
        elif gesture.startswith((STRIKE, AT)) and read_band(gesture) is None:
            fields.problem(gesture, f"“{gesture}” is not a valid range", "Write strike 1 to 79 (strength, 1 to 127), "
                                                                         "or "
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
                if surface.phrases and (trouble := cannot_be_said(control, gesture, binding.action))[0]:
                    row.problem("", *trouble)
                    continue
                bindings[control, gesture] = binding
    _check_bands(fields, bindings)
    fields.done()
    return Layer(layer_id, bindings=bindings, follows=follows, **settings)


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
                    fields.problem(second, f"“{first}” and “{second}” of “{control}” overlap",
                                   "Start the second where the first ends")


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
