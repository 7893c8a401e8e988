"""What stands on each control's label, from the rows that clients get.  Pure."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Collection, Iterable
from dataclasses import asdict, dataclass

from brass_pebble.core.desk.look.drawn import BareSurface, ControlRow, LayerRow
from brass_pebble.core.desk.look.shown import show_control
from brass_pebble.core.say.limits import fill_label

from .icons import guess_icon

MOST_LAYERS = 4


@dataclass(frozen=True)
class Entry:
    """What one layer has on a control: its short label, icon, tint, and its further gestures in words."""

    layer: str
    label: str = ""
    icon: str = ""
    tint: str = ""
    further: str = ""

    @property
    def empty(self) -> bool:
        """Whether the layer has nothing there."""
        return not (self.label or self.icon)


@dataclass(frozen=True)
class Face:
    """A control and what stands on it; one entry for each layer that is shown, in their order."""

    control: str
    legend: str
    entries: tuple[Entry, ...]
    row: ControlRow

    @property
    def mark(self) -> str:
        """A fingerprint of everything that would be printed but its size."""
        text = json.dumps([asdict(entry) for entry in self.entries], ensure_ascii=False, sort_keys=True)
        return hashlib.sha256(text.encode()).hexdigest()[:16]


def layers_shown(surface: BareSurface, wanted: Iterable[str] = ()) -> list[LayerRow]:
    """The layers whose labels are printed: those wanted (by id or name), or the first that has anything."""
    layers: list[LayerRow] = surface.layers
    names = list(wanted)
    if names:
        found = [next((layer for layer in layers if name in (layer.id, layer.name)), None) for name in names]
        return [layer for layer in found if layer is not None][:MOST_LAYERS]
    return next(([layer] for layer in layers if layer.bindings), layers[:1])


def faces(surface: BareSurface, layers: Iterable[LayerRow], only: Collection[str] | None = None) -> list[Face]:
    """The labels of a surface: one for each control that any of the layers binds."""
    shown = list(layers)
    found = []
    for control in surface.controls:
        if only is not None and control.id not in only:
            continue
        entries = tuple(_entry(control, layer) for layer in shown)
        if any(not entry.empty for entry in entries):
            found.append(Face(control.id, control.legend, entries, control))
    return found


def _entry(control: ControlRow, layer: LayerRow) -> Entry:
    row = show_control(control, [layer], (layer.id,))
    if not row.kind:
        return Entry(layer.name)
    gestures = list(row.gestures.items())
    icon = row.icon or guess_icon(row.label)
    further = ", ".join(f"{gesture} {other.label}" for gesture, other in gestures[1:]
                        if other.label != row.label)
    # On paper a value that changes has no place.
    label = fill_label(row.label, {}).replace("–", "").strip()
    return Entry(layer.name, label, "" if icon == "none" else icon, row.tint or layer.tint, further)


def changed(found: Iterable[Face], printed: dict[str, str]) -> list[Face]:
    """Those that look otherwise than when they were printed; `printed` has their marks by control."""
    return [face for face in found if printed.get(face.control) != face.mark]
