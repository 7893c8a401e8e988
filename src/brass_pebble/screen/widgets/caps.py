"""Draws a surface: caps with round corners, at their real places and sizes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from brass_pebble.screen.palette import Palette

from .canvas import Canvas, centre, fit, paint


@dataclass(frozen=True)
class CapState:
    """How a control is right now.

    `latched` is held down by the screen, `lit` by a chord that it latched; `step` is where its cycle stands; `marked`
    is chosen together with others; `progress` is 0 to 1 while its run plays, else None.
    """

    selected: bool = False
    down: bool = False
    latched: bool = False
    lit: bool = False
    step: str = ""
    marked: bool = False
    asleep: bool = False
    progress: float | None = None


def cell_box(control: dict[str, Any], unit: tuple[int, int]) -> tuple[int, int, int, int]:
    """Where a control lies, in cells: x, y, width, height."""
    uw, uh = unit
    # Half a cell always goes the same way, so that caps of one size come out alike.
    x, y = int(control["x"] * uw + 0.5), int(control["y"] * uh + 0.5)
    return (x, y, int((control["x"] + control["w"]) * uw + 0.5) - x,
            int((control["y"] + control["h"]) * uh + 0.5) - y)


# Corners, then the horizontal and the vertical line: drawn lines meet without seams in every font.
_ROUND, _HEAVY, _FAINT, _DOUBLE = "╭╮╰╯─│", "┏┓┗┛━┃", "╭╮╰╯╌╎", "╔╗╚╝═║"
# What stands before the label of a further gesture.
_FURTHER = {"tap": "tap", "double tap": "twice", "hold": "hold", "release": "let go"}
_FURTHER_SHORT = {"tap": "·", "double tap": "∶", "hold": "↧", "release": "↥"}


def draw_cap(canvas: Canvas, control: dict[str, Any], box: tuple[int, int, int, int], state: CapState,
             palette: Palette) -> None:
    """One cap: its edge tells selection, its fill a press, its foot the progress of a run."""
    x, y, width, height = box
    bound, ground = "kind" in control, palette.ground
    fill, text = ground, palette.tint(control.get("tint", "")) if bound else palette.dim
    edge, lines = (palette.edge, _ROUND) if bound else (palette.cap, _FAINT)
    if state.asleep:
        text, edge = palette.dim, palette.cap
    if state.down:
        fill, text, edge = palette.brass, palette.on_brass, palette.brass
    if state.lit:
        edge, lines = palette.verdigris, _HEAVY
    if state.marked:
        edge, lines = palette.brass, _DOUBLE
    if state.selected:
        edge, lines = palette.brass, _HEAVY
    style = paint(edge, ground, bold=state.selected)
    inner, foot = width - 2, y + height - 1
    canvas.put(x, y, lines[0] + lines[4] * inner + lines[1], style)
    for row in range(y + 1, foot):
        canvas.put(x, row, lines[5], style)
        canvas.put(x + width - 1, row, lines[5], style)
    canvas.put(x, foot, lines[2] + lines[4] * inner + lines[3], style)
    canvas.fill(x + 1, y + 1, inner, height - 2, paint(text, fill))
    _draw_text(canvas, control, (x + 1, y + 1, inner, height - 2), state, (text, fill, palette))
    if state.progress is not None:
        done = max(1, round(inner * min(1.0, max(0.0, state.progress))))
        canvas.put(x + 1, foot, "▬" * done, paint(palette.text, ground, bold=True))


def _further(control: dict[str, Any], width: int) -> str:
    """What its other gestures do, in few words; only a sign for those together with another control."""
    gestures = list(control.get("gestures", {}).items())[1:]
    together = ["⊕"] if control.get("together") else []
    text = " ".join([*(f"{_FURTHER[gesture]} {row['label']}" for gesture, row in gestures), *together])
    if len(text) <= width:
        return text
    return " ".join([*(f"{_FURTHER_SHORT[gesture]}{row['label']}" for gesture, row in gestures), *together])


def _draw_text(canvas: Canvas, control: dict[str, Any], box: tuple[int, int, int, int], state: CapState,
               colours: tuple[str, str, Palette]) -> None:
    x, y, width, height = box
    text, fill, palette = colours
    bound = "kind" in control
    quiet = paint(text if state.down else palette.dim, fill)
    strong = paint(text, fill, bold=True)
    mark = "⇓" if state.latched else ("●" if state.down else state.step or control.get("glyph", ""))
    if state.lit:
        mark, strong = "◉", paint(text if state.down else palette.verdigris, fill, bold=True)
    further = _further(control, width)
    if further and not (height >= 3 and width >= 6):
        mark += "+"
    if bound and (control.get("broken") or control.get("absent")):
        mark, strong = "✗", paint(palette.rust, fill, bold=True)
    if height == 1:
        label = control["label"] if bound else control["legend"]
        room = width - 1 if state.down or state.latched else width
        canvas.put(x, y, centre(fit(label, room), room), strong if bound else quiet)
        if state.down or state.latched:
            canvas.put(x + width - 1, y, mark, strong)
        return
    margin = 1 if width >= 6 else 0
    canvas.put(x + margin, y, fit(control["legend"], width - 2 * margin - len(mark)), quiet)
    canvas.put(x + width - len(mark) - margin, y, mark, paint(text if not state.lit else palette.verdigris, fill))
    if further and height >= 3 and width >= 6:
        canvas.put(x, y + height - 1, centre(fit(further, width), width), quiet)
        height -= 1
    if not bound:
        return
    words = control["label"].split()
    if height >= 3 and len(words) == 2 and len(control["label"]) > width:
        lines = [fit(word, width) for word in words]
    else:
        lines = [fit(control["label"], width)]
    top = y + 1 + max(0, (height - 1 - len(lines)) // 2)
    for index, line in enumerate(lines):
        canvas.put(x, top + index, centre(line, width), strong)
