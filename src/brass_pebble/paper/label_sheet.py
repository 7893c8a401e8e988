"""A sheet of labels as pages: cut lines, bleed, tints, icons, texts, and a ruler to check the printer's scale by."""

from __future__ import annotations

from brass_pebble.core.label.icons import CARVED_LINE, LINE, ROUND, SIDE, IconPart, icons
from brass_pebble.core.label.sheet import MARGIN, Field, Label, Part, Sheet, baselines

from .font import CAPITALS, typeface
from .patterns import tinted
from .shapes import Box, Circle, Group, Leg, Line, Page, Path, Shape, Words

INK, QUIET, CUT = "#22262a", "#7d786c", "#9a958a"
PAPER = "#ffffff"
CUT_LINE = 0.1
RULER = 100
# From the label's edge to where a cut mark begins, and its length.
MARK_FROM, MARK = 0.25, 0.7


def sheet_pages(sheet: Sheet, title: str, about: str) -> list[Page]:
    """Every page of a sheet; at least one, which then says that nothing is on it."""
    pages = []
    for number, labels in enumerate(sheet.pages or ((),), 1):
        page = Page(*sheet.paper)
        page.shapes += _head(title, about, f"page {number} of {max(1, len(sheet.pages))}", page.width)
        if not labels:
            page.shapes.append(Words(page.width / 2, page.height / 3, "Nothing to print: no control of these layers "
                                     "does anything", 4, QUIET, anchor="middle"))
        page.shapes += [_label(label, sheet.bleed) for label in labels]
        page.shapes += ruler(MARGIN + 2, page.height - MARGIN - 5)
        pages.append(page)
    return pages


def _head(title: str, about: str, number: str, width: float) -> list[Shape]:
    y = MARGIN + 3.4
    name = typeface(True).width(title, 3.6)
    return [Words(MARGIN + 1, y, title, 3.6, INK, bold=True), Words(MARGIN + 4 + name, y, about, 2.6, QUIET),
            Words(width - MARGIN - 1, y, number, 2.6, QUIET, anchor="end")]


def ruler(x: float, y: float) -> list[Shape]:
    """100 mm with a tick for each."""
    shapes: list[Shape] = [Line(x, y, x + RULER, y, INK, 0.15)]
    for place in range(RULER + 1):
        length = 3.0 if place % 10 == 0 else 2.0 if place % 5 == 0 else 1.2
        shapes.append(Line(x + place, y, x + place, y - length, INK, 0.12))
        if place % 10 == 0:
            shapes.append(Words(x + place, y - 3.6, str(place), 2.0, QUIET, anchor="middle"))
    shapes.append(Words(x + RULER + 4, y, "This is 100 mm. If it is not, print at 100 % (“actual size”).", 2.4, QUIET))
    return [Group("ruler", tuple(shapes), "ruler")]


def _label(label: Label, bleed: float) -> Shape:
    at = label.at
    shapes: list[Shape] = [Box(at.x - bleed, at.y - bleed, at.width + 2 * bleed, at.height + 2 * bleed,
                               fill="#ffffff", role="bleed")]
    for part in label.parts:
        shapes += _tint(part, at, bleed)
    for part in label.parts:
        shapes += _part(part, at)
    if len(label.face.entries) > 1:
        shapes.append(Line(at.x, at.y + at.height / 2, at.x + at.width, at.y + at.height / 2, "#d8d6cf", 0.1))
    shapes.append(Box(at.x, at.y, at.width, at.height, stroke=CUT, line=CUT_LINE, role="cut"))
    shapes += _marks(at)
    return Group(label.face.control, tuple(shapes), "label")


def _tint(part: Part, at: Field, bleed: float) -> list[Shape]:
    """The tint's field, drawn over the cut where it lies at an edge, so that a crooked cut leaves no white."""
    field = part.tint
    if field is None:
        return []
    left = bleed if field.x < 0.01 else 0.0
    right = bleed if field.x + field.width > at.width - 0.01 else 0.0
    top = bleed if field.y < 0.01 else 0.0
    foot = bleed if field.y + field.height > at.height - 0.01 else 0.0
    return tinted(part.entry.tint, at.x + field.x - left, at.y + field.y - top, field.width + left + right,
                  field.height + top + foot)


def _part(part: Part, at: Field) -> list[Shape]:
    shapes: list[Shape] = []
    if part.icon is not None:
        shapes += icon_shapes(part.entry.icon, at.x + part.icon.x, at.y + part.icon.y, part.icon.width)
    shapes += [Words(at.x + x, at.y + y, line, part.fitted.size, INK, bold=True, anchor=part.anchor)
               for x, y, line in baselines(part, CAPITALS)]
    if part.below is not None and part.further.lines:
        shapes.append(Words(at.x + part.below.x + part.below.width / 2, at.y + part.below.y + part.below.height * 0.8,
                            part.further.lines[0], part.further.size, QUIET, bold=True, anchor="middle"))
    return shapes


def _marks(at: Field) -> list[Shape]:
    """Short lines outside the corners, which are still seen when the cut line has been cut through."""
    shapes: list[Shape] = []
    for x, across in ((at.x, -1), (at.x + at.width, 1)):
        for y, down in ((at.y, -1), (at.y + at.height, 1)):
            shapes.append(Line(x + across * MARK_FROM, y, x + across * (MARK_FROM + MARK), y, CUT, CUT_LINE))
            shapes.append(Line(x, y + down * MARK_FROM, x, y + down * (MARK_FROM + MARK), CUT, CUT_LINE))
    return shapes


def icon_shapes(name: str, x: float, y: float, side: float, ink: str = INK) -> list[Shape]:
    """An icon in a square."""
    icon = icons().get(name)
    if icon is None:
        return []
    return [shape for part in icon.parts for shape in _icon_part(part, x, y, side / SIDE, ink)]


def _icon_part(part: IconPart, x: float, y: float, scale: float, ink: str) -> list[Shape]:
    shapes: list[Shape] = []
    legs: list[Leg] = []
    colour = PAPER if part.carved else ink
    thick = CARVED_LINE if part.carved else LINE
    fill, stroke, line = ("", colour, thick * scale) if part.line else (colour, "", 0.0)
    for letter, numbers in part.commands:
        if letter == "O":
            cx, cy, radius = numbers
            shapes.append(Circle(x + cx * scale, y + cy * scale, radius * scale, fill, stroke, line))
        elif letter == "P":
            left, top, width, height = numbers
            shapes.append(Box(x + left * scale, y + top * scale, width * scale, height * scale, fill, stroke, line,
                              radius=ROUND * min(width, height) * scale, role="icon"))
        else:
            legs.append((letter, tuple((x if index % 2 == 0 else y) + number * scale
                                        for index, number in enumerate(numbers))))
    if legs:
        shapes.append(Path(tuple(legs), stroke, fill, line))
    return shapes
