"""What a control shows, from the rows that clients get: the same in the engine's answers and on a screen.  Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import Any, NamedTuple

from msgspec.structs import replace

from brass_pebble.core.play.gesture import AT, GESTURES, MOVE, PRESS, PUSHES, STRIKE, TURN_LEFT, TURN_RIGHT, WITH, rank
from brass_pebble.core.signals.signal import MOVING, NOTE, PHRASE, family_of, from_wire

from .drawn import BindingRow, ControlRow, DrawnRow, LayerRow


class Shown(NamedTuple):
    """What a control does: by the topmost layer that has it, each of its gestures, in their order; and from all layers
    what it does together with another control."""

    gestures: dict[str, BindingRow]
    together: list[BindingRow]
    layer: str

    @property
    def first(self) -> BindingRow | None:
        """The first gesture (press before tap and so on) lends the control its label."""
        return next(iter(self.gestures.values()), None)


NOTHING = Shown({}, [], "")


def what_is_shown(layers: Sequence[LayerRow], on: Collection[str]) -> dict[str, Shown]:
    """What each control that is bound does while the layers in `on` are on."""
    alone: dict[str, tuple[str, list[BindingRow]]] = {}
    together: dict[str, dict[str, BindingRow]] = {}
    for layer in reversed(layers):
        if layer.id not in on:
            continue
        for row in layer.bindings:
            if row.gesture.startswith(WITH):
                found = together.setdefault(row.control, {})
                if row.gesture not in found:
                    found[row.gesture] = replace(row, layer=layer.id)
            elif (owner := alone.setdefault(row.control, (layer.id, [])))[0] == layer.id:
                owner[1].append(row)
    answers = {}
    for control in {**alone, **together}:
        layer_id, rows = alone.get(control, ("", []))
        answers[control] = Shown({row.gesture: row for row in sorted(rows, key=_rank)},
                                 list(together.get(control, {}).values()), layer_id)
    return answers


def _rank(row: BindingRow) -> tuple[int, int, str]:
    return rank(row.gesture)


def what_does(control: str, layers: Iterable[LayerRow], on: Collection[str]) -> Shown:
    """What one control does while the layers in `on` are on."""
    only = [replace(layer, bindings=[row for row in layer.bindings if row.control == control]) for layer in layers
            if layer.id in on]
    return what_is_shown(only, on).get(control, NOTHING)


def show_control(place: ControlRow, layers: Iterable[LayerRow], on: Collection[str]) -> ControlRow:
    """A control's row with what it does while the layers in `on` are on."""
    return with_shown(place, what_does(place.id, layers, on))


def with_shown(place: ControlRow, shown: Shown) -> ControlRow:
    """A control's row with what it does."""
    fields: dict[str, Any] = {name: getattr(place, name) for name in _PLACE}
    if (first := shown.first) is not None:
        fields |= {name: getattr(first, name) for name in _BOUND}
    return ControlRow(**fields | {"layer": shown.layer, "gestures": shown.gestures, "together": shown.together})


def show_controls(controls: Iterable[ControlRow], layers: Sequence[LayerRow]) -> list[ControlRow]:
    """The rows of a surface's controls, as its layers are on now."""
    shown = what_is_shown(layers, [layer.id for layer in layers if layer.on])
    return [with_shown(control, shown.get(control.id, NOTHING)) for control in controls]


def place_of(control: ControlRow, key: str = "") -> DrawnRow:
    """Where a control lies, and what it is to say there."""
    return DrawnRow(id=control.id, code=control.code, x=control.x, y=control.y, w=control.w, h=control.h,
                    legend=control.legend, key=key)


_BOUND = BindingRow.__struct_fields__
# What a control's row has whatever is bound.
_PLACE = tuple(name for name in ControlRow.__struct_fields__ if name not in _BOUND and
               name not in ("gestures", "together"))

STRIKES = ("strike 1 to 79", "strike 80 to 127")
ZONES = ("at 0 to 33 %", "at 33 to 66 %", "at 66 to 100 %")
# More of them, for those who choose.
BANDS = {STRIKE: ("strike 1 to 42", "strike 43 to 84", "strike 85 to 127", "strike 1 to 63", "strike 64 to 127",
                  "strike 1 to 99", "strike 100 to 127"),
         AT: ("at 0 to 50 %", "at 50 to 100 %", "at 0 to 25 %", "at 25 to 50 %", "at 50 to 75 %", "at 75 to 100 %",
              "at 0 to 10 %", "at 90 to 100 %")}


def gestures_for(control: ControlRow, bound: Collection[str] = ()) -> list[str]:
    """The gestures that make sense on a control, with those in `bound`: in their order."""
    found = {gesture for gesture in bound if not gesture.startswith(WITH)} | set(GESTURES)
    moves, code = control.moves, from_wire(control.code)
    has_key = code < MOVING
    if family_of(code) is PHRASE:
        # It is over when it was said.
        return sorted({PRESS} | found & set(bound), key=rank)
    if NOTE.first <= code <= NOTE.last and not any(gesture.startswith(STRIKE) for gesture in bound):
        found.update(STRIKES)
    if moves and control.turns:
        found.update((TURN_LEFT, TURN_RIGHT, MOVE), PUSHES if moves > 1 else ())
    elif moves > 1:
        found.update(PUSHES, (MOVE,))
    elif moves:
        found.update((TURN_LEFT, TURN_RIGHT, MOVE), PUSHES[:2] if control.centred else ())
        if not any(gesture.startswith(AT) for gesture in bound):
            found.update(ZONES)
    if moves and control.turns and not has_key:
        # It has no ends that it could be pressed to.
        found -= set(GESTURES) - set(bound)
    return sorted(found, key=rank)
