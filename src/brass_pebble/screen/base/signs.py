"""The signs that a terminal draws: all of them, or only what every font has.

Whatever is drawn, by this program's widgets or by the toolkit's, goes through the filters here last: nothing has to
remember which signs are plain.  What a person wrote (letters of any script) is never changed.
"""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

from rich.segment import Segment
from rich.style import Style
from textual.color import Color
from textual.filter import LineFilter

from brass_pebble.core.say.data_table import read_table

# The meta data of a style whose text is to be seen as it is.
AS_IT_IS = {"signs": "as they are"}
# Stands for a cell that is filled: drawn as a blank in reverse video, which needs no glyph.
SOLID = "█"
_PARTS = re.compile(f"({SOLID}+)")
_LINES, _BLOCKS, _BRAILLE = range(0x2500, 0x2580), range(0x2580, 0x25a0), range(0x2800, 0x2900)
# Light lines with square corners, by the ways that lead out of the cell.
_LIGHT = {"": " ", "l": "─", "r": "─", "lr": "─", "u": "│", "d": "│", "du": "│", "dr": "┌", "dl": "┐", "ru": "└",
          "lu": "┘", "dru": "├", "dlu": "┤", "dlr": "┬", "lru": "┴", "dlru": "┼"}
_WAYS = {"UP": "u", "DOWN": "d", "LEFT": "l", "RIGHT": "r", "HORIZONTAL": "lr", "VERTICAL": "ud"}
_DIAGONAL = {"╱": "/", "╲": "\\", "╳": "X"}
# Blocks that are less than half full; all others are solid.
_THIN = {"▀": "¯", "▔": "¯", "▁": "_", "▂": "_", "▃": "_", "▄": "_", "▌": "|", "▍": "|", "▎": "|", "▏": "|", "▐": "|",
         "▕": "|", "░": ".", "▒": ":", "▖": ".", "▗": ".", "▘": "'", "▝": "'", "▚": "%", "▞": "%"}


@lru_cache(maxsize=1)
def _table() -> dict[str, str]:
    return {sign: plain.replace("_", " ") if len(plain) > 1 else plain for sign, plain in read_table("signs.tsv")}


@lru_cache(maxsize=1024)
def plain_sign(sign: str) -> str:
    """What stands for a sign where only plain ones are drawn: as wide as it; `SOLID` for a cell that is filled."""
    code = ord(sign)
    if code in _LINES:
        words = unicodedata.name(sign).split()
        if "DASH" in words:
            return "-" if "HORIZONTAL" in words else ":"
        ways = "".join(sorted({way for word in words for way in _WAYS.get(word, "")}))
        return _DIAGONAL.get(sign) or _LIGHT[ways]
    if code in _BLOCKS:
        return _THIN.get(sign, SOLID)
    if code in _BRAILLE:
        return " " if code == _BRAILLE.start else "."
    return _table().get(sign, sign)


@lru_cache(maxsize=4096)
def plain_text(text: str) -> str:
    """A text of which every sign is a plain one, or `SOLID`."""
    return text if text.isascii() else "".join(plain_sign(char) for char in text)


@lru_cache(maxsize=1024)
def _turned(style: Style) -> Style:
    return style + Style(reverse=not style.reverse)


def draw_signs(segments: list[Segment], *, plain: bool) -> list[Segment]:
    """The same cells: what is filled by reverse video, which leaves no gaps in any font; all signs by `plain` ones."""
    drawn: list[Segment] = []
    for text, style, control in segments:
        if control or text.isascii() or (style is not None and AS_IT_IS.items() <= style.meta.items()):
            drawn.append(Segment(text, style, control))
            continue
        for part in _PARTS.split(plain_text(text) if plain else text):
            if part.startswith(SOLID):
                drawn.append(Segment(" " * len(part), _turned(style or Style())))
            elif part:
                drawn.append(Segment(part, style))
    return drawn


class DrawnSigns(LineFilter):
    """Draws with what every font has (`plain`), or with all signs."""

    def __init__(self, *, plain: bool) -> None:
        super().__init__()
        self.plain = plain

    def apply(self, segments: list[Segment], background: Color) -> list[Segment]:
        """The line in signs that this terminal draws."""
        return draw_signs(segments, plain=self.plain)
