"""Draws a surface: caps filled with their tint, at their real places and sizes."""

from __future__ import annotations

from collections.abc import Set
from dataclasses import dataclass
from typing import Protocol

from rich.cells import cell_len
from rich.style import Style

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
    """How labels are written: in block letters of one size where they fit, else plain; and apart from `rivals`."""

    large: LetterSize | None = None
    rivals: Set[str] = frozenset()


SMALL = LabelStyle()


def far_label(control: ControlRow) -> str:
    """What stands on a cap in large letters: the short form, if the person gave one."""
    return control.far or control.label


def cell_box(control: Placed, unit: tuple[float, float]) -> tuple[int, int, int, int]:
    """Where a control lies, in cells: x, y, width, height."""
    uw, uh = unit
    # Half a cell always goes the same way, so that caps of one size come out alike.
    x, y = int(control.x * uw + 0.5), int(control.y * uh + 0.5)
    return (x, y, int((control.x + control.w) * uw + 0.5) - x,
            int((control.y + control.h) * uh + 0.5) - y)


# Corners, then the horizontal and the vertical line: drawn lines meet without seams in every font.
_ROUND, _FAINT = "╭╮╰╯─│", "╭╮╰╯╌╎"
# Filled caps up to so many cells wide have no lines at their sides: the room is worth more to their letters.
NARROW = 8
# What stands before the label of a further gesture.
_FURTHER = {"press": "press", "tap": "tap", "double tap": "twice", "hold": "hold", "release": "let go"}
_FURTHER_SHORT = {"press": "•", "tap": "·", "double tap": "∶", "hold": "↧", "release": "↥"}
# Edges of so many cells have room for blanks around what stands in them.
_WIDE_EDGE = 7
Box = tuple[int, int, int, int]


@dataclass(frozen=True)
class _Ink:
    """The colours of one cap as it is now; what stands in its edges is on `rim`, and in `rim_text` if there is one."""

    text: str
    fill: str
    strong: str
    mark: str
    mark_colour: str
    rim: str
    rim_text: str
    palette: Palette

    def edge(self, colour: str, *, bold: bool = False) -> Style:
        """What is written into an edge."""
        return paint(self.rim_text or colour, self.rim, bold=bold)


def draw_cap(canvas: Canvas, control: ControlRow, box: Box, now: CapState, palette: Palette,
             labels: LabelStyle = SMALL) -> None:
    """One cap.  Its edge carries the legend, the sign of what it does, further gestures and the progress of a run.

    What it does stands inside.  What does something is filled with its tint, what is pressed with brass, and what is
    selected is a ring of brass around nothing: shown by area, so that no line has to be there to see it.
    """
    ink = _ink(control, now, palette)
    x, y, width, height = box
    tile = _is_tile(control, box, now, palette)
    inside = (x, y + 1, width - 1, height - 1) if tile else (x + 1, y + 1, width - 2, height - 2)
    _draw_edge(canvas, control, box, now, ink, tile=tile)
    canvas.fill(*inside, paint(ink.text, ink.fill))
    if tile and now.selected:
        canvas.fill(x, y + height - 1, width - 1, 1, ink.edge(""))
    head = (x, y, width - 1 if tile else width, height)
    _draw_head(canvas, control, head, ink, tile=tile)
    foot = _draw_foot(canvas, control, head, now, ink, tile=tile)
    if tile and (foot or now.selected):
        inside = (x, y + 1, width - 1, height - 2)
    if control.moves:
        inside = _draw_position(canvas, control, inside, now, ink)
    _draw_label(canvas, control, inside, ink, labels)


def _is_tile(control: ControlRow, box: Box, now: CapState, palette: Palette) -> bool:
    """Whether a cap is drawn without lines: one that is filled, and narrow."""
    return _filled(control, now, palette) and 3 <= box[2] <= NARROW and box[3] >= 2


def _filled(control: ControlRow, now: CapState, palette: Palette) -> bool:
    return palette.fills and bool(control.kind) and not control.moves and not now.asleep


def _draw_edge(canvas: Canvas, control: ControlRow, box: Box, now: CapState, ink: _Ink, *, tile: bool) -> None:
    """The line around a cap, or the ring that says that it is selected; a tile has only its upper edge."""
    x, y, width, height = box
    palette = ink.palette
    if now.selected and not tile:
        canvas.fill(x, y, width, height, ink.edge(""))
        return
    if tile:
        canvas.fill(x, y, width - 1, 1, ink.edge(palette.dim))
        return
    colour, lines = (palette.edge, _ROUND) if control.kind else (palette.faint, _FAINT)
    if now.asleep:
        colour = palette.faint
    elif ink.fill != palette.ground:
        colour = ink.fill if control.tint or now.down else palette.edge
    inner, foot, style = width - 2, y + height - 1, paint(colour, palette.ground)
    rim = ink.edge(colour)
    canvas.put(x, y, lines[0] + lines[4] * inner + lines[1], rim)
    for row in range(y + 1, foot):
        canvas.put(x, row, lines[5], style)
        canvas.put(x + width - 1, row, lines[5], style)
    canvas.put(x, foot, lines[2] + lines[4] * inner + lines[3], style)


