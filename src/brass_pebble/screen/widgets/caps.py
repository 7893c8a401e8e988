"""Draws a surface: caps with round corners, at their real places and sizes."""

from __future__ import annotations

from collections.abc import Set
from dataclasses import dataclass
from typing import Protocol

from rich.cells import cell_len

from brass_pebble.core.desk.look.drawn import ControlRow
from brass_pebble.core.label.block_letters import LetterSize, block_label
from brass_pebble.screen.base.palette import Palette

from .canvas import Canvas, paint
from .short_labels import centre, cut, fit


class Placed(Protocol):
    """What lies on a drawing, in key units."""

    @property
    def x(self) -> float:
        """From the left."""

    @property
    def y(self) -> float:
        """From above."""

    @property
    def w(self) -> float:
        """Its width."""

    @property
    def h(self) -> float:
        """Its height."""


@dataclass(frozen=True)
class CapState:
    """How a control is right now.

    `latched` is held down by the screen, `lit` by a chord that it latched; `cycle` is where its cycle stands; `marked`
    is chosen together with others; `at` is where it is, if it moves; `progress` is 0 to 1 while its run plays, or None.
    """

    selected: bool = False
    down: bool = False
    latched: bool = False
    lit: bool = False
    cycle: str = ""
    marked: bool = False
    asleep: bool = False
    at: tuple[float, ...] = ()
    progress: float | None = None


@dataclass(frozen=True)
class LabelStyle:
    """How labels are written: in block letters where a cap allows (`most`: no larger), and apart from `rivals`."""

    large: bool = True
    most: LetterSize | None = None
    rivals: Set[str] = frozenset()


SMALL = LabelStyle(large=False)


def cell_box(control: Placed, unit: tuple[float, float]) -> tuple[int, int, int, int]:
    """Where a control lies, in cells: x, y, width, height."""
    uw, uh = unit
    # Half a cell always goes the same way, so that caps of one size come out alike.
    x, y = int(control.x * uw + 0.5), int(control.y * uh + 0.5)
    return (x, y, int((control.x + control.w) * uw + 0.5) - x,
            int((control.y + control.h) * uh + 0.5) - y)


# Corners, then the horizontal and the vertical line: drawn lines meet without seams in every font.
_ROUND, _HEAVY, _FAINT, _DOUBLE = "╭╮╰╯─│", "┏┓┗┛━┃", "╭╮╰╯╌╎", "╔╗╚╝═║"
# What stands before the label of a further gesture.
_FURTHER = {"press": "press", "tap": "tap", "double tap": "twice", "hold": "hold", "release": "let go"}
_FURTHER_SHORT = {"press": "•", "tap": "·", "double tap": "∶", "hold": "↧", "release": "↥"}
# Edges of so many cells have room for blanks around what stands in them.
_WIDE_EDGE = 7
Box = tuple[int, int, int, int]


@dataclass(frozen=True)
class _Ink:
    """The colours of one cap as it is now."""

    text: str
    fill: str
    strong: str
    mark: str
    mark_colour: str
    palette: Palette


