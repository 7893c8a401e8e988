"""The map of a surface: its drawing with everything it does in every layer on one page; and cards for the wallet."""

from __future__ import annotations

from dataclasses import dataclass

from brass_pebble.core.desk.look.drawn import BareSurface, ControlRow, LayerRow
from brass_pebble.core.devices.grip import IN_WORDS
from brass_pebble.core.label.faces import Face, faces
from brass_pebble.core.label.fit import fit_text
from brass_pebble.core.label.overview import Does, what_it_does
from brass_pebble.core.label.sheet import MARGIN, find_paper

from .font import measure, measure_plain, typeface
from .label_sheet import ruler
from .patterns import tint_colour, tinted
from .shapes import Box, Circle, Group, Line, Page, Shape, Words

INK, QUIET, EDGE = "#22262a", "#7d786c", "#b9b4a8"
# ISO/IEC 7810 ID-1: the size of bank cards.
CARD = (85.6, 53.98)
LEADING = 1.25
HEAD = 12.0
# Font sizes in mm: of an entry on a cap, of the list below the drawing, and the least that can be read.
ON_CAP, IN_LIST, LEAST = 4.2, 2.5, 1.1
# How large a unit of the drawing becomes at most.
LARGEST_UNIT = 44.0


@dataclass
class _Cap:
    control: ControlRow
    does: list[Does]
    x: float
    y: float
    width: float
    height: float


def map_page(surface: BareSurface, paper: str = "a4") -> Page:
    """The whole surface on one page across.

    Raises:
        ProblemError: there is no such paper.
    """
    high, wide = find_paper(paper)
    page = Page(wide, high)
    layers = surface.layers
    numbers = {layer.name: str(number) for number, layer in enumerate(layers, 1)}
    page.shapes += _title(surface, layers, wide)
    found = what_it_does(surface)
    room = (wide - 2 * MARGIN, high - 2 * MARGIN - HEAD)
    # The whole page for the drawing, unless something finds no room on its cap and stands below.
    for share in (1.0, 0.66):
        caps, bottom = _place(surface, found, (MARGIN, MARGIN + HEAD), (room[0], room[1] * share))
        groups: list[Shape] = []
        rest: list[tuple[str, list[Does]]] = []
        for cap in caps:
            shown, left = _fill(cap, numbers, several=len(layers) > 1)
            groups.append(Group(cap.control.id, tuple(shown), "cap"))
            if left:
                rest.append((cap.control.legend, left))
        if not rest:
            break
    page.shapes += groups
    # What the drawing lacks, such as keys that only the desk names.
    drawn = {cap.control.id for cap in caps}
    rest += [(control, does) for control, does in found.items() if control not in drawn and does]
    page.shapes += _list(rest, numbers, (MARGIN, bottom + 4, room[0], high - MARGIN - bottom - 4))
    page.shapes.append(Words(MARGIN, high - MARGIN + 4, f"To get this device back by itself, {IN_WORDS}.", 2.4, QUIET))
    return page


def _title(surface: BareSurface, layers: list[LayerRow], wide: float) -> list[Shape]:
    y = MARGIN + 4
    shapes: list[Shape] = [Words(MARGIN, y, surface.name, 4.6, INK, bold=True)]
    x = MARGIN + typeface(True).width(surface.name, 4.6) + 6
    for number, layer in enumerate(layers, 1):
        text = f"{number} {layer.name}"
        shapes += tinted(layer.tint, x - 0.8, y + 1, measure_plain(text, 3) + 1.6, 1.2)
        shapes.append(Words(x, y, text, 3, INK))
        x += measure_plain(text, 3) + 5
        if x > wide - MARGIN - 20:
            break
    return shapes


def _place(surface: BareSurface, found: dict[str, list[Does]], corner: tuple[float, float],
           room: tuple[float, float]) -> tuple[list[_Cap], float]:
    """The caps at the largest scale that fits, and where their lowest edge is."""
    controls = surface.controls
    wide = max((c.x + c.w for c in controls), default=1.0)
    high = max((c.y + c.h for c in controls), default=1.0)
    unit = min(room[0] / wide, room[1] / high, LARGEST_UNIT)
    # A drawing that is wide and flat may be stretched: its caps have to hold words.
    tall = min(room[1] / high, 1.6 * unit)
    left = corner[0] + (room[0] - unit * wide) / 2
    caps = [_Cap(c, found.get(c.id, []), left + c.x * unit, corner[1] + c.y * tall,
                 c.w * unit, c.h * tall) for c in controls]
    return caps, corner[1] + high * tall


