"""Everything that a surface does, in every layer, in words: for a map on paper, and for the terminal.  Pure."""

from __future__ import annotations

from dataclasses import dataclass

from brass_pebble.core.desk.look.drawn import BareSurface, LayerRow
from brass_pebble.core.play.gesture import WITH, rank


@dataclass(frozen=True)
class Does:
    """One binding in words: its layer, gesture, short label, and what it does; `sends` is the chord or macro."""

    layer: str
    gesture: str
    label: str
    words: str
    tint: str
    sends: str = ""

    @property
    def short(self) -> str:
        """For a cap: the gesture only where it is not the usual one."""
        return self.label if self.gesture == "press" else f"{self.gesture}: {self.label}"

    @property
    def whole(self) -> str:
        """In full: what it is called, and what it sends."""
        what = self.words if self.words != self.label else ""
        return f"{self.gesture}: {self.label}" + (f" ({what})" if what else "")


def what_it_does(surface: BareSurface) -> dict[str, list[Does]]:
    """Every binding by its control, in the order of layers and gestures; controls that do nothing are there, empty."""
    found: dict[str, list[Does]] = {control.id: [] for control in surface.controls}
    for layer in surface.layers:
        rows = sorted(layer.bindings, key=lambda row: (row.gesture.startswith(WITH), rank(row.gesture)))
        for row in rows:
            found.setdefault(row.control, []).append(Does(layer.name, row.gesture, row.label, row.words,
                                                             row.tint or layer.tint, row.target))
    return found


def how_it_comes(surface: BareSurface, layer: LayerRow) -> str:
    """When a layer is on, in words."""
    if layer is surface.layers[0]:
        return "always on"
    if layer.follows:
        return f"follows {layer.follows.cls or layer.follows.title}"
    return "on from the start" if layer.starts == "on" else "switched on"


def lines_of(surface: BareSurface) -> list[str]:
    """The overview as lines of text: for each layer, what each control does."""
    found = what_it_does(surface)
    legends = {control.id: control.legend for control in surface.controls}
    wide = max((len(legends.get(control, control)) for control, does in found.items() if does), default=0)
    lines = []
    for layer in surface.layers:
        lines += ["", f"{layer.name} ({how_it_comes(surface, layer)})"]
        rows = [(control, entry) for control, does in found.items() for entry in does if entry.layer == layer.name]
        lines += [f"  {legends.get(control, control):{wide}}  {entry.whole}" for control, entry in rows] or [
            "  nothing yet"]
    return lines
