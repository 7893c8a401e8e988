"""What these views read of the desk's files.  They only read: every change goes through the engine."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from brass_pebble import paths
from brass_pebble.core.desk.look.shown import show_control
from brass_pebble.engine.disk.store import DeskStore

Row = dict[str, Any]


def store_of(folder: str) -> DeskStore:
    """The store of the desk that is shown."""
    desk = Path(folder)
    return DeskStore(desk, paths.state_folder() / "versions" / paths.desk_key(desk), paths.user_layouts(),
                     paths.approvals_file(desk))


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
