"""A surface as the thing it is: caps that show what they do and light up."""

from __future__ import annotations

import time
from typing import Any

from textual import events
from textual.geometry import Size
from textual.message import Message
from textual.strip import Strip
from textual.timer import Timer
from textual.widget import Widget

from brass_pebble.screen.palette import Palette
from brass_pebble.screen.state import DeskState, Spot

from .canvas import Canvas, paint
from .caps import CapState, cell_box, draw_cap

TITLE_ROWS = 1
PROGRESS_EVERY = 0.1


class SurfaceDrawing(Widget):
    """Draws one surface and takes the mouse: pressing a drawn key presses it, letting go lets it go."""

    DEFAULT_CSS = "SurfaceDrawing { position: absolute; }"

    class Pressed(Message):
        """The mouse went down (or up) on a control."""

        def __init__(self, spot: Spot, *, down: bool) -> None:
            super().__init__()
            self.spot, self.down = spot, down

    def __init__(self, surface_id: str, state: DeskState) -> None:
        super().__init__()
        self.surface_id = surface_id
        self.state = state
        self.unit = (5, 3)
        self.selected = ""
        self.latched: set[str] = set()
        self._lines: list[Strip] = []
        self._mouse_on = ""
        self._timer: Timer | None = None

    @property
    def palette(self) -> Palette:
        """The colours in use."""
        return self.app.palette  # type: ignore[attr-defined,no-any-return]

    def size_for(self, unit: tuple[int, int]) -> Size:
        """Cells needed at a scale."""
        surface = self.state.surface(self.surface_id)
        boxes = [cell_box(control, unit) for control in surface["controls"]] if surface else []
        width = max((x + w for x, _, w, _ in boxes), default=unit[0] * 4)
        height = max((y + h for _, y, _, h in boxes), default=unit[1])
        return Size(width, height + TITLE_ROWS)

    def title_width(self) -> int:
        """Cells that the title needs, which may reach into the gap beside the drawing."""
        surface = self.state.surface(self.surface_id)
        if surface is None:
            return 0
        return len(surface["name"]) + 5 + max(10, sum(len(layer["name"]) + 3 for layer in surface["layers"]))

    def set_unit(self, unit: tuple[int, int]) -> None:
        """Draw at another scale: cells for one key unit."""
        self.unit = unit
        self.redraw()

    def redraw(self) -> None:
        """Draw anew from the state."""
        surface = self.state.surface(self.surface_id)
        if surface is None or not self.is_mounted:
            return
        size, palette = self.size_for(self.unit), self.palette
        canvas = Canvas(max(size.width, self.title_width()), size.height, paint(palette.text, palette.ground))
        self._draw_title(canvas, surface)
        playing = False
        for control in surface["controls"]:
            spot = (self.surface_id, control["id"])
            trace = self.state.playing(spot)
            progress = None
            if trace is not None and trace["state"] == "playing" and trace["length_ms"] > 250:
                progress = (time.monotonic() - trace["seen"]) * 1000 / trace["length_ms"]
                playing = True
            x, y, width, height = cell_box(control, self.unit)
            draw_cap(canvas, control, (x, y + TITLE_ROWS, width, height), CapState(
                selected=control["id"] == self.selected, down=spot in self.state.down,
                latched=control["id"] in self.latched, asleep=surface["state"] != "taken", progress=progress), palette)
        if not surface["controls"]:
            canvas.put(0, 1, "no drawing yet: i, then draw it", paint(palette.dim, palette.ground))
        self._lines = canvas.strips()
        self.refresh()
        self._tick(playing)

    def _tick(self, playing: bool) -> None:
        """Motion only while something plays."""
        if playing and self._timer is None:
            self._timer = self.set_interval(PROGRESS_EVERY, self.redraw)
        elif not playing and self._timer is not None:
            self._timer.stop()
            self._timer = None

    def _draw_title(self, canvas: Canvas, surface: dict[str, Any]) -> None:
        palette = self.palette
        name = surface["name"].upper()
        canvas.put(1, 0, name, paint(palette.text, palette.ground, bold=True))
        x = len(name) + 3
        if surface["state"] == "taken":
            layers = " ▸ ".join(layer["name"] for layer in surface["layers"])
            canvas.put(x, 0, f"◆ {layers}" if layers else "no layer yet", paint(palette.verdigris, palette.ground))
        else:
            glyph = {"resting": "◌", "waiting": "◌", "unsure": "?"}.get(surface["state"], "✗")
            canvas.put(x, 0, f"{glyph} {'which one is it?' if glyph == '?' else surface['state']}",
                       paint(palette.rust if glyph == "✗" else palette.brass, palette.ground))

    def render_line(self, y: int) -> Strip:
        """One line of the drawing."""
        if y < len(self._lines):
            return self._lines[y]
        return Strip.blank(self.size.width, paint(self.palette.text, self.palette.ground))

    def control_at(self, x: int, y: int) -> str:
        """The control under a cell, or an empty string."""
        surface = self.state.surface(self.surface_id)
        for control in surface["controls"] if surface else []:
            left, top, width, height = cell_box(control, self.unit)
            if left <= x < left + width and top <= y - TITLE_ROWS < top + height:
                return str(control["id"])
        return ""

    def on_mouse_down(self, event: events.MouseDown) -> None:
        """Press the key under the pointer."""
        control = self.control_at(event.x, event.y)
        if control and event.button == 1:
            self._mouse_on = control
            self.capture_mouse()
            self.post_message(self.Pressed((self.surface_id, control), down=True))

    def on_mouse_up(self, event: events.MouseUp) -> None:
        """Let it go."""
        if self._mouse_on:
            self.release_mouse()
            self.post_message(self.Pressed((self.surface_id, self._mouse_on), down=False))
            self._mouse_on = ""