def draw_cap(canvas: Canvas, control: ControlRow, box: Box, now: CapState, palette: Palette,
             labels: LabelStyle | None = None) -> None:
    """One cap.  Its edge carries the legend, the sign of what it does, further gestures and the progress of a run.

    What it does stands large inside; its fill tells a press, its line the selection.
    """
    x, y, width, height = box
    bound, ground = bool(control.kind), palette.ground
    fill, text = ground, palette.tint(control.tint) if bound else palette.dim
    edge, lines = (palette.edge, _ROUND) if bound else (palette.faint, _FAINT)
    if now.asleep:
        text, edge = palette.dim, palette.faint
    if now.down:
        fill, text, edge = palette.brass, palette.on_brass, palette.brass
    if now.lit:
        edge, lines = palette.verdigris, _HEAVY
    if now.marked:
        edge, lines = palette.brass, _DOUBLE
    if now.selected:
        edge, lines = palette.brass, _HEAVY
    style = paint(edge, ground, bold=now.selected)
    inner, foot = width - 2, y + height - 1
    canvas.put(x, y, lines[0] + lines[4] * inner + lines[1], style)
    for row in range(y + 1, foot):
        canvas.put(x, row, lines[5], style)
        canvas.put(x + width - 1, row, lines[5], style)
    canvas.put(x, foot, lines[2] + lines[4] * inner + lines[3], style)
    inside = (x + 1, y + 1, inner, height - 2)
    canvas.fill(*inside, paint(text, fill))
    ink = _ink(control, now, palette, (text, fill))
    _draw_head(canvas, control, box, ink)
    _draw_foot(canvas, control, box, now, ink)
    if control.moves:
        inside = _draw_position(canvas, control, inside, now, palette, fill)
    _draw_label(canvas, control, (inside, box), ink, labels or LabelStyle())


def _ink(control: ControlRow, now: CapState, palette: Palette, colours: tuple[str, str]) -> _Ink:
    """The sign of what a control does, and the colours of its label."""
    text, fill = colours
    bound = bool(control.kind)
    mark = "⇓" if now.latched else ("●" if now.down else now.cycle or control.glyph)
    strong = text
    if now.lit:
        mark, strong = "◉", text if now.down else palette.verdigris
    if bound and control.asleep:
        mark = "☾"
    if control.passes:
        mark, strong = "→", palette.dim
    if bound and (control.broken or control.absent or control.passes):
        mark, strong = "✗", palette.rust
    tint = palette.brass if now.down else strong if bound else palette.dim
    return _Ink(text, fill, strong, mark, tint, palette)


def _draw_head(canvas: Canvas, control: ControlRow, box: Box, ink: _Ink) -> None:
    """What is printed on the cap, and the sign of what it does: both in the upper edge."""
    x, y, width, _ = box
    ground = ink.palette.ground
    inner = width - 2
    needed = cell_len(control.legend) + cell_len(ink.mark)
    pad = " " if needed + 2 * (bool(control.legend) + bool(ink.mark)) < inner else ""
    mark = f"{pad}{ink.mark}{pad}" if ink.mark else ""
    if cell_len(mark) <= inner:
        canvas.put(x + width - 1 - cell_len(mark), y, mark, paint(ink.mark_colour, ground, bold=True))
    legend = cut(control.legend, max(0, inner - cell_len(mark) - len(pad) * 2))
    if legend.strip():
        canvas.put(x + 1, y, f"{pad}{legend}{pad}", paint(ink.palette.dim, ground))


def _further(control: ControlRow, width: int) -> str:
    """What its other gestures do, in few words; only a sign for those together with another control."""
    if control.moves:
        return ""
    gestures = list(control.gestures.items())[1:]
    together = ["⊕"] if control.together else []
    text = " ".join([*(f"{_FURTHER.get(gesture, gesture)} {row.label}" for gesture, row in gestures), *together])
    if cell_len(text) <= width:
        return text
    text = " ".join([*(f"{_FURTHER_SHORT.get(gesture, '~')}{row.label}" for gesture, row in gestures), *together])
    if cell_len(text) <= width:
        return text
    return "".join([*(_FURTHER_SHORT.get(gesture, "~") for gesture, _ in gestures), *together])


