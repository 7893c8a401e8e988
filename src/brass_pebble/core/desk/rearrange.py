"""Bindings copied, moved, swapped, mirrored, cleared: worked out as rows to set, all in one change.  Pure.

A place is (surface, layer, control); what stands there are the bindings of all its gestures.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from brass_pebble.core.desk.read.bindings import row_of
from brass_pebble.core.play.gesture import WITH
from brass_pebble.core.say.problem import ProblemError

from .model import Desk, Surface

Place = tuple[str, str, str]
# surface, layer, gesture, control, and the row to write there (None clears).
Change = tuple[str, str, str, str, dict[str, Any] | None]


def rows_at(desk: Desk, place: Place) -> dict[str, dict[str, Any]]:
    """gesture → row of what is bound at a place.

    Raises:
        ProblemError: there is no such surface or layer.
    """
    surface_id, layer_id, control = place
    surface = desk.surfaces.get(surface_id)
    layer = next((layer for layer in surface.layers if layer.id == layer_id), None) if surface else None
    if layer is None:
        raise ProblemError(f"there is no layer “{layer_id}” on a surface “{surface_id}”",
                           hint="It may have been removed meanwhile")
    return {gesture: row_of(binding) for (name, gesture), binding in layer.bindings.items() if name == control}


def put(desk: Desk, rows: dict[str, dict[str, Any]], place: Place, source: str = "") -> list[Change]:
    """Make a place say just these rows; `source` is the surface they come from, whose own controls they may name."""
    surface_id, layer_id, control = place
    there = rows_at(desk, place)
    changes: list[Change] = [(surface_id, layer_id, gesture, control, None) for gesture in there if gesture not in rows]
    for gesture, row in rows.items():
        if gesture.startswith(WITH) and "/" not in gesture and source not in ("", surface_id):
            changes.append((surface_id, layer_id, f"{WITH}{source}/{gesture.removeprefix(WITH)}", control, row))
        else:
            changes.append((surface_id, layer_id, gesture, control, row))
    return changes


def copy(desk: Desk, pairs: Iterable[tuple[Place, Place]]) -> list[Change]:
    """What stands at the first place of each pair comes to the second, too."""
    return [change for here, there in pairs for change in put(desk, rows_at(desk, here), there, here[0])]


def clear(desk: Desk, places: Iterable[Place]) -> list[Change]:
    """Nothing is bound there any more."""
    return [change for place in places for change in put(desk, {}, place)]


def move(desk: Desk, pairs: Iterable[tuple[Place, Place]]) -> list[Change]:
    """What stands at the first place of each pair comes to the second, and leaves the first."""
    pairs = list(pairs)
    targets = {there for _, there in pairs}
    left = [here for here, _ in pairs if here not in targets]
    return [*clear(desk, left), *copy(desk, pairs)]


def swap(desk: Desk, one: Place, other: Place) -> list[Change]:
    """Each gets what the other had."""
    return copy(desk, ((one, other), (other, one)))


def mirror(desk: Desk, surface: Surface, layer: str, controls: Iterable[str] = ()) -> list[Change]:
    """Left and right change places in a layer: each control with the one that lies opposite in the drawing.

    Only `controls` and their opposites, or all of them.  Controls that have no opposite of the same size stay.
    """
    pairs = []
    chosen = set(controls)
    for control, opposite in opposites(surface).items():
        if control == opposite or (chosen and not {control, opposite} & chosen):
            continue
        pairs.append(((surface.id, layer, control), (surface.id, layer, opposite)))
    return copy(desk, pairs)


def opposites(surface: Surface) -> dict[str, str]:
    """Each control and the one at its mirrored place; only pairs of about the same size."""
    controls = surface.layout.controls
    width = max((c.x + c.w for c in controls), default=0.0)
    found = {}
    for control in controls:
        x = width - control.x - control.w
        for other in controls:
            if (abs(other.x - x) < 0.3 and abs(other.y - control.y) < 0.3 and abs(other.w - control.w) < 0.3
                    and abs(other.h - control.h) < 0.3):
                found[control.id] = other.id
                break
    return {name: other for name, other in found.items() if found.get(other) == name}


def to_other_surface(desk: Desk, source: Surface, layer: str, target: Surface, other_layer: str, *,
                     mirrored: bool = False) -> list[Change]:
    """Copy a layer to another surface: controls of the same id, or with `mirrored` those lying opposite."""
    facing = opposites(source) if mirrored else {}
    pairs = []
    for control in source.layout.controls:
        name = facing.get(control.id, control.id)
        if target.code_of(name) is not None and rows_at(desk, (source.id, layer, control.id)):
            pairs.append(((source.id, layer, control.id), (target.id, other_layer, name)))
    return copy(desk, pairs)
