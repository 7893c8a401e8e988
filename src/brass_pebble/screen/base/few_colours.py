"""Colours where a terminal has sixteen or none: its own ground and ink, a few numbered colours, and reverse video.

The themes' colours are many; here each is looked at as it is about to be sent.  What stands on a ground that differs
from the theme's own is reverse video, which is as legible as the terminal's own text is; a letter's colour becomes one
of a few that read on that ground, or the terminal's own ink.  Nothing is said by colour alone, so nothing is lost.
"""

from __future__ import annotations

import colorsys
from functools import lru_cache

from rich.color import Color as RichColor
from rich.color import ColorType
from rich.segment import Segment
from rich.style import Style
from textual.color import Color
from textual.filter import LineFilter

from .palette import contrast

# Grounds that are less apart than this (WCAG's contrast ratio) are one.
SAME_GROUND = 2.0
# Letters with less of a colour than this (0 to 1) have none.
_COLOURLESS = 0.22
# By hue in degrees, up to: the number of an ANSI colour that reads on a dark ground; and on a light one, where yellow,
# green, cyan and magenta are too bright in most terminals. None is the terminal's own ink.
_ON_DARK = ((22, 9), (70, 11), (160, 10), (200, 14), (255, 14), (345, 13), (360, 9))
_ON_LIGHT = ((22, 1), (70, 4), (160, None), (200, None), (345, 4), (360, 1))


def _rgb(colour: RichColor | None) -> tuple[int, int, int] | None:
    if colour is None or colour.type is ColorType.DEFAULT or colour.triplet is None:
        return None
    return colour.triplet.red, colour.triplet.green, colour.triplet.blue


def _numbered(colour: tuple[int, int, int], dark: bool) -> int | None:
    red, green, blue = (part / 255 for part in colour)
    hue, _, _ = colorsys.rgb_to_hls(red, green, blue)
    if max(red, green, blue) - min(red, green, blue) < _COLOURLESS:
        return None
    return next(number for end, number in (_ON_DARK if dark else _ON_LIGHT) if hue * 360 <= end)


@lru_cache(maxsize=4096)
def few(style: Style, ground: tuple[int, int, int], *, dark: bool, coloured: bool) -> Style:
    """A style for few colours, on a theme's ground; `dark`: what the terminal's own ground is."""
    letter, behind = _rgb(style.color), _rgb(style.bgcolor)
    if style.reverse:
        letter, behind = behind or ground, letter or ground
    filled = behind is not None and contrast(behind, ground) > SAME_GROUND
    number = None if filled or not coloured or letter is None else _numbered(letter, dark)
    return Style(color=RichColor.from_ansi(number) if number is not None else RichColor.default(),
                 bgcolor=RichColor.default(), reverse=filled, bold=style.bold, italic=style.italic,
                 underline=style.underline, strike=style.strike, meta=style.meta or None)


class FewColours(LineFilter):
    """Draws with the terminal's own colours; `coloured`: also with its numbered ones."""

    def __init__(self, *, coloured: bool, enabled: bool) -> None:
        super().__init__(enabled)
        self.coloured, self.dark = coloured, True
        self.ground = (0, 0, 0)

    def suit(self, ground: str, *, dark: bool) -> None:
        """The ground of the theme in use, as hex, and whether the terminal's own is dark."""
        colour = Color.parse(ground)
        self.ground, self.dark = colour.rgb, dark

    def apply(self, segments: list[Segment], background: Color) -> list[Segment]:
        """The line in few colours."""
        return [Segment(text, few(style or Style(), self.ground, dark=self.dark, coloured=self.coloured), control)
                for text, style, control in segments]
