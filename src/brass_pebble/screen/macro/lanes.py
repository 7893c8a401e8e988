"""Lanes: one for each key, pointer motion or message; time runs to the right on a ruler, a bar from down to up."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from itertools import accumulate
from typing import ClassVar

from textual import events
from textual.binding import Binding, BindingType
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from brass_pebble.core.macro.lanes import Bar, Lane
from brass_pebble.core.say.durations import MS, SECOND, say_duration, write_duration
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.widgets.canvas import Canvas, paint
from brass_pebble.screen.widgets.short_labels import fit

from .model import MacroModel

# How much time one cell can stand for, in ns.
ZOOMS = tuple(unit * MS for unit in (1, 2, 5, 10, 20, 50, 100, 200, 500, 1_000, 2_000, 5_000, 10_000))
NAMES = 11
LABEL_ROOM = 9
RULER_ROWS = 2
# Where there is room a lane is so many rows high, and the whole macro stands in one row above the ruler.
HIGHEST, OVERVIEW_FROM = 3, 12
# How much happens at once, from nothing to many lanes.
DENSITY = " ▁▂▃▄▅▆▇"
# What the lanes can do: key, action, word.  They stand in a line of their own, to be clicked.
TOOLS = (
    ("plus", "edit('longer')", "longer"), ("minus", "edit('shorter')", "shorter"),
    ("shift+left", "edit('earlier')", "earlier"), ("shift+right", "edit('later')", "later"), ("i", "size", "step"),
    ("backspace", "edit('close')", "close gap"), ("v", "mark", "mark"), ("slash", "edit('half')", "half"),
    ("asterisk", "edit('double')", "double"), ("m", "edit('snap')", "snap"), ("c", "edit('copy')", "copy"),
    ("n", "edit('insert')", "insert"), ("delete", "edit('delete')", "delete"), ("z", "zoom(-1)", "zoom"),
    ("u", "undo(1)", "undo"),
)
LONGER_WORDS = {
    "longer": "longer, shorter", "shorter": "longer, shorter", "earlier": "earlier, later; what comes behind stays",
    "later": "earlier, later; what comes behind stays", "step": "the size of a step: 1, 10, 100 ms",
    "close gap": "close the gap before it", "mark": "mark a stretch from here",
    "half": "half or double the times of the stretch, or of all",
    "double": "half or double the times of the stretch, or of all", "snap": "snap the stretch to a rhythm",
    "copy": "copy, insert, delete a step", "insert": "copy, insert, delete a step",
    "delete": "copy, insert, delete a step", "zoom": "zoom in, zoom out", "undo": "undo, redo",
}
KEY_SIGNS = {"plus": "+", "minus": "−", "asterisk": "*", "slash": "/", "backspace": "⌫",
             "shift+left": "⇧←", "shift+right": "⇧→", "delete": "del"}


class LanesView(Widget, can_focus=True):
    """Shows the lanes of a model; arrows and the mouse choose a bar."""

    DEFAULT_CSS = """
    LanesView { width: 1fr; height: 1fr; padding: 0 0 0 1; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("left", "step(-1)", "choose", show=False), Binding("right", "step(1)", "choose", show=False),
        Binding("up", "lane(-1)", "choose", show=False), Binding("down", "lane(1)", "choose", show=False),
        Binding("home", "edge(0)", "first", show=False, tooltip="the first, the last"),
        Binding("end", "edge(-1)", "last", show=False, tooltip="the first, the last"),
        *(Binding(key, action, words, show=False, tooltip=LONGER_WORDS.get(words, "")) for key, action, words in TOOLS),
        Binding("0", "fit", "fit", show=False, tooltip="fit the whole macro in"),
        Binding("r", "undo(-1)", "redo", show=False, tooltip="undo, redo"),
        Binding("Z", "zoom(1)", "zoom out", show=False, tooltip="zoom in, zoom out"),
    ]

    class Chosen(Message):
        """A bar was chosen."""

        def __init__(self, line: int) -> None:
            super().__init__()
            self.line = line

    class Asked(Message):
        """An edit is wanted: its name, the line, and the marked lines."""

        def __init__(self, what: str, line: int, stretch: tuple[int, int] | None) -> None:
            super().__init__()
            self.what, self.line, self.stretch = what, line, stretch

    def __init__(self) -> None:
        super().__init__()
        self.model: MacroModel | None = None
        self.at = -1
        self.marked = -1
        self.now: int | None = None
        self.landed: dict[int, bool] = {}
        self._zoom: int | None = None
        self._left = 0
        self._top = 0
        self._cell = MS
        self._lines: list[Strip] = []
        self._starts: dict[int, list[int]] = {}
        # Rows above the first lane, rows of a lane, and how dense the whole is in so many columns.
        self._head, self._rows = RULER_ROWS, 1
        self._dense: list[int] = []

    # The model.

    def show(self, model: MacroModel) -> None:
        """Another text was read: the bar of the same line stays chosen."""
        line = self.line
        self.model = model
        self._starts, self._dense = {}, []
        self.at = model.bar_on(line) if line else min(max(self.at, 0), len(model.bars()) - 1)
        if self.at < 0 and model.bars():
            self.at = 0
        self.redraw()

    @property
    def line(self) -> int:
        """The line of the chosen bar, or 0."""
        bars = self.model.bars() if self.model else []
        return bars[self.at][1].line if 0 <= self.at < len(bars) else 0

    def choose_line(self, line: int) -> None:
        """Choose the first bar of a line; one that is there already stays."""
        if self.model is not None and line != self.line:
            found = self.model.bar_on(line)
            if found >= 0:
                self.at = found
                self._follow()
                self.redraw()

    # Time and cells.

    @property
    def cell(self) -> int:
        """How much time a cell stands for, in ns."""
        if self._zoom is not None:
            return ZOOMS[self._zoom]
        length = max(1, self.model.lanes.length if self.model else 1)
        room = max(10, self.content_size.width - NAMES - 2)
        return max(1, -(-length // (room * MS))) * MS

    def _column(self, time: int) -> int:
        """The column of a time, at the scale of the last drawing."""
        return NAMES + time // self._cell - self._left

    def _follow(self) -> None:
        """Scroll so that the chosen bar is seen."""
        bars = self.model.bars() if self.model else []
        if not 0 <= self.at < len(bars):
            return
        lane, bar = bars[self.at]
        room = max(10, self.content_size.width - NAMES - 1)
        cell = bar.start // self.cell
        if not self._left <= cell < self._left + room - 2:
            self._left = max(0, cell - room // 3)
        self._share_rows()
        shown = self._shown
        if not self._top <= lane < self._top + shown:
            self._top = max(0, lane - shown // 2)

    def _share_rows(self) -> None:
        """How high the lanes are in the room that there is."""
        height, count = self.content_size.height, len(self.model.lanes.lanes) if self.model else 0
        self._head = RULER_ROWS + (height >= OVERVIEW_FROM)
        self._rows = max(1, min(HIGHEST, (height - self._head) // max(1, count)))

    @property
    def _shown(self) -> int:
        """How many lanes there is room for."""
        return max(1, (self.content_size.height - self._head) // self._rows)

    # Drawing.

    def redraw(self) -> None:
        """Draw what is in sight."""
        if not self.is_mounted:
            return
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        width, height = self.content_size
        if width < NAMES + 6 or height < 3:
            return
        canvas = Canvas(width, height, paint(palette.text, palette.ground))
        self._cell = self.cell
        model = self.model
        if model is None or not model.lanes.lanes:
            quiet = paint(palette.dim, palette.ground)
            canvas.put(0, 1, "No events yet. Write a step, such as  tap Ctrl+Alt+4,", quiet)
            canvas.put(0, 2, "or press F8 and play it.", quiet)
        else:
            room = width - NAMES - 1
            self._left = max(0, min(self._left, model.lanes.length // self.cell - room + 2))
            self._share_rows()
            self._top = max(0, min(self._top, len(model.lanes.lanes) - self._shown))
            if self._head > RULER_ROWS:
                self._draw_overview(canvas, palette)
            self._draw_ruler(canvas, palette, width)
            for row, lane in enumerate(model.lanes.lanes[self._top:self._top + self._shown]):
                self._draw_lane(canvas, palette, row * self._rows + self._head, row + self._top, lane)
            if model.problems:
                line = model.problems[0].line
                canvas.put(0, height - 1, f"✗ line {line} has an error: the lanes show the last text without errors",
                           paint(palette.rust, palette.ground))
            below = len(model.lanes.lanes) - self._top - self._shown
            if below > 0 and not model.problems:
                canvas.put(0, height - 1, f"↓ {below} more", paint(palette.dim, palette.ground))
        self._lines = canvas.strips()
        self.refresh()

    def _draw_overview(self, canvas: Canvas, palette: Palette) -> None:
        """The whole macro in one row: how much happens when; what the lanes below show is bright."""
        assert self.model is not None
        room, length = canvas.width - NAMES - 1, max(1, self.model.lanes.length)
        if len(self._dense) != room:
            # What begins and ends in each column, added up.
            steps = [0] * (room + 1)
            for _, bar in self.model.bars():
                first = min(room - 1, bar.start * room // length)
                steps[first] += 1
                steps[max(first, min(room - 1, max(bar.start, bar.end - 1) * room // length)) + 1] -= 1
            self._dense = list(accumulate(steps[:room]))
        first, last = self._left * self._cell * room // length, (self._left + room) * self._cell * room // length
        canvas.put(0, 0, "whole", paint(palette.dim, palette.ground))
        for column, count in enumerate(self._dense):
            seen = first <= column <= last
            canvas.put(NAMES + column, 0, DENSITY[min(count, len(DENSITY) - 1)],
                       paint(palette.brass if seen else palette.dim, palette.cap if seen else palette.ground))

    def _draw_ruler(self, canvas: Canvas, palette: Palette, width: int) -> None:
        cell, y = self._cell, self._head - RULER_ROWS
        tick = next(unit for unit in _ticks() if unit >= cell * LABEL_ROOM)
        dim = paint(palette.dim, palette.ground)
        first = self._left * cell // tick
        for number in range(first, first + width // (tick // cell) + 2):
            x = self._column(number * tick)
            if NAMES <= x < width:
                canvas.put(x, y, "0 ms" if number == 0 else say_duration(number * tick), dim)
                canvas.put(x, y + 1, "╷", dim)
        if self.now is not None:
            x = self._column(self.now)
            if NAMES <= x < width:
                canvas.put(x, y + 1, "▲", paint(palette.brass, palette.ground, bold=True))
        canvas.put(0, y, f"▭ {write_duration(cell)}"[:NAMES - 1], dim)

    def _draw_lane(self, canvas: Canvas, palette: Palette, y: int, index: int, lane: Lane) -> None:
        assert self.model is not None
        chosen_lane, chosen = self.model.bars()[self.at] if 0 <= self.at < len(self.model.bars()) else (-1, None)
        here = index == chosen_lane
        canvas.put(0, y, fit(lane.name, NAMES - 1), paint(palette.brass if here else palette.text, palette.ground,
                                                         bold=here))
        cell, width = self._cell, canvas.width
        starts = self._starts.get(index)
        if starts is None:
            starts = self._starts[index] = [bar.start for bar in lane.bars]
        low, high = self._left * cell, (self._left + width - NAMES) * cell
        # One bar to the left may reach into sight.
        done = -1
        drawn: list[Bar] = []
        for bar in lane.bars[max(0, bisect_left(starts, low) - 1):bisect_right(starts, high)]:
            # Zoomed out, many bars fall on one cell: one of them is drawn, and the chosen one in any case.
            last = max(bar.start, bar.end - 1) // cell if bar.end - bar.start >= cell else bar.start // cell
            if last > done or bar is chosen:
                self._draw_bar(canvas, palette, y, bar, bar is chosen)
                drawn.append(bar)
                done = max(done, last)
        if chosen is not None and here:
            self._draw_bar(canvas, palette, y, chosen, True)
        if self._rows > 1:
            ends = [self._column(bar.start) for bar in drawn[1:]] + [width]
            for bar, end in zip(drawn, ends, strict=True):
                self._say_bar(canvas, palette, y + self._rows - 1, bar, end, chosen=bar is chosen)
        if self.now is not None and NAMES <= (x := self._column(self.now)) < width:
            for row in range(self._rows):
                canvas.put(x, y + row, "│", paint(palette.brass, palette.ground))

    def _say_bar(self, canvas: Canvas, palette: Palette, y: int, bar: Bar, end: int, *, chosen: bool) -> None:
        """The line that wrote a bar and how long it is, under it, as far as there is room before the next one."""
        x = max(NAMES, self._column(bar.start))
        lasts = f" · {say_duration(bar.end - bar.start)}" if bar.end > bar.start else ""
        for text in (f"line {bar.line}{lasts}", f"{bar.line}{lasts}", str(bar.line)):
            if bar.line and x + len(text) < end:
                canvas.put(x, y, text, paint(palette.brass if chosen else palette.dim, palette.ground, bold=chosen))
                return

    def _draw_bar(self, canvas: Canvas, palette: Palette, y: int, bar: Bar, chosen: bool) -> None:
        first, last = self._column(bar.start), self._column(max(bar.start, bar.end - 1))
        if bar.end - bar.start < self._cell:
            # What is shorter than a cell looks the same wherever it falls.
            last = first
        colour = palette.brass if chosen else palette.verdigris if self._in_stretch(bar.line) else palette.edge
        if last < NAMES or first >= canvas.width:
            return
        clipped = max(NAMES, first)
        if bar.end == bar.start:
            canvas.put(clipped, y, "◆", paint(colour, palette.ground, bold=chosen))
            room = canvas.width - clipped - 2
            canvas.put(clipped + 1, y, bar.text[:min(18, room)], paint(palette.dim, palette.ground))
            return
        text = paint(palette.on_brass if chosen else palette.text, colour if chosen else palette.cap, bold=chosen)
        width = last - clipped + 1
        body = bar.text[:width] if bar.text else ""
        high = max(1, self._rows - 1)
        if chosen:
            canvas.fill(clipped, y, width, high, text)
            canvas.put(clipped, y, body, text)
        elif last == first:
            for row in range(high):
                shown = body if row == 0 and body else " " if body else "▮"
                canvas.put(clipped, y + row, shown, text if body else paint(colour, palette.ground))
        else:
            style = paint(palette.ink_on(colour), colour)
            canvas.fill(clipped, y, width, high, style)
            canvas.put(clipped, y, body, style)

    def _in_stretch(self, line: int) -> bool:
        stretch = self.stretch
        return stretch is not None and stretch[0] <= line <= stretch[1]

    def render_line(self, y: int) -> Strip:
        """One line."""
        return self._lines[y] if y < len(self._lines) else Strip.blank(self.content_size.width)

    def on_resize(self, event: events.Resize) -> None:
        """More or less is in sight."""
        self._follow()
        self.redraw()

    # Choosing.

    def _choose(self, index: int) -> None:
        bars = self.model.bars() if self.model else []
        if bars:
            self.at = max(0, min(len(bars) - 1, index))
            self._follow()
            self.redraw()
            self.post_message(self.Chosen(self.line))

    def action_step(self, by: int) -> None:
        """The next bar in time."""
        self._choose(self.at + by)

    def action_edge(self, index: int) -> None:
        """The first or the last bar."""
        self._choose(index if index >= 0 else len(self.model.bars()) if self.model else 0)

    def action_lane(self, by: int) -> None:
        """The nearest bar of the lane above or below."""
        bars = self.model.bars() if self.model else []
        if not 0 <= self.at < len(bars):
            return
        lane, bar = bars[self.at]
        wanted = [(abs(b.start - bar.start), i) for i, (la, b) in enumerate(bars) if la == lane + by]
        if wanted:
            self._choose(min(wanted)[1])

    def on_mouse_down(self, event: events.MouseDown) -> None:
        """Choose the bar under the pointer."""
        if self.model is None:
            return
        lane = (event.y - self._head) // self._rows + self._top
        time = (event.x - 1 - NAMES + self._left) * self.cell
        near = [(max(bar.start - time, time - max(bar.start, bar.end - 1), 0), index)
                for index, (la, bar) in enumerate(self.model.bars()) if la == lane]
        if near and event.x > NAMES:
            self._choose(min(near)[1])

    # Keys.

    @property
    def stretch(self) -> tuple[int, int] | None:
        """The marked lines, or None."""
        bars = self.model.bars() if self.model else []
        if not 0 <= self.marked < len(bars):
            return None
        lines = sorted((bars[self.marked][1].line, self.line))
        return lines[0], lines[1]

    def action_mark(self) -> None:
        """Mark from here; again: no mark."""
        self.marked = -1 if self.marked >= 0 else self.at
        self.redraw()

    def action_edit(self, what: str) -> None:
        """Ask for an edit of the chosen bar, or of the marked stretch."""
        self.post_message(self.Asked(what, self.line, self.stretch))

    def action_size(self) -> None:
        """Another size of step."""
        self.post_message(self.Asked("size", self.line, None))

    def action_undo(self, way: int) -> None:
        """Undo or redo."""
        self.post_message(self.Asked("undo" if way > 0 else "redo", self.line, None))

    def action_zoom(self, by: int) -> None:
        """More time in a cell, or less."""
        cell = self.cell
        now = next((i for i, zoom in enumerate(ZOOMS) if zoom >= cell), len(ZOOMS) - 1)
        self._zoom = max(0, min(len(ZOOMS) - 1, now + (by if ZOOMS[now] == cell or by < 0 else 0)))
        self._left = 0
        self._follow()
        self.redraw()

    def action_fit(self) -> None:
        """The whole macro in sight."""
        self._zoom, self._left = None, 0
        self.redraw()


def _ticks() -> list[int]:
    return [factor * 10**power * MS // 1000 for power in range(3, 10) for factor in (1, 2, 5)] + [10**7 * SECOND]
