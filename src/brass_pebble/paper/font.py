"""The font of printed things: how wide texts are, and their outlines.

What it has is set as it is, letter by letter; a text with anything else is shaped (`scripts.py`).
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable
from functools import cache
from typing import Any

from .font_files import FILES
from .scripts import Leg, write_line
from .shapes import Page, Words, flat
from .system_fonts import package_for

# How high capitals are, as a share of the size: to set a line into the middle of a field.
CAPITALS = 0.73


class Typeface:
    """One weight.  Widths and sizes in mm."""

    def __init__(self, *, bold: bool) -> None:
        # Imported here, since only printing needs it.
        from fontTools.ttLib import TTFont
        font: Any = TTFont(FILES[bold], lazy=True)
        self._bold = bold
        self._glyphs: Any = font.getGlyphSet()
        self._names: dict[int, str] = font.getBestCmap()
        self._widths: Any = font["hmtx"]
        self._unit = float(font["head"].unitsPerEm)

    def is_plain(self, text: str) -> bool:
        """Whether the shipped font has all of a text, which goes from left to right."""
        return all(char.isspace() or ord(char) in self._names for char in text) and not any(
            unicodedata.bidirectional(char) in ("R", "AL", "AN") for char in text)

    def lacks(self, text: str) -> str:
        """The characters that neither it nor any font of the system can draw."""
        return "" if self.is_plain(text) else write_line(text, bold=self._bold).missing

    def _name(self, char: str) -> str:
        return self._names.get(ord(char), ".notdef")

    def width(self, text: str, size: float) -> float:
        """How wide a line of text is."""
        if not self.is_plain(text):
            return write_line(text, bold=self._bold).width * size
        total = sum(int(self._widths[self._name(char)][0]) for char in text)
        return total * size / self._unit

    def legs(self, text: str, x: float, y: float, size: float) -> list[Leg]:
        """The outlines of a text that is shaped, its baseline beginning at x, y, with y downwards."""
        return [(letter, tuple(x + part * size if index % 2 == 0 else y - part * size
                               for index, part in enumerate(numbers)))
                for letter, numbers in write_line(text, bold=self._bold).legs]

    def outline(self, text: str, x: float, y: float, size: float) -> str:
        """The text's outline as the commands of an SVG path, its baseline beginning at x, y."""
        if not self.is_plain(text):
            return "".join(letter + " ".join(_number(part) for part in numbers)
                           for letter, numbers in self.legs(text, x, y, size))
        from fontTools.pens.svgPathPen import SVGPathPen
        from fontTools.pens.transformPen import TransformPen
        scale = size / self._unit
        pen: Any = SVGPathPen(self._glyphs, ntos=_number)
        for char in text:
            name = self._name(char)
            self._glyphs[name].draw(TransformPen(pen, (scale, 0, 0, -scale, x, y)))
            x += int(self._widths[name][0]) * scale
        return str(pen.getCommands())


def _number(number: float) -> str:
    return f"{number:.3f}".rstrip("0").rstrip(".")


def what_no_font_has(pages: Iterable[Page]) -> list[str]:
    """A sentence for each package of fonts that is missing on this computer to draw all of these pages."""
    lacking: dict[str, str] = {}
    for page in pages:
        for shape in flat(page.shapes):
            if isinstance(shape, Words):
                for char in typeface(shape.bold).lacks(shape.text):
                    found = lacking.setdefault(package_for(char), "")
                    lacking[package_for(char)] = found if char in found else found + char
    return [say_lacking(chars, package) for package, chars in lacking.items()]


def say_lacking(chars: str, package: str) -> str:
    """That no font has these characters, and which package of Debian has one."""
    return f"no font on this computer has “{chars}”, so empty boxes are drawn. Install one: apt install {package}"


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
