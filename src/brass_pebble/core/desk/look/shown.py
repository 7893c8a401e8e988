"""What a control shows, from the rows that clients get: the same in the engine's answers and on a screen.  Pure."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from brass_pebble.core.desk.binding import Binding
from brass_pebble.core.play.gesture import AT, GESTURES, MOVE, PUSHES, STRIKE, TURN_LEFT, TURN_RIGHT, WITH, rank
from brass_pebble.core.say.setting import settings_of
from brass_pebble.core.signals.signal import MOVING, NOTE, from_wire

Row = dict[str, Any]


def show_control(control: str, layers: list[Row], on: Collection[str]) -> Row:
    """The fields that a control's row gets from its layers while those in `on` are on.

    Its first gesture (press before tap and so on) lends it its label; `gestures` has all of them, `together` those
    with another control.
    """
    together: dict[str, Row] = {}
    owner = None
    for layer in reversed(layers):
        if layer["id"] not in on:
            continue
        rows = [row for row in layer["bindings"] if row["control"] == control]
        for row in rows:
            if row["gesture"].startswith(WITH):
                together.setdefault(row["gesture"], {**row, "layer": layer["id"]})
        if owner is None and any(not row["gesture"].startswith(WITH) for row in rows):
            owner = layer
    shown: Row = {"together": list(together.values())} if together else {}
    if owner is None:
        return shown
    gestures = {row["gesture"]: row for row in owner["bindings"] if row["control"] == control}
    ordered = {gesture: gestures[gesture] for gesture in sorted(gestures, key=rank)
               if not gesture.startswith(WITH)}
    first = next(iter(ordered.values()))
    return {**first, "layer": owner["id"], "gestures": ordered, **shown}


def show_surface(surface: Row) -> None:
    """Fill the rows of a surface's controls in, as its layers are on now."""
    on = [layer["id"] for layer in surface["layers"] if layer["on"]]
    for control in surface["controls"]:
        for name in [name for name in control if name not in PLACE]:
            del control[name]
        control.update(show_control(control["id"], surface["layers"], on))


STRIKES = ("strike 1 to 79", "strike 80 to 127")
ZONES = ("at 0 to 33 %", "at 33 to 66 %", "at 66 to 100 %")
# More of them, for those who choose.
BANDS = {STRIKE: ("strike 1 to 42", "strike 43 to 84", "strike 85 to 127", "strike 1 to 63", "strike 64 to 127",
                  "strike 1 to 99", "strike 100 to 127"),
         AT: ("at 0 to 50 %", "at 50 to 100 %", "at 0 to 25 %", "at 25 to 50 %", "at 50 to 75 %", "at 75 to 100 %",
              "at 0 to 10 %", "at 90 to 100 %")}


def gestures_for(control: Row, bound: Collection[str] = ()) -> list[str]:
    """The gestures that make sense on a control, with those in `bound`: in their order."""
    found = {gesture for gesture in bound if not gesture.startswith(WITH)} | set(GESTURES)
    moves, code = int(control.get("moves", 0)), from_wire(control["code"])
    has_key = code < MOVING
    if NOTE.first <= code <= NOTE.last and not any(gesture.startswith(STRIKE) for gesture in bound):
        found.update(STRIKES)
    if moves and control.get("turns"):
        found.update((TURN_LEFT, TURN_RIGHT, MOVE), PUSHES if moves > 1 else ())
    elif moves > 1:
        found.update(PUSHES, (MOVE,))
    elif moves:
        found.update((TURN_LEFT, TURN_RIGHT, MOVE), PUSHES[:2] if control.get("centred") else ())
        if not any(gesture.startswith(AT) for gesture in bound):
            found.update(ZONES)
    if moves and control.get("turns") and not has_key:
        # It has no ends that it could be pressed to.
        found -= set(GESTURES) - set(bound)
    return sorted(found, key=rank)


# What most bindings say nothing about: left out where many are sent, and filled in again.
UNSET = {name: row.unset for name, row in settings_of(Binding).items()}
OWN = {"label": "own_label", "tint": "own_tint"}
USUAL: Row = {"tint": "", "steps": [], "broken": False, "asleep": False,
              **{OWN.get(name, name): unset for name, unset in UNSET.items()}}


def compact(surface: Row) -> None:
    """Leave out of the layers' bindings what is as usual."""
    for layer in surface["layers"]:
        layer["bindings"] = [{name: value for name, value in row.items()
                              if name not in USUAL or value != USUAL[name]} for row in layer["bindings"]]


def fill(desk: Row) -> None:
    """Put back in what `compact` has left out."""
    for surface in desk["surfaces"]:
        for layer in surface["layers"]:
            layer["bindings"] = [{**USUAL, **row} for row in layer["bindings"]]


# What a control's row has whatever is bound.
PLACE = frozenset(("id", "code", "x", "y", "w", "h", "legend", "absent", "passes", "shape", "moves", "centred", "turns",
                   "sends", "axes"))
