"""The desk as rows: what clients draw, what is printed.  Pure."""

from __future__ import annotations

from dataclasses import asdict

from brass_pebble.core.desk.action import ACTION_KINDS, Action
from brass_pebble.core.desk.binding import Binding
from brass_pebble.core.desk.model import Desk, Layer, Surface
from brass_pebble.core.devices.layout import Control
from brass_pebble.core.label.sizes import write_size
from brass_pebble.core.macro.help.marks import marks_of
from brass_pebble.core.play.plan import show_action
from brass_pebble.core.say.durations import MS
from brass_pebble.core.say.setting import settings_of
from brass_pebble.core.signals.signal import STRUCK, spell, wire
from brass_pebble.core.voice.phrase import ChoiceSlot, NumberSlot, Phrase, Slot, example_of, tell_slot

from .drawn import (
    OWN,
    AxisRow,
    BareSurface,
    BindingRow,
    ControlRow,
    FollowedRow,
    LabelsRow,
    LayerRow,
    MacroRow,
    PhraseRow,
    PhraseSlot,
    TurnRow,
)
from .shown import show_controls

_SETTINGS = [(name, OWN.get(name, name), row) for name, row in settings_of(Binding).items()]


def control_row(desk: Desk, surface: Surface, control: Control, *, absent: bool = False,
                passes: bool = False) -> ControlRow:
    """A control as it is drawn, without what is bound to it."""
    moves = len(control.moves)
    return ControlRow(
        id=control.id, code=wire(control.code), x=control.x, y=control.y, w=control.w, h=control.h,
        legend=control.legend, sends=spell(control.code, desk.middle_c) if control.code >= STRUCK else "",
        shape=control.shape if moves or control.shape != "cap" else "", moves=moves,
        centred=bool(moves) and control.centred, turns=bool(moves) and control.turns,
        axes=axes_rows(surface, control), absent=absent, passes=passes)


def axes_rows(surface: Surface, control: Control) -> list[AxisRow]:
    """How each axis of a control is read."""
    return [AxisRow(**asdict(surface.settings_of(control, axis))) for axis in range(len(control.moves))]


def layer_row(desk: Desk, layer: Layer, why: str) -> LayerRow:
    """A layer and everything that is bound on it; `why` says why it is on, empty if it is off."""
    names = {macro.id: macro.name for macro in desk.macros.values()}
    follows = layer.follows
    return LayerRow(id=layer.id, name=layer.name, tint=layer.tint, on=bool(why), why=why, starts=layer.starts,
                    follows=FollowedRow(cls=follows.cls, title=follows.title) if follows else None,
                    bindings=[binding_row(desk, binding, names) for binding in layer.bindings.values()])


def binding_row(desk: Desk, binding: Binding, names: dict[str, str]) -> BindingRow:
    """A binding: its action in words, and what stands on the cap.  `names` are the macros' names by id."""
    action = binding.action
    macro = desk.macros.get(action.target) if action.kind == "play" else None
    written = {told: row.kind.write(value) for name, told, row in _SETTINGS
               if (value := getattr(binding, name)) != row.default}
    return BindingRow(
        control=binding.control, gesture=binding.gesture, kind=action.kind, target=action.target, glyph=action.glyph,
        label=binding.label or (macro.label or macro.name if macro else "") or short_label(action),
        tint=binding.tint or (macro.tint if macro else ""), words=show_action(action.kind, action.target, names),
        means=ACTION_KINDS[action.kind].means, asleep=binding.asleep,
        steps=[TurnRow(glyph=step.glyph, words=show_action(step.kind, step.target, names)) for step in action.steps],
        broken=action.kind == "play" and macro is None, **written)


def label_rows(surface: Surface) -> LabelsRow:
    """How large the surface's labels are, as desk.toml has it."""
    return LabelsRow(cap=write_size(surface.cap) if surface.cap else "",
                     sizes={control: write_size(size) for control, size in surface.label_sizes})


def surface_row(desk: Desk, surface: Surface) -> BareSurface:
    """A surface with all its layers on, for those that have no engine to ask: for paper."""
    layers = [layer_row(desk, layer, "always") for layer in surface.layers]
    controls = [control_row(desk, surface, control) for control in surface.layout.controls]
    return BareSurface(id=surface.id, name=surface.name, layout=surface.layout.id, at=list(surface.at),
                       labels=label_rows(surface), home=list(surface.home), layers=layers,
                       controls=show_controls(controls, layers))


def phrase_row(phrase: Phrase) -> PhraseRow:
    """A phrase, as its file has it."""
    return PhraseRow(id=phrase.id, say=[wording.text for wording in phrase.say], strict=phrase.strict,
                     attention=phrase.attention, reply=phrase.reply, short=phrase.legend,
                     example=example_of(phrase),
                     slots={name: slot_row(slot) for name, slot in phrase.slots.items()},
                     counts="; ".join(f"{name}: {tell_slot(slot)}" for name, slot in phrase.slots.items()))


def slot_row(slot: Slot) -> PhraseSlot:
    """A slot, as its file has it."""
    if isinstance(slot, NumberSlot):
        return PhraseSlot(low=float(slot.low), high=float(slot.high), step=float(slot.step))
    if isinstance(slot, ChoiceSlot):
        return PhraseSlot(one_of={wording.text: choice.gives if isinstance(choice.gives, int) else str(choice.gives)
                                  for choice in slot.choices for wording in choice.say})
    return PhraseSlot(words=slot.longest)


def macro_rows(desk: Desk) -> list[MacroRow]:
    """Every macro of the desk, as it lists them."""
    return [MacroRow(id=macro.id, name=macro.name, label=macro.label, tint=macro.tint, note=macro.note,
                     length_ms=macro.timetable.length / MS, events=len(macro.timetable.times), live=macro.live,
                     marks=list(marks_of(macro.source)))
            for macro in desk.macros.values()]


def short_label(action: Action) -> str:
    """What stands on the cap when nobody gave a label."""
    if action.layer is not None:
        return action.layer.layer or action.layer.how
    if action.steps:
        return short_label(action.steps[0])
    return {"stop everything": "stop", "pass through": "pass", "rest or wake": "rest"}.get(action.target, action.target)


