"""The plot of a response: how it was, how it is, and where the axis is now."""

from __future__ import annotations

from textual.strip import Strip
from textual.widget import Widget

from brass_pebble.core.play.axis import AxisSettings
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.widgets.canvas import Canvas, paint

# Dots of a braille cell (Unicode 2800): left column from top to bottom, then the right one.
_DOTS = ((0x01, 0x02, 0x04, 0x40), (0x08, 0x10, 0x20, 0x80))
EDGE_LEFT, EDGE_FOOT = 7, 2


class Dots:
    """A grid of braille dots: two across and four down in each cell."""

    def __init__(self, width: int, height: int) -> None:
        self.width, self.height = width * 2, height * 4
        self._cells = [[0] * width for _ in range(height)]

    def set(self, x: int, y: int) -> None:
        """Set a dot, from the upper left."""
        if 0 <= x < self.width and 0 <= y < self.height:
            self._cells[y // 4][x // 2] |= _DOTS[x % 2][y % 4]

    def cells(self) -> list[tuple[int, int, str]]:
        """The cells that have dots: column, row, character."""
        return [(x, y, chr(0x2800 + bits)) for y, row in enumerate(self._cells) for x, bits in enumerate(row) if bits]


class CurvePlot(Widget, can_focus=True):
    """Draws settings; `at` is the position now, `before` how the settings were when the view was opened."""

    DEFAULT_CSS = "CurvePlot { width: 1fr; height: 1fr; }"

    def __init__(self) -> None:
        super().__init__()
        self.settings = AxisSettings()
        self.before = AxisSettings()
        self.centred = False
        self.at = 0.0
        self.presses = False
        self._lines: list[Strip] = []

    @property
    def palette(self) -> Palette:
        """The colours in use."""
        return self.app.palette  # type: ignore[attr-defined,no-any-return]

    def redraw(self) -> None:
        """Draw it again."""
        width, height = self.size
        if width < 24 or height < 8:
            return
        palette = self.palette
        canvas = Canvas(width, height, paint(palette.text, palette.ground))
        # A square on most screens: cells are about twice as high as wide.
        high = height - EDGE_FOOT - 1
        wide = min(width - EDGE_LEFT - 2, int(high * 2.4))
        self._grid(canvas, wide, high)
        low = -1.0 if self.centred else 0.0
        for settings, style in ((self.before, paint(palette.dim, palette.ground)),
                                (self.settings, paint(palette.brass, palette.ground, bold=True))):
            if settings is self.before and self.before == self.settings:
                continue
            dots = Dots(wide, high)
            last = None
            for x in range(dots.width):
                place = low + (1 - low) * x / (dots.width - 1)
                y = self._down(settings.respond(place, centred=self.centred), dots.height)
                for step in range(min(y, last if last is not None else y), max(y, last if last is not None else y) + 1):
                    dots.set(x, step)
                last = y
            for x, y, char in dots.cells():
                canvas.put(EDGE_LEFT + x, y, char, style)
        self._live(canvas, wide, high)
        self._lines = canvas.strips()
        self.refresh()

    def _down(self, value: float, height: int) -> int:
        low = -1.0 if self.centred else 0.0
        return round((1 - (value - low) / (1 - low)) * (height - 1))

    def _across(self, place: float, width: int) -> int:
        low = -1.0 if self.centred else 0.0
        return round((place - low) / (1 - low) * (width - 1))

    def _grid(self, canvas: Canvas, wide: int, high: int) -> None:
        palette = self.palette
        quiet, shade = paint(palette.dim, palette.ground), paint(palette.dim, palette.panel)
        dead = self.settings.dead
        if dead:
            left = self._across(-dead if self.centred else 0.0, wide)
            right = self._across(dead, wide)
            for y in range(high):
                canvas.put(EDGE_LEFT + left, y, " " * (right - left + 1), shade)
        if self.presses:
            for place in ((-self.settings.threshold, self.settings.threshold) if self.centred
                          else (self.settings.threshold,)):
                x = EDGE_LEFT + self._across(place, wide)
                for y in range(0, high, 2):
                    canvas.put(x, y, "╎", quiet)
        canvas.put(EDGE_LEFT - 1, high, "╰" + "─" * wide, quiet)
        for y in range(high):
            canvas.put(EDGE_LEFT - 1, y, "│", quiet)
        for share in ((-1.0, -0.5, 0.0, 0.5, 1.0) if self.centred else (0.0, 0.25, 0.5, 0.75, 1.0)):
            text = f"{share * 100:g} %"
            canvas.put(max(0, EDGE_LEFT - 2 - len(text)), self._down(share, high), text, quiet)
            x = EDGE_LEFT + self._across(share, wide)
            canvas.put(x, high, "┴", quiet)
            canvas.put(min(x - len(text) // 2, EDGE_LEFT + wide - len(text)), high + 1, text, quiet)

    def _live(self, canvas: Canvas, wide: int, high: int) -> None:
        """A line down from where it is, and a dot where that leads."""
        palette = self.palette
        x = EDGE_LEFT + self._across(self.at, wide)
        y = self._down(self.settings.respond(self.at, centred=self.centred), high)
        faint = paint(palette.verdigris, palette.ground)
        for row in range(y + 1, high):
            canvas.put(x, row, "┊", faint)
        canvas.put(x, y, "◉", paint(palette.verdigris, palette.ground, bold=True))
        canvas.put(x, high, "▲", faint)

    def render_line(self, y: int) -> Strip:
        """One line of the plot."""
        if y < len(self._lines):
            return self._lines[y]
        return Strip.blank(self.size.width, paint(self.palette.text, self.palette.ground))

    def on_resize(self) -> None:
        """Draw at the new size."""
        self.redraw()
