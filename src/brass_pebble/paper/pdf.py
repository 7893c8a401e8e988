"""Pages as PDF, vector, with the font embedded."""

from __future__ import annotations

import io
from typing import Any

from .font import typeface
from .font_files import FILES
from .shapes import Box, Circle, Group, Line, Page, Path, Shape, Words

# Points for a millimetre.
MM = 72 / 25.4
# How a path with overlaps is filled, and how a text is drawn that is not seen (ISO 32000-1, 8.5.3.3 and 9.3.6).
NON_ZERO, INVISIBLE = 1, 3
NAMES = {False: "BrassPebbleText", True: "BrassPebbleTextBold"}


def pages_pdf(pages: list[Page], title: str) -> bytes:
    """All pages in one file."""
    # Imported here, since only printing needs it.
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont
    from reportlab.pdfgen.canvas import Canvas
    for bold, name in NAMES.items():
        if name not in pdfmetrics.getRegisteredFontNames():
            pdfmetrics.registerFont(TTFont(name, str(FILES[bold])))
    stream = io.BytesIO()
    # The same drawing is the same file, whenever it is made.
    canvas = Canvas(stream, invariant=1, pageCompression=1, initialFontName=NAMES[False])
    canvas.setTitle(title)
    canvas.setCreator("Brass Pebble")
    for page in pages:
        canvas.setPageSize((page.width * MM, page.height * MM))
        canvas.setLineCap(1)
        canvas.setLineJoin(1)
        for shape in page.shapes:
            _draw(canvas, shape, page.height)
        canvas.showPage()
    canvas.save()
    return stream.getvalue()


def _paint(canvas: Any, fill: str, stroke: str, line: float) -> dict[str, int]:
    from reportlab.lib.colors import HexColor
    if fill:
        canvas.setFillColor(HexColor(fill))
    if stroke:
        canvas.setStrokeColor(HexColor(stroke))
        canvas.setLineWidth(line * MM)
    return {"fill": int(bool(fill)), "stroke": int(bool(stroke))}


def _draw(canvas: Any, shape: Shape, height: float) -> None:
    def y(place: float) -> float:
        return (height - place) * MM
    if isinstance(shape, Group):
        for inner in shape.shapes:
            _draw(canvas, inner, height)
    elif isinstance(shape, Box):
        how = _paint(canvas, shape.fill, shape.stroke, shape.line)
        place = shape.x * MM, y(shape.y + shape.height), shape.width * MM, shape.height * MM
        if shape.radius:
            canvas.roundRect(*place, shape.radius * MM, **how)
        else:
            canvas.rect(*place, **how)
    elif isinstance(shape, Line):
        _paint(canvas, "", shape.stroke, shape.line)
        canvas.setDash([part * MM for part in shape.dash] if shape.dash else [])
        canvas.line(shape.x1 * MM, y(shape.y1), shape.x2 * MM, y(shape.y2))
        canvas.setDash([])
    elif isinstance(shape, Circle):
        canvas.circle(shape.x * MM, y(shape.y), shape.radius * MM, **_paint(canvas, shape.fill, shape.stroke,
                                                                           shape.line))
    elif isinstance(shape, Path):
        path = canvas.beginPath()
        for letter, numbers in shape.legs:
            points = [number * MM if index % 2 == 0 else y(number) for index, number in enumerate(numbers)]
            {"M": path.moveTo, "L": path.lineTo, "C": path.curveTo, "Z": path.close}[letter](*points)
        canvas.setDash([part * MM for part in shape.dash] if shape.dash else [])
        canvas.drawPath(path, **_paint(canvas, shape.fill, shape.stroke, shape.line))
        canvas.setDash([])
    else:
        _text(canvas, shape, y(shape.y))


def _text(canvas: Any, words: Words, y: float) -> None:
    _paint(canvas, words.fill, "", 0)
    if not typeface(words.bold).is_plain(words.text):
        _shaped(canvas, words, y)
        return
    canvas.setFont(NAMES[words.bold], words.size * MM)
    draw = {"start": canvas.drawString, "middle": canvas.drawCentredString, "end": canvas.drawRightString}
    draw[words.anchor](words.x * MM, y, words.text)


def _shaped(canvas: Any, words: Words, y: float) -> None:
    """A text in any script as outlines; what it says is told beside them (ActualText, ISO 32000-1, 14.9.4)."""
    face = typeface(words.bold)
    x = words.x
    if words.anchor != "start":
        x -= face.width(words.text, words.size) * (0.5 if words.anchor == "middle" else 1.0)
    path = canvas.beginPath()
    for letter, numbers in face.legs(words.text, 0.0, 0.0, words.size):
        points = [x * MM + number * MM if index % 2 == 0 else y - number * MM for index, number in enumerate(numbers)]
        {"M": path.moveTo, "L": path.lineTo, "C": path.curveTo, "Z": path.close}[letter](*points)
    said = ("\ufeff" + words.text).encode("utf-16-be").hex().upper()
    canvas.addLiteral(f"/Span <</ActualText <{said}>>> BDC")
    canvas.drawPath(path, stroke=0, fill=1, fillMode=NON_ZERO)
    # What reads a text out, or looks for it, takes its place from a letter, which nobody sees.
    canvas.saveState()
    unseen = canvas.beginText(x * MM, y)
    unseen.setFont(NAMES[words.bold], words.size * MM)
    unseen.setTextRenderMode(INVISIBLE)
    unseen.textOut("x")
    canvas.drawText(unseen)
    canvas.restoreState()
    canvas.addLiteral("EMC")
