"""The font of printed things: how wide texts are, and their outlines.  It lies beside this file (DejaVu Sans)."""

from __future__ import annotations

from functools import cache
from pathlib import Path as FilePath
from typing import Any

FOLDER = FilePath(__file__).parent / "fonts"
FILES = {False: FOLDER / "DejaVuSans.ttf", True: FOLDER / "DejaVuSans-Bold.ttf"}
# How high capitals are, as a share of the size: to set a line into the middle of a field.
CAPITALS = 0.73


class Typeface:
    """One weight.  Widths and sizes in mm."""

    def __init__(self, *, bold: bool) -> None:
        # Imported here, since only printing needs it.
        from fontTools.ttLib import TTFont
        font: Any = TTFont(FILES[bold], lazy=True)
        self._glyphs: Any = font.getGlyphSet()
        self._names: dict[int, str] = font.getBestCmap()
        self._widths: Any = font["hmtx"]
        self._unit = float(font["head"].unitsPerEm)

    def lacks(self, text: str) -> str:
        """The characters that it cannot draw."""
        return "".join(dict.fromkeys(char for char in text if ord(char) not in self._names and not char.isspace()))

    def _name(self, char: str) -> str:
        return self._names.get(ord(char), ".notdef")

    def width(self, text: str, size: float) -> float:
        """How wide a line of text is."""
        total = sum(int(self._widths[self._name(char)][0]) for char in text)
        return total * size / self._unit

    def outline(self, text: str, x: float, y: float, size: float) -> str:
        """The text's outline as the commands of an SVG path, its baseline beginning at x, y."""
        from fontTools.pens.svgPathPen import SVGPathPen
        from fontTools.pens.transformPen import TransformPen
        scale = size / self._unit
        pen: Any = SVGPathPen(self._glyphs, ntos=lambda number: f"{number:.3f}".rstrip("0").rstrip("."))
        for char in text:
            name = self._name(char)
            self._glyphs[name].draw(TransformPen(pen, (scale, 0, 0, -scale, x, y)))
            x += int(self._widths[name][0]) * scale
        return str(pen.getCommands())


@cache
def typeface(bold: bool = False) -> Typeface:
    """The font in one of its two weights."""
    return Typeface(bold=bold)


def measure(text: str, size: float) -> float:
    """The width of a bold text, which labels are set in."""
    return typeface(True).width(text, size)


def measure_plain(text: str, size: float) -> float:
    """The width of a text in the ordinary weight."""
    return typeface(False).width(text, size)