def _fill(cap: _Cap, numbers: dict[str, str], *, several: bool) -> tuple[list[Shape], list[Does]]:
    """A cap with as many entries as it holds, and those that are left."""
    gap = min(0.6, cap.width * 0.05)
    x, y, width, height = cap.x + gap, cap.y + gap, cap.width - 2 * gap, cap.height - 2 * gap
    shapes: list[Shape] = []
    if cap.control.shape in ("knob", "wheel", "stick"):
        side = min(width, height)
        shapes.append(Circle(x + width / 2, y + height / 2, side / 2, stroke=EDGE, line=0.2))
    shapes.append(Box(x, y, width, height, stroke=EDGE, line=0.25, radius=min(1.2, width * 0.1), role="cap"))
    legend = fit_text(cap.control.legend, width - 1.4, 2.4, measure_plain, largest=2.2, smallest=1.2)
    if legend.lines:
        shapes.append(Words(x + 0.8, y + 2.4, legend.lines[0], legend.size, QUIET))
    if not cap.does:
        return shapes, []
    room = height - 3.2
    size = max(1.5, min(ON_CAP, room / (LEADING * len(cap.does)), width * 0.16))
    lines = max(0, int(room / (LEADING * size) + 1e-6))
    shown, left = cap.does[:lines], cap.does[lines:]
    if left and lines:
        shown, left = cap.does[:lines - 1], cap.does[lines - 1:]
    baseline = y + 3.0 + size
    cut: list[Does] = []
    for entry in shown:
        start = x + 0.8
        if several:
            shapes.append(Words(start, baseline, numbers[entry.layer], size * 0.8, QUIET))
            start += size * 0.85
        shapes += tinted(entry.tint, start, baseline - size * 0.72, 1.0, size * 0.72)
        start += 1.5 if entry.tint else 0.0
        fitted = fit_text(entry.short, x + width - start - 0.6, size * 1.13, measure, largest=size,
                          smallest=size * 0.72)
        if fitted.abbreviated:
            cut.append(entry)
        shapes.append(Words(start, baseline, fitted.lines[0] if fitted.lines else "", fitted.size, INK, bold=True))
        baseline += size * LEADING
    if left or cut:
        shapes.append(Words(x + width - 0.8, y + 2.4, "↓", 2.0, QUIET, anchor="end"))
    return shapes, [*cut, *left]


def _list(rest: list[tuple[str, list[Does]]], numbers: dict[str, str],
          room: tuple[float, float, float, float]) -> list[Shape]:
    """What found no room on its cap, in columns; smaller if there is much of it."""
    lines = [(legend, f"{numbers[entry.layer]} {entry.whole}") for legend, does in rest for entry in does]
    if not lines:
        return []
    x, y, width, height = room
    size, columns = IN_LIST, 1
    while size > LEAST:
        columns = max(1, int(width / (size * 26)))
        if size * LEADING * -(-len(lines) // columns) <= height:
            break
        size -= 0.1
    step, wide = size * LEADING, width / columns
    down = max(1, -(-len(lines) // columns))
    shapes: list[Shape] = [Line(x, y - 2, x + width, y - 2, EDGE, 0.15)]
    for index, (legend, text) in enumerate(lines):
        left, top = x + wide * (index // down), y + step * (index % down) + size
        head = fit_text(legend, size * 5, size * 1.13, measure, largest=size, smallest=size * 0.6)
        shapes.append(Words(left, top, head.lines[0], head.size, INK, bold=True))
        body = fit_text(text, wide - size * 5.8, size * 1.13, measure_plain, largest=size, smallest=size * 0.45)
        shapes.append(Words(left + size * 5.4, top, body.lines[0], body.size, INK))
    return shapes


def card_pages(surface: BareSurface, paper: str = "a4") -> list[Page]:
    """A card for each layer that does something, as many on a page as fit.

    Raises:
        ProblemError: there is no such paper.
    """
    size = find_paper(paper)
    layers = [layer for layer in surface.layers if layer.bindings]
    across = int((size[0] - 2 * MARGIN) / (CARD[0] + 2))
    down = int((size[1] - 2 * MARGIN - 20) / (CARD[1] + 2))
    pages: list[Page] = []
    for index, layer in enumerate(layers):
        place = index % (across * down)
        if place == 0:
            pages.append(Page(*size, [Group("ruler", tuple(ruler(MARGIN + 2, size[1] - MARGIN - 5)))]))
        x = MARGIN + 2 + (place % across) * (CARD[0] + 2)
        y = MARGIN + 2 + (place // across) * (CARD[1] + 2)
        pages[-1].shapes.append(Group(layer.id, tuple(_card(surface, layer, x, y)), "card"))
    return pages


def _card(surface: BareSurface, layer: LayerRow, x: float, y: float) -> list[Shape]:
    shapes: list[Shape] = [Box(x, y, *CARD, fill="#ffffff", stroke="#9a958a", line=0.1, radius=3.2, role="cut")]
    title = fit_text(f"{surface.name}: {layer.name}", CARD[0] - 8, 4, measure, largest=3.2)
    shapes.append(Words(x + 4, y + 5.6, title.lines[0], title.size, INK, bold=True))
    labels = {face.control: face for face in faces(surface, [layer])}
    caps, _ = _place(surface, {}, (x + 3, y + 8), (CARD[0] - 6, CARD[1] - 11))
    for cap in caps:
        shapes += _card_cap(cap, labels.get(cap.control.id))
    return shapes


def _card_cap(cap: _Cap, face: Face | None) -> list[Shape]:
    gap = 0.25
    x, y, width, height = cap.x + gap, cap.y + gap, cap.width - 2 * gap, cap.height - 2 * gap
    entry = face.entries[0] if face else None
    fill = tint_colour(entry.tint) if entry and entry.tint else ""
    shapes: list[Shape] = [Box(x, y, width, height, fill=fill, stroke=EDGE, line=0.15, radius=min(0.8, width * 0.12))]
    if entry is None:
        fitted = fit_text(cap.control.legend, width * 0.7, min(1.6, height * 0.5), measure_plain, largest=1.4,
                          smallest=0.9)
        ink = QUIET
    else:
        fitted = fit_text(entry.label, width - 0.6, height - 0.5, measure, largest=2.6, smallest=1.2)
        ink = INK
    step = fitted.size * 1.12
    top = y + height / 2 - step * (len(fitted.lines) - 1) / 2 + fitted.size * 0.36
    return [*shapes, *(Words(x + width / 2, top + step * index, line, fitted.size, ink, bold=entry is not None,
                             anchor="middle") for index, line in enumerate(fitted.lines))]
