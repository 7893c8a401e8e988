"""A surface as a heat map: how often each control was pressed, or what a proposal makes of it."""

from __future__ import annotations

from dataclasses import dataclass, field

from textual import events
from textual.color import Color
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from brass_pebble.core.desk.look.drawn import ControlRow
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.widgets.canvas import Canvas, paint
from brass_pebble.screen.widgets.caps import cell_box
from brass_pebble.screen.widgets.short_labels import centre, fit

LARGEST, SMALLEST = (14, 5), (4, 2)
# Two drawings stand beside one another from so many cells for a key unit, and so far apart.
LEAST_BESIDE, GAP = 7, 4
LEVELS = " ▁▂▃▄▅▆▇█"


@dataclass(frozen=True)
class Cap:
    """What a control shows: its label, presses, how they compare with the most pressed (0 to 1), and a mark.

    `mark` is "slip" (hit by mistake), "near" (beside the chosen one), "moved" or "freed" by a proposal, or "unused".
    """

    label: str = ""
    presses: int = 0
    heat: float = 0.0
    mark: str = ""
    note: str = ""


@dataclass
class HeatData:
    """The controls, and what each of them shows."""

    controls: list[ControlRow] = field(default_factory=list)
    caps: dict[str, Cap] = field(default_factory=dict)
    caption: str = ""


SIGNS = {"slip": "!", "near": "·", "moved": "➜", "freed": "✂", "unused": "○", "": ""}


class HeatMap(Widget):
    """Draws it at the largest scale that fits."""

    DEFAULT_CSS = "HeatMap { width: 1fr; height: 1fr; padding: 0 1; }"

    class Chosen(Message):
        """A control was clicked."""

        def __init__(self, control: str) -> None:
            super().__init__()
            self.name = control

    def __init__(self) -> None:
        super().__init__()
        self.data = HeatData()
        # Drawn beside it, if there is room: the same surface otherwise.
        self.beside: HeatData | None = None
        self.chosen = ""
        self._instead = False
        self._left = 0
        self._unit = SMALLEST
        self._top = 0
        self._lines: list[Strip] = []

    def show(self, data: HeatData, chosen: str, beside: HeatData | None = None, *, instead: bool = False) -> None:
        """Draw this, and another state of the same surface beside it: or `instead` of it, where there is no room."""
        self.data, self.chosen, self.beside, self._instead = data, chosen, beside, instead
        self.redraw()

    def on_resize(self, event: events.Resize) -> None:
        """Another scale may fit."""
        self.redraw()

    def redraw(self) -> None:
        """Draw it again."""
        if not self.is_mounted or not self.content_size.width:
            return
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        width, height = self.content_size
        controls = self.data.controls
        wide = max((c.x + c.w for c in controls), default=1.0)
        high = max((c.y + c.h for c in controls), default=1.0)
        both = self.beside is not None and int((width - GAP) / 2 / wide) >= LEAST_BESIDE
        across = max(SMALLEST[0], min(LARGEST[0], int(((width - GAP) / 2 if both else width) / wide)))
        head = 2 if both else 0
        self._unit = across, max(1, min(LARGEST[1], max(2, across // 2), int((height - head) / high)))
        canvas = Canvas(width, height, paint(palette.text, palette.ground))
        self._left, self._top = 0, head
        alone = self.beside if self.beside is not None and self._instead and not both else self.data
        for control in controls:
            self._draw(canvas, control, alone, palette)
        if both and self.beside is not None:
            canvas.put(0, 0, self.data.caption, paint(palette.dim, palette.ground, bold=True))
            shift = round(wide * across) + GAP
            canvas.put(shift, 0, self.beside.caption, paint(palette.verdigris, palette.ground, bold=True))
            self._left = shift
            for control in controls:
                self._draw(canvas, control, self.beside, palette)
            self._left = 0
        self._lines = canvas.strips()
        self.refresh()

    def _draw(self, canvas: Canvas, control: ControlRow, data: HeatData, palette: Palette) -> None:
        cap = data.caps.get(control.id, Cap())
        x, y, width, height = cell_box(control, self._unit)
        x, y = x + self._left, y + self._top
        width, height = max(2, width - 1), max(1, height - (1 if self._unit[1] > 2 else 0))
        fill = Color.parse(palette.cap if cap.label else palette.panel).blend(
            Color.parse(palette.brass), cap.heat ** 0.6 if cap.heat else 0.0).hex
        text = palette.ink_on(fill)
        if not cap.label:
            text = palette.dim
        if control.id == self.chosen:
            edge = paint(palette.text, palette.text)
            canvas.fill(x - 1, y, 1, height, edge)
            canvas.fill(x + width, y, 1, height, edge)
        style, strong = paint(text, fill), paint(text, fill, bold=True)
        canvas.fill(x, y, width, height, style)
        sign = SIGNS[cap.mark]
        label = fit(cap.label or control.legend, width - (len(sign) + 1 if height < 2 and sign else 0))
        number = f"{cap.presses}" if cap.presses else ""
        if height == 1:
            canvas.put(x, y, fit(label, width), strong if cap.label else style)
            if sign and width > 2:
                canvas.put(x + width - 1, y, sign, strong)
            return
        top = y + (height - 2) // 2 if height > 3 else y + (height - 2 if height == 3 else 0)
        if height >= 3:
            canvas.put(x + (1 if width > 6 else 0), y, fit(control.legend, width - 3), style)
        canvas.put(x, top, centre(label, width), strong if cap.label else style)
        level = LEVELS[min(8, round(cap.heat * 8))] if cap.heat else ""
        foot = cap.note or " ".join(part for part in (number, level) if part)
        canvas.put(x, top + 1, centre(fit(foot, width), width), style)
        if sign:
            ink = palette.rust if cap.mark == "slip" and cap.heat < 0.3 else text
            canvas.put(x + width - (2 if width > 6 else 1), y, sign, paint(ink, fill, bold=True))

    def render_line(self, y: int) -> Strip:
        """One line."""
        return self._lines[y] if y < len(self._lines) else Strip.blank(self.content_size.width)

    def on_click(self, event: events.Click) -> None:
        """Choose the control under the pointer."""
        for control in self.data.controls:
            x, y, width, height = cell_box(control, self._unit)
            if x <= event.x - 1 < x + width and y <= event.y - self._top < y + height:
                self.post_message(self.Chosen(control.id))
                return