def _ink(control: ControlRow, now: CapState, palette: Palette) -> _Ink:
    """The sign of what a control does, and its colours."""
    bound, tint = bool(control.kind), palette.tint(control.tint)
    wrong = bound and (control.broken or control.absent or control.passes)
    mark = "⇓" if now.latched else ("●" if now.down else now.cycle or control.glyph)
    strong, mark_colour = palette.dim if now.asleep or not bound else tint, tint if bound else palette.dim
    if now.lit:
        mark, strong, mark_colour = "◉", palette.verdigris, palette.verdigris
    if bound and control.asleep:
        mark = "☾"
    if control.passes:
        mark = "→"
    if wrong:
        mark, strong, mark_colour = "✗", palette.rust, palette.rust
    fill, text = palette.ground, strong
    if now.down:
        fill, text = palette.brass, palette.on_brass
    elif _filled(control, now, palette) and not now.selected and not wrong:
        # Letters stand out of a tint as the ground does.
        fill, text = (tint, palette.ground) if control.tint else (palette.cap, palette.text)
    rim, rim_text = palette.ground, ""
    if now.selected or now.marked:
        rim, rim_text = palette.brass, palette.on_brass
    elif now.lit:
        rim, rim_text = palette.verdigris, palette.ground
    return _Ink(text, fill, text, mark, mark_colour, rim, rim_text, palette)


def _draw_head(canvas: Canvas, control: ControlRow, box: Box, ink: _Ink, *, tile: bool) -> None:
    """What is printed on the cap, and the sign of what it does: both in the upper edge."""
    x, y, width, _ = box
    # Beside lines there is a blank around what is written; a tile has no lines.
    left, inner = (x, width) if tile else (x + 1, width - 2)
    needed = cell_len(control.legend) + cell_len(ink.mark)
    pad = " " if needed + 2 * (bool(control.legend) + bool(ink.mark)) < inner else ""
    mark = f"{pad}{ink.mark}{pad}" if ink.mark else ""
    if cell_len(mark) <= inner:
        canvas.put(left + inner - cell_len(mark), y, mark, ink.edge(ink.mark_colour, bold=True))
    legend = cut(control.legend, max(0, inner - cell_len(mark) - len(pad) * 2))
    if legend.strip():
        canvas.put(left, y, f"{pad}{legend}{pad}", ink.edge(ink.palette.dim))


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


def _draw_foot(canvas: Canvas, control: ControlRow, box: Box, now: CapState, ink: _Ink, *, tile: bool) -> bool:
    """The lower edge: how far a run is, or what further gestures do; whether anything was written."""
    x, y, width, height = box
    left, inner = (x, width) if tile else (x + 1, width - 2)
    foot, rim = y + height - 1, ink.palette.brass if now.selected else ink.palette.ground
    said = ink.palette.on_brass if now.selected else ink.palette.dim
    further = _further(control, inner - 2)
    if tile and (further or now.progress is not None):
        canvas.fill(left, foot, inner, 1, paint(said, rim))
    if further:
        further = cut(f" {further} " if width >= _WIDE_EDGE else further, inner)
        canvas.put(left + (inner - cell_len(further)) // 2, foot, further, paint(said, rim))
    if now.progress is not None:
        done = max(1, round(inner * min(1.0, max(0.0, now.progress))))
        canvas.put(left, foot, "▬" * done, paint(said if now.selected else ink.palette.text, rim, bold=True))
    return bool(further) or now.progress is not None


_EIGHTHS = " ▁▂▃▄▅▆▇█"


def _draw_position(canvas: Canvas, control: ControlRow, box: Box, now: CapState, ink: _Ink) -> Box:
    """Where something that moves is, and the room that is left for its label.

    A level in the lower edge, a column at the right, a dot for a stick.
    """
    x, y, width, height = box
    palette, fill = ink.palette, ink.fill
    style = paint(palette.brass if not now.down else palette.on_brass, fill, bold=True)
    quiet = paint(palette.dim if not now.down else palette.on_brass, fill)
    rim = palette.brass if now.selected else palette.ground
    edge = paint(palette.on_brass if now.selected else palette.dim, rim)
    lively = paint(palette.on_brass if now.selected else palette.brass, rim, bold=True)
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
    canvas.put(x, y + height, "▰" * lit, lively)
    canvas.put(x + lit, y + height, "▱" * (width - lit), edge)
    return box


def _draw_label(canvas: Canvas, control: ControlRow, box: Box, ink: _Ink, labels: LabelStyle) -> None:
    """What the control does, as large as its cap allows; its legend if it does nothing and the edge had no room."""
    x, y, width, height = box
    if height < 1 or width < 1:
        return
    strong = paint(ink.strong, ink.fill, bold=True)
    if not control.kind:
        if cell_len(control.legend) > width:
            legend = centre(fit(control.legend, width), width)
            canvas.put(x, y + (height - 1) // 2, legend, paint(ink.palette.dim, ink.fill))
        return
    if rows := block_label(far_label(control), width, height, labels.large) if labels.large else ():
        top, left = y + (height - len(rows)) // 2, x + (width - len(rows[0])) // 2
        for number, row in enumerate(rows):
            canvas.put(left, top + number, row, strong)
        return
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
