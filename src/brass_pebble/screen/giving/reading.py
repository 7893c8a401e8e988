"""How these views draw a surface."""

from __future__ import annotations

from typing import Any

from brass_pebble.core.desk.look.shown import show_control

Row = dict[str, Any]


def sketch_rows(surface: Row, marked: set[str] | None = None) -> tuple[list[Row], set[str]]:
    """A surface's controls for a sketch, each with what its lowest layer that binds it does; and those that do
    anything, or that are marked."""
    labels = {}
    for control in surface["controls"]:
        for layer in surface["layers"]:
            shown = show_control(control["id"], [layer], (layer["id"],))
            if "label" in shown:
                labels[control["id"]] = shown["label"]
                break
    rows = [{**{name: control[name] for name in ("id", "code", "x", "y", "w", "h", "legend")},
             "key": labels.get(control["id"], "")} for control in surface["controls"]]
    return rows, set(labels) if marked is None else marked
