"""The desk as rows of plain values: what clients draw, what is printed.  Pure."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from brass_pebble.core.desk.action import ACTION_KINDS, Action
from brass_pebble.core.desk.binding import Binding
from brass_pebble.core.desk.model import Desk, Layer, Surface
from brass_pebble.core.devices.layout import Control
from brass_pebble.core.label.sizes import write_size
from brass_pebble.core.play.plan import show_action
from brass_pebble.core.say.setting import settings_of
from brass_pebble.core.signals.signal import STRUCK, spell, wire

from .shown import OWN, UNSET, show_surface

Row = dict[str, Any]
_SETTINGS = settings_of(Binding)


def control_row(desk: Desk, surface: Surface, control: Control) -> Row:
    """A control as it is drawn, without what is bound to it."""
    row: Row = {"id": control.id, "code": wire(control.code), "x": control.x, "y": control.y,
                "w": control.w, "h": control.h, "legend": control.legend}
    if control.code >= STRUCK:
        row["sends"] = spell(control.code, desk.middle_c)
    if control.moves:
        row |= {"shape": control.shape, "moves": len(control.moves), "centred": control.centred,
                "turns": control.turns, "axes": axes_rows(surface, control)}
    elif control.shape != "cap":
        row["shape"] = control.shape
    return row


def axes_rows(surface: Surface, control: Control) -> list[Row]:
    """How each axis of a control is read."""
    return [asdict(surface.settings_of(control, axis)) for axis in range(len(control.moves))]


def layer_row(desk: Desk, layer: Layer, why: str) -> Row:
    """A layer and everything that is bound on it; `why` tells why it is on, empty if it is off."""
    names = {macro.id: macro.name for macro in desk.macros.values()}
    follows = layer.follows
    return {"id": layer.id, "name": layer.name, "tint": layer.tint, "on": bool(why), "why": why,
            "starts": layer.starts, "follows": {"class": follows.cls, "title": follows.title} if follows else None,
            "bindings": [binding_row(desk, binding, names) for binding in layer.bindings.values()]}


def binding_row(desk: Desk, binding: Binding, names: dict[str, str]) -> Row:
    """A binding: its action in words, and what stands on the cap.  `names` are the macros' names by id."""
    action = binding.action
    macro = desk.macros.get(action.target) if action.kind == "play" else None
    # What a control shows may come from its macro; what the person gave is told beside it.
    written = {OWN.get(name, name): row.kind.write(value) if (value := getattr(binding, name)) != row.default else
               UNSET[name] for name, row in _SETTINGS.items()}
    return {"control": binding.control, "gesture": binding.gesture, "kind": action.kind,
            "target": action.target, "glyph": action.glyph, **written,
            "label": binding.label or (macro.label or macro.name if macro else "") or short_label(action),
            "asleep": binding.asleep,
            "steps": [{"glyph": step.glyph, "words": show_action(step.kind, step.target, names)}
                      for step in action.steps],
            "tint": binding.tint or (macro.tint if macro else ""),
            "words": show_action(action.kind, action.target, names), "means": ACTION_KINDS[action.kind].means,
            "broken": action.kind == "play" and macro is None}


def label_rows(surface: Surface) -> Row:
    """How large the surface's labels are, as desk.toml has it."""
    return {"cap": write_size(surface.cap) if surface.cap else "",
            "sizes": {control: write_size(size) for control, size in surface.label_sizes}}


def surface_row(desk: Desk, surface: Surface) -> Row:
    """A surface with all its layers on, for those that have no engine to ask: for paper."""
    row: Row = {"id": surface.id, "name": surface.name, "layout": surface.layout.id, "at": surface.at,
                "labels": label_rows(surface), "home": list(surface.home),
                "layers": [layer_row(desk, layer, "always") for layer in surface.layers],
                "controls": [control_row(desk, surface, control) for control in surface.layout.controls]}
    show_surface(row)
    return row


def short_label(action: Action) -> str:
    """What stands on the cap when nobody gave a label."""
    if action.layer is not None:
        return action.layer.layer or action.layer.how
    if action.steps:
        return short_label(action.steps[0])
    return {"stop everything": "stop", "pass through": "pass", "rest or wake": "rest"}.get(action.target, action.target)


