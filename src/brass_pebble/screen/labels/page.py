"""A page of labels as it will be printed, in cells of the terminal."""

from __future__ import annotations

from rich.cells import cell_len
from rich.style import Style
from textual import events
from textual.geometry import Region, Size
from textual.message import Message
from textual.scroll_view import ScrollView
from textual.strip import Strip

from brass_pebble.core.label.sheet import MARGIN, Label, Part, Sheet
from brass_pebble.paper.patterns import patterns
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.widgets.canvas import Canvas, paint
from brass_pebble.screen.widgets.short_labels import fit

# A cell is so much higher than wide.
TALL = 2.4
PAPER, LABEL, INK, QUIET, SHADE, LIT = "#e9e4d6", "#ffffff", "#22262a", "#635f51", "#cfc8b6", "#f6dfa4"
ICON = "◇"
# What stands for the patterns of the tints.
HATCH = {("lines", 45): "╱", ("lines", 135): "╲", ("lines", 0): "─", ("lines", 90): "│", ("dots", 0): "·",
         ("cross", 45): "╳", ("cross", 0): "┼", ("none", 0): " "}
# Cells for a millimetre: so that an ordinary label can be read.
READABLE = 0.72


class LabelPage(ScrollView, can_focus=True, inherit_bindings=False):
    """Shows one page; a click chooses a label."""

    DEFAULT_CSS = """
    LabelPage { width: 1fr; height: 1fr; background: $background; scrollbar-size: 1 1;
        scrollbar-color: $panel-lighten-2; scrollbar-background: $background; scrollbar-corner-color: $background; }
    """

    class Chosen(Message):
        """A label was clicked."""

        def __init__(self, control: str) -> None:
            super().__init__()
            self.label = control

    def __init__(self) -> None:
        super().__init__()
        self.sheet: Sheet | None = None
        self.number = 0
        self.chosen = ""
        # The whole width of the page, or as large as can be read.
        self.whole = False
        self._ground = LABEL
        self._lines: list[Strip] = []
        self._boxes: list[tuple[str, Region]] = []

    def show(self, sheet: Sheet, number: int, chosen: str) -> None:
        """Draw a page, counted from 0."""
        self.sheet, self.number, self.chosen = sheet, number, chosen
        self.redraw()

    def labels(self) -> tuple[Label, ...]:
        """The labels of the page."""
        return self.sheet.pages[self.number] if self.sheet and self.number < len(self.sheet.pages) else ()

    def on_resize(self, event: events.Resize) -> None:
        """Another scale may fit."""
        self.redraw()

    def redraw(self) -> None:
        """Draw it again."""
        if self.sheet is None or not self.is_mounted or not self.size.width:
            return
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        wide, high = self.sheet.paper
        across = (self.size.width - 3) / wide
        if not self.whole:
            across = max(READABLE, across)
        down = across / TALL
        canvas = Canvas(max(self.size.width - 1, round(wide * across) + 2), round(high * down) + 1,
                        paint(palette.text, palette.ground))
        canvas.fill(0, 0, round(wide * across), round(high * down), paint(INK, PAPER))
        labels = self.labels()
        if not labels:
            canvas.put(4, 3, "Nothing to print.", paint(INK, PAPER))
        self._boxes = []
        for label in labels:
            x, y = round(label.at.x * across), round(label.at.y * down)
            area = Region(x, y, max(4, round(label.at.width * across)),
                         max(2, round(label.at.height * down)))
            self._boxes.append((label.face.control, area))
            self._draw(canvas, label, area, palette)
        ruler = round(high * down) - 2
        canvas.put(round(MARGIN * across), ruler, "├" + "─" * (round(100 * across) - 2) + "┤", paint(INK, PAPER))
        canvas.put(round((MARGIN + 104) * across), ruler, "100 mm", paint(QUIET, PAPER))
        self._lines = canvas.strips()
        self.virtual_size = Size(canvas.width, canvas.height)
        here = next((area for control, area in self._boxes if control == self.chosen), None)
        if here is not None:
            self.scroll_to_region(here.grow((1, 2, 1, 2)), animate=False)
        self.refresh()

    def _draw(self, canvas: Canvas, label: Label, area: Region, palette: Palette) -> None:
        chosen = label.face.control == self.chosen
        self._ground = LIT if chosen else LABEL
        canvas.fill(area.x, area.y, area.width, area.height, paint(INK, self._ground))
        if len(label.face.entries) == 1:
            self._alone(canvas, label.parts[0], area)
        else:
            for part in label.parts:
                self._corner(canvas, part, label, area)
        if chosen:
            for row in range(area.height):
                canvas.put(area.x - 1, area.y + row, "▐", paint("#8a6a1f", PAPER, bold=True))

    def _alone(self, canvas: Canvas, part: Part, area: Region) -> None:
        low = area.bottom
        if part.tint is not None:
            low -= 1
            canvas.put(area.x, low, _hatch(part.entry.tint) * area.width, _tinted(part.entry.tint))
        if part.icon is not None and part.icon.y < 2 and low - area.y > 2 + len(part.fitted.lines):
            canvas.put(area.x + (area.width - 1) // 2, area.y, ICON, paint(QUIET, self._ground))
            area = Region(area.x, area.y + 1, area.width, area.height - 1)
        lines = list(part.fitted.lines)
        further = part.further.lines[0] if part.further.lines and area.height > 4 else ""
        block = len(lines) + bool(further)
        top = area.y + max(0, (low - area.y - block) // 2)
        for index, line in enumerate(lines):
            self._text(canvas, line, area.x, top + index, area.width, "middle", bold=True)
        if further:
            self._text(canvas, further, area.x, top + len(lines), area.width, "middle", quiet=True)

    def _corner(self, canvas: Canvas, part: Part, label: Label, area: Region) -> None:
        share_x, share_y = area.width / label.at.width, area.height / label.at.height
        y = area.y + round((part.text.y + part.text.height / 2) * share_y - 0.5)
        x = area.x + round(part.text.x * share_x)
        width = max(2, round(part.text.width * share_x))
        if part.tint is not None:
            for row in range(max(1, round(part.tint.height * share_y))):
                canvas.put(area.x if part.anchor == "start" else area.right - 1,
                           area.y + min(area.height - 1, round(part.tint.y * share_y) + row), _hatch(part.entry.tint),
                           _tinted(part.entry.tint))
        if part.icon is not None:
            # The icon gives way to the text, which has to be read here.
            x, width = (area.x + 1 if part.anchor == "start" else x), width + round(part.icon.width * share_x)
        self._text(canvas, " ".join(part.fitted.lines), x, min(area.bottom - 1, max(area.y, y)), width, part.anchor)

    def _text(self, canvas: Canvas, text: str, x: int, y: int, width: int, anchor: str, *, bold: bool = False,
              quiet: bool = False) -> None:
        shown = fit(text, width)
        room = max(0, width - cell_len(shown))
        left = {"start": 0, "middle": room // 2, "end": room}[anchor]
        canvas.put(x + left, y, shown, paint(QUIET if quiet else INK, self._ground, bold=bold))

    def render_line(self, y: int) -> Strip:
        """One line of the page, as it is scrolled."""
        scroll_x, scroll_y = self.scroll_offset
        at = y + scroll_y
        if at >= len(self._lines):
            return Strip.blank(self.size.width)
        return self._lines[at].crop(scroll_x, scroll_x + self.size.width)

    def on_click(self, event: events.Click) -> None:
        """Choose the label under the pointer."""
        x, y = event.x + self.scroll_offset.x, event.y + self.scroll_offset.y
        for control, area in self._boxes:
            if area.contains(x, y):
                self.post_message(self.Chosen(control))
                return


def _hatch(tint: str) -> str:
    found = patterns().get(tint)
    return HATCH.get((found.kind, int(found.angle)), " ") if found else " "


def _tinted(tint: str) -> Style:
    found = patterns().get(tint)
    return paint(INK, found.colour if found else SHADE)
