"""Draws a surface: caps with round corners, at their real places and sizes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from rich.style import Style

from brass_pebble.core.desk.look.drawn import ControlRow
from brass_pebble.screen.base.palette import Palette

from .canvas import Canvas, centre, fit, paint


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


def cell_box(control: Placed, unit: tuple[int, int]) -> tuple[int, int, int, int]:
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


def draw_cap(canvas: Canvas, control: ControlRow, box: tuple[int, int, int, int], now: CapState,
             palette: Palette) -> None:
    """One cap: its edge tells selection, its fill a press, its foot the progress of a run."""
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
    canvas.fill(x + 1, y + 1, inner, height - 2, paint(text, fill))
    _draw_text(canvas, control, (x + 1, y + 1, inner, height - 2), now, (text, fill, palette))
    if control.moves and height > 2:
        _draw_position(canvas, control, (x + 1, y + 1, inner, height - 2), now, palette, fill)
    if now.progress is not None:
        done = max(1, round(inner * min(1.0, max(0.0, now.progress))))
        canvas.put(x + 1, foot, "▬" * done, paint(palette.text, ground, bold=True))


def _draw_head(canvas: Canvas, control: ControlRow, place: tuple[int, int, int, int], mark: str,
               styles: tuple[Style, Style]) -> None:
    """The first line: what is printed on the cap, and the sign of what it does."""
    x, y, width, margin = place
    canvas.put(x + margin, y, fit(control.legend, width - 2 * margin - len(mark)), styles[0])
    canvas.put(x + width - len(mark) - margin, y, mark, styles[1])


_EIGHTHS = " ▁▂▃▄▅▆▇█"


def _draw_position(canvas: Canvas, control: ControlRow, box: tuple[int, int, int, int], now: CapState,
                   palette: Palette, fill: str) -> None:
    """Where something that moves is: a level at the foot, a column at the right, a dot for a stick."""
    x, y, width, height = box
    style = paint(palette.brass if not now.down else palette.on_brass, fill, bold=True)
    quiet = paint(palette.dim, fill)
    at = now.at or (0.0,) * control.moves
    shape = control.shape or "knob"
    if control.turns:
        canvas.put(x, y + height - 1, "◂" + "·" * max(0, width - 2) + "▸", quiet)
    elif shape == "stick" and len(at) > 1:
        # The dot moves over the whole cap.
        across = x + round((at[0] + 1) / 2 * (width - 1))
        y, height = (y + 2, height - 2) if height > 3 else (y, height)
        down = y + round((at[1] + 1) / 2 * (height - 1))
        canvas.put(x + round((width - 1) / 2), y + round((height - 1) / 2), "·", quiet)
        canvas.put(across, down, "◉" if any(abs(value) > 0.02 for value in at) else "○", style)
    elif shape == "slider" and height >= 3:
        share = (at[0] + 1) / 2 if control.centred else at[0]
        filled = share * height * 8
        for row in range(height):
            part = int(min(8, max(0, filled - row * 8)))
            canvas.put(x + width - 1, y + height - 1 - row, _EIGHTHS[part] if part else "·", style if part else quiet)
    else:
        share = (at[0] + 1) / 2 if control.centred else at[0]
        lit = round(share * width)
        canvas.put(x, y + height - 1, "▰" * lit, style)
        canvas.put(x + lit, y + height - 1, "▱" * (width - lit), quiet)


def _further(control: ControlRow, width: int) -> str:
    """What its other gestures do, in few words; only a sign for those together with another control."""
    gestures = list(control.gestures.items())[1:]
    together = ["⊕"] if control.together else []
    text = " ".join([*(f"{_FURTHER.get(gesture, gesture)} {row.label}" for gesture, row in gestures), *together])
    if len(text) <= width:
        return text
    return " ".join([*(f"{_FURTHER_SHORT.get(gesture, '~')}{row.label}" for gesture, row in gestures), *together])


def _draw_text(canvas: Canvas, control: ControlRow, box: tuple[int, int, int, int], now: CapState,
               colours: tuple[str, str, Palette]) -> None:
    x, y, width, height = box
    text, fill, palette = colours
    bound = bool(control.kind)
    quiet = paint(text if now.down else palette.dim, fill)
    strong = paint(text, fill, bold=True)
    mark = "⇓" if now.latched else ("●" if now.down else now.cycle or control.glyph)
    if now.lit:
        mark, strong = "◉", paint(text if now.down else palette.verdigris, fill, bold=True)
    further = _further(control, width) if not control.moves else ""
    if further and not (height >= 3 and width >= 6):
        mark += "+"
    if bound and control.asleep:
        mark = "☾"
    if control.passes:
        mark, strong = "→", paint(palette.dim, fill)
    if bound and (control.broken or control.absent or control.passes):
        mark, strong = "✗", paint(palette.rust, fill, bold=True)
    if height == 1:
        label = control.label if bound else control.legend
        room = width - 1 if now.down or now.latched else width
        canvas.put(x, y, centre(fit(label, room), room), strong if bound else quiet)
        if now.down or now.latched:
            canvas.put(x + width - 1, y, mark, strong)
        return
    margin = 1 if width >= 6 else 0
    if control.shape == "slider" and control.moves and height >= 3:
        canvas.put(x + margin, y, fit(control.legend, width - 2 - margin), quiet)
        canvas.put(x + margin, y + height - 1, mark, paint(text, fill))
    else:
        _draw_head(canvas, control, (x, y, width, margin), mark, (quiet, paint(
            text if not now.lit else palette.verdigris, fill)))
    if further and height >= 3 and width >= 6:
        canvas.put(x, y + height - 1, centre(fit(further, width), width), quiet)
        height -= 1
    if control.moves and height == 2:
        # One line is left beside the level.
        canvas.put(x, y, " " * width, quiet)
        label = control.label if bound else control.legend
        canvas.put(x, y, centre(fit(label, width - 2), width), strong if bound else quiet)
        canvas.put(x + width - 1, y, mark, paint(text, fill))
        return
    if control.moves:
        # The foot, or the right edge, shows where it is; a stick all below its label.
        height = 2 if control.shape == "stick" else height - 1
        if control.shape == "slider" and width > 3:
            width -= 2
    if not bound:
        return
    words = control.label.split()
    if height >= 3 and len(words) == 2 and len(control.label) > width:
        lines = [fit(word, width) for word in words]
    else:
        lines = [fit(control.label, width)]
    top = y + 1 + max(0, (height - 1 - len(lines)) // 2)
    for index, line in enumerate(lines):
        canvas.put(x, top + index, centre(line, width), strong)
