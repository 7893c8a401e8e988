"""How these views draw a surface."""

from __future__ import annotations

from brass_pebble.core.desk.look.drawn import BareSurface, DrawnRow
from brass_pebble.core.desk.look.shown import place_of, what_does


def sketch_rows(surface: BareSurface, marked: set[str] | None = None) -> tuple[list[DrawnRow], set[str]]:
    """A surface's controls for a sketch, each with what its lowest layer that binds it does; and those that do
    anything, or that are marked."""
    labels = {}
    for control in surface.controls:
        for layer in surface.layers:
            if first := what_does(control.id, [layer], (layer.id,)).first:
                labels[control.id] = first.label
                break
    rows = [place_of(control, labels.get(control.id, "")) for control in surface.controls]
    return rows, set(labels) if marked is None else marked
