"""The row of sheets above a surface: what answers now, and one for each layer."""

from __future__ import annotations

from rich.text import Text
from textual import events
from textual.message import Message
from textual.widgets import Static

from brass_pebble.core.desk.look.drawn import LayerRow, SurfaceRow
from brass_pebble.screen.base.palette import Palette

NOW = ""


class LayerSheets(Static):
    """Tabs: the open one in brass; each layer says whether it is on, and why."""

    DEFAULT_CSS = "LayerSheets { height: 2; padding: 0 1; background: $background; }"

    class Opened(Message):
        """Another sheet was clicked; an empty name is what answers now."""

        def __init__(self, layer: str) -> None:
            super().__init__()
            self.layer = layer

    def __init__(self) -> None:
        super().__init__()
        self._spans: list[tuple[int, int, str]] = []

    def show(self, surface: SurfaceRow, sheet: str, palette: Palette, width: int) -> None:
        """Draw for a surface; with many layers, those around the open one."""
        line, second = Text(no_wrap=True), Text(no_wrap=True, overflow="ellipsis")
        self._spans = []
        rows: list[tuple[str, str, str, bool]] = [(NOW, "Now", "", True)]
        rows += [(layer.id, f"{layer.name} {'▰' if layer.on else '▱'}", layer.tint, layer.on)
                 for layer in surface.layers]
        at = next((index for index, row in enumerate(rows) if row[0] == sheet), 0)
        first = 0
        while first < at and sum(len(row[1]) + 3 for row in rows[first:at + 1]) > width - 10:
            first += 1
        if first:
            line.append("… ", style=palette.dim)
        for layer, name, tint, on in rows[first:]:
            if line.cell_len + len(name) + 3 > width - 4:
                line.append(f" +{len(rows) - len(self._spans) - first}", style=palette.dim)
                break
            start = line.cell_len
            colour = palette.tint(tint) if tint else (palette.text if on else palette.dim)
            style = f"bold {palette.on_brass} on {palette.brass}" if layer == sheet else colour
            line.append(f" {name} ", style=style)
            self._spans.append((start, line.cell_len, layer))
            line.append(" ")
        second.append(self._about(surface, sheet), style=palette.dim)
        line.append("\n")
        self.update(line + second)

    def _about(self, surface: SurfaceRow, sheet: str) -> str:
        layer = next((row for row in surface.layers if row.id == sheet), None)
        if layer is None:
            return "What each control does now. PgDn: next layer. Layers stack from left to right."
        return say_layer(layer, lowest=layer is surface.layers[0])

    def on_click(self, event: events.Click) -> None:
        """A click opens a sheet."""
        for start, end, layer in self._spans:
            if event.y == 0 and start <= event.x - 1 < end:
                self.post_message(self.Opened(layer))


def say_layer(layer: LayerRow, *, lowest: bool) -> str:
    """A layer in one line: is it on, why, when does it come."""
    if lowest:
        return "The lowest layer, always on. Controls that are empty above fall through to it."
    parts = [f"On now: {layer.why}" if layer.on else "Off now"]
    if layer.follows:
        follows = " and ".join(f"{what} {value}" for what, value in layer.follows.given().items())
        parts.append(f"on with the window {follows}")
    if layer.starts == "on":
        parts.append("on from the start")
    return "; ".join(parts) + ". l: settings. o: on / off."