def _draw_foot(canvas: Canvas, control: ControlRow, box: Box, now: CapState, ink: _Ink) -> None:
    """The lower edge: how far a run is, or what further gestures do."""
    x, y, width, height = box
    inner, foot, ground = width - 2, y + height - 1, ink.palette.ground
    if further := _further(control, inner - 2):
        further = cut(f" {further} " if width >= _WIDE_EDGE else further, inner)
        canvas.put(x + 1 + (inner - cell_len(further)) // 2, foot, further, paint(ink.palette.dim, ground))
    if now.progress is not None:
        done = max(1, round(inner * min(1.0, max(0.0, now.progress))))
        canvas.put(x + 1, foot, "▬" * done, paint(ink.palette.text, ground, bold=True))


_EIGHTHS = " ▁▂▃▄▅▆▇█"


def _draw_position(canvas: Canvas, control: ControlRow, box: Box, now: CapState, palette: Palette, fill: str) -> Box:
    """Where something that moves is, and the room that is left for its label.

    A level in the lower edge, a column at the right, a dot for a stick.
    """
    x, y, width, height = box
    style = paint(palette.brass if not now.down else palette.on_brass, fill, bold=True)
    quiet, edge = paint(palette.dim, fill), paint(palette.dim, palette.ground)
    at = now.at or (0.0,) * control.moves
    shape = control.shape or "knob"
    if control.turns:
        canvas.put(x, y + height, "◂" + "·" * max(0, width - 2) + "▸", edge)
        return box
    if shape == "stick" and len(at) > 1:
        # The dot moves over the cap, below the label where there is room.
        left = (x, y, width, 1) if height > 2 else box
        y, height = (y + 1, height - 1) if height > 2 else (y, height)
        across = x + round((at[0] + 1) / 2 * (width - 1))
        down = y + round((at[1] + 1) / 2 * (height - 1))
        canvas.put(x + round((width - 1) / 2), y + round((height - 1) / 2), "·", quiet)
        canvas.put(across, down, "◉" if any(abs(value) > 0.02 for value in at) else "○", style)
        return left
    share = (at[0] + 1) / 2 if control.centred else at[0]
    if shape == "slider" and height >= 3:
        filled = share * height * 8
        for row in range(height):
            part = int(min(8, max(0, filled - row * 8)))
            canvas.put(x + width - 1, y + height - 1 - row, _EIGHTHS[part] if part else "·", style if part else quiet)
        return x, y, max(1, width - 2), height
    lit = round(share * width)
    canvas.put(x, y + height, "▰" * lit, paint(palette.brass, palette.ground, bold=True))
    canvas.put(x + lit, y + height, "▱" * (width - lit), edge)
    return box


def _draw_label(canvas: Canvas, control: ControlRow, boxes: tuple[Box, Box], ink: _Ink, labels: LabelStyle) -> None:
    """What the control does, as large as its cap allows; its legend if it does nothing and the edge had no room."""
    box, cap = boxes
    x, y, width, height = box
    if height < 1 or width < 1:
        return
    strong = paint(ink.strong, ink.fill, bold=True)
    if not control.kind:
        if cell_len(control.legend) > width:
            legend = centre(fit(control.legend, width), width)
            canvas.put(x, y + (height - 1) // 2, legend, paint(ink.palette.dim, ink.fill))
        return
    rows = block_label(control.label, width, height, labels.most) if labels.large else ()
    if rows:
        top = y + (height - len(rows)) // 2
        left = x + (width - len(rows[0])) // 2
        for number, row in enumerate(rows):
            canvas.put(left, top + number, row, strong)
        return
    lines = _in_lines(control.label, width, height, labels.rivals)
    cut = len(lines) == 1 and cell_len(control.label) > width
    if cut and box == (cap[0] + 1, cap[1] + 1, cap[2] - 2, cap[3] - 2):
        # In a narrow cap the letters are worth more than the line at their left.
        x, width = x - 1, width + 1
        lines = _in_lines(control.label, width, height, labels.rivals)
    top = y + max(0, (height - len(lines)) // 2)
    for index, line in enumerate(lines):
        canvas.put(x, top + index, centre(line, width), strong)


def _in_lines(label: str, width: int, height: int, rivals: Set[str]) -> list[str]:
    """A label in plain letters: on one line, or a word a line where that keeps it whole."""
    words = label.split()
    if cell_len(label) > width and 1 < len(words) <= height and all(cell_len(word) <= width for word in words):
        return words
    return [fit(label, width, rivals)]
