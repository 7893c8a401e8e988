"""A whole desk on one page: every surface where it stands, with its layers, chords and what they do in programs."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from brass_pebble.core.desk.look.arrange import side_by_side
from brass_pebble.core.desk.look.drawn import BareSurface, ControlRow
from brass_pebble.core.desk.shortcuts import ProgramTable, shape_of
from brass_pebble.core.label.fit import fit_text
from brass_pebble.core.label.overview import Does, how_it_comes, what_it_does
from brass_pebble.core.label.sheet import MARGIN, find_paper
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keys import parse_chord

from .font import measure, measure_plain
from .patterns import tint_colour, tinted
from .shapes import Box, Group, Line, Page, Shape, Words
from .surface_map import EDGE, INK, QUIET

# Font sizes and distances in mm.
TITLE, NAME, ENTRY, LEADING = 4.6, 2.8, 2.0, 1.28
BELOW_DRAWING = 6.0
# Between surfaces, and above each for its name, in key units.
APART = 0.5
# The drawing takes so much of the page's height; the list below it takes what it needs, so that nothing is cut.
DRAWING_SHARE = 0.56
LARGEST_UNIT, COLUMN, LEGEND = 24.0, 64.0, 12.0


def desk_page(name: str, surfaces: Sequence[BareSurface], programs: Sequence[ProgramTable] = (),
              paper: str = "a4") -> Page:
    """The desk on one page across.  A page is higher than the paper where what the desk does needs it.

    Raises:
        ProblemError: there is no such paper.
    """
    high, wide = find_paper(paper)
    shapes: list[Shape] = [Words(MARGIN, MARGIN + 4, name, TITLE, INK, bold=True)]
    if programs:
        known = "Programs: " + ", ".join(program.name for program in programs)
        shapes.append(Words(wide - MARGIN, MARGIN + 4, known, NAME, QUIET, anchor="end"))
    drawn, bottom = _drawings(surfaces, (MARGIN, MARGIN + 8), (wide - 2 * MARGIN, high * DRAWING_SHARE))
    shapes += drawn
    lists = [line for surface in surfaces for line in _lines(surface, programs)]
    if lists:
        shapes.append(Line(MARGIN, bottom + 2, wide - MARGIN, bottom + 2, EDGE, 0.15))
        below, bottom = _columns(lists, (MARGIN, bottom + BELOW_DRAWING), wide - 2 * MARGIN)
        shapes += below
    return Page(wide, max(high, bottom + MARGIN), shapes)


def _extent(surface: BareSurface) -> tuple[float, float]:
    return (max((c.x + c.w for c in surface.controls), default=3.0),
            max((c.y + c.h for c in surface.controls), default=1.0))


def _rows(surfaces: Sequence[BareSurface]) -> list[list[BareSurface]]:
    """Surfaces that overlap from top to bottom stand in one row."""
    rows: list[list[BareSurface]] = []
    for surface in sorted(surfaces, key=lambda s: (s.at[1], s.at[0])):
        if rows and surface.at[1] < max(s.at[1] + _extent(s)[1] for s in rows[-1]) - 0.25:
            rows[-1].append(surface)
        else:
            rows.append([surface])
    return rows


def _drawings(surfaces: Sequence[BareSurface], corner: tuple[float, float],
              room: tuple[float, float]) -> tuple[list[Shape], float]:
    """Every surface where it stands, rows side by side where that makes them larger; and where the lowest ends."""
    rows = _rows(surfaces)
    lefts = [min(s.at[0] for s in row) for row in rows]
    tops = [min(s.at[1] for s in row) for row in rows]
    sizes = [(max(s.at[0] + _extent(s)[0] for s in row) - left + APART,
              max(s.at[1] + _extent(s)[1] for s in row) - top + APART) for row, left, top in
             zip(rows, lefts, tops, strict=True)]
    if not rows:
        return [], corner[1]
    columns = side_by_side(sizes, *room)
    wides = [max((size[0] for size, column in zip(sizes, columns, strict=True) if column == at), default=0.0)
             for at in range(max(columns) + 1)]
    highs = [sum(size[1] for size, column in zip(sizes, columns, strict=True) if column == at)
             for at in range(max(columns) + 1)]
    unit = min(room[0] / sum(wides), room[1] / max(highs), LARGEST_UNIT)
    shapes: list[Shape] = []
    below = [0.0] * len(wides)
    for row, left, top, size, column in zip(rows, lefts, tops, sizes, columns, strict=True):
        for surface in row:
            x = corner[0] + (sum(wides[:column]) + surface.at[0] - left) * unit
            y = corner[1] + (below[column] + surface.at[1] - top + APART * 0.8) * unit
            shapes += _surface(surface, x, y, unit)
        below[column] += size[1]
    return shapes, corner[1] + max(highs) * unit


def _surface(surface: BareSurface, x: float, y: float, unit: float) -> list[Shape]:
    shapes: list[Shape] = [Words(x + 0.4, y - 1, surface.name, min(NAME, unit * 0.3), INK, bold=True)]
    found = what_it_does(surface)
    for control in surface.controls:
        box = (x + control.x * unit, y + control.y * unit, control.w * unit, control.h * unit)
        parts = _cap(control, found.get(control.id, []), box)
        shapes.append(Group(f"{surface.id}-{control.id}", tuple(parts), "cap"))
    return shapes


def _cap(control: ControlRow, does: list[Does], box: tuple[float, float, float, float]) -> list[Shape]:
    """A cap with the first thing that it does; how many more there are in the list."""
    gap = 0.25
    x, y, width, height = box[0] + gap, box[1] + gap, box[2] - 2 * gap, box[3] - 2 * gap
    fill = tint_colour(does[0].tint) if does and does[0].tint else ""
    shapes: list[Shape] = [Box(x, y, width, height, fill=fill, stroke=EDGE, line=0.2, radius=min(1.2, width * 0.12),
                               role="cap")]
    small = min(1.9, height * 0.2)
    legend = fit_text(control.legend, width - 1, small * 1.1, measure_plain, largest=small, smallest=small * 0.6)
    shapes += [Words(x + 0.6, y + small + 0.3, line, legend.size, QUIET) for line in legend.lines[:1]]
    if len(does) > 1:
        shapes.append(Words(x + width - 0.5, y + small + 0.3, f"+{len(does) - 1}", small, QUIET, anchor="end"))
    if does:
        label = fit_text(does[0].short, width - 0.8, height - small - 1, measure, largest=3.4, smallest=1.1)
        step = label.size * 1.12
        top = y + (height + small) / 2 - step * (len(label.lines) - 1) / 2 + label.size * 0.36
        shapes += [Words(x + width / 2, top + step * index, line, label.size, INK, bold=True, anchor="middle")
                   for index, line in enumerate(label.lines)]
    return shapes


# A line of the list: what stands at its left, its text, whether it is a heading, its tint.
_Line = tuple[str, str, bool, str]


def _lines(surface: BareSurface, programs: Sequence[ProgramTable]) -> list[_Line]:
    found = what_it_does(surface)
    legends = {control.id: control.legend for control in surface.controls}
    lines: list[_Line] = [("", surface.name, True, "")]
    for number, layer in enumerate(surface.layers, 1):
        lines.append((str(number), f"{layer.name} ({how_it_comes(surface, layer)})", False, layer.tint))
        for control, does in found.items():
            lines += [(legends.get(control, control), entry.whole + _meant(entry, programs), False, entry.tint)
                      for entry in does if entry.layer == layer.name]
    return lines


def _meant(entry: Does, programs: Iterable[ProgramTable]) -> str:
    """What its chord does in the programs that know it."""
    try:
        shape = shape_of(parse_chord(entry.sends).codes)
    except ProblemError:
        # It plays a macro, or does something else than to send a chord.
        return ""
    uses = [f"{program.name}: {shortcut.does}" for program in programs
            if (shortcut := program.takes(shape)) is not None]
    return f" → {'; '.join(uses)}" if uses else ""


def _columns(lines: list[_Line], corner: tuple[float, float], width: float) -> tuple[list[Shape], float]:
    """The list in columns of one height; a text that is too long for its column goes on in the next line."""
    columns = max(1, int(width / COLUMN))
    wide, step = width / columns, ENTRY * LEADING
    rows: list[_Line] = []
    for head, text, heading, tint in lines:
        for number, part in enumerate(_wrapped(text, wide - LEGEND - 3, ENTRY)):
            rows.append((head if not number else "", part, heading, tint if not number else ""))
    down = -(-len(rows) // columns)
    shapes: list[Shape] = []
    for index, (head, text, heading, tint) in enumerate(rows):
        x, y = corner[0] + wide * (index // down), corner[1] + step * (index % down)
        if heading:
            shapes.append(Words(x, y, text, ENTRY * 1.15, INK, bold=True))
            continue
        fitted = fit_text(head, LEGEND - 2.2, ENTRY * 1.13, measure, largest=ENTRY, smallest=ENTRY * 0.5)
        shapes += [Words(x, y, line, fitted.size, QUIET, bold=True) for line in fitted.lines[:1]]
        shapes += tinted(tint, x + LEGEND - 1.6, y - ENTRY * 0.72, 1.0, ENTRY * 0.72)
        shapes.append(Words(x + LEGEND, y, text, ENTRY, INK))
    return shapes, corner[1] + step * down


def _wrapped(text: str, width: float, size: float) -> list[str]:
    """A text in lines of at most `width`; only a single word that is longer stands out."""
    lines = [""]
    for word in text.split():
        longer = f"{lines[-1]} {word}".strip()
        if lines[-1] and measure_plain(longer, size) > width:
            lines.append(word)
        else:
            lines[-1] = longer
    return lines


def widest_text(page: Page) -> float:
    """How far to the right any text of a page reaches, in mm: what lies outside the page is not printed."""
    return max((shape.x + (measure if shape.bold else measure_plain)(shape.text, shape.size) for shape in page.shapes
                if isinstance(shape, Words) and shape.anchor == "start"), default=0.0)
