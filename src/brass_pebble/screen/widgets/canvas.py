"""A grid of styled characters, and how labels are made to fit."""

from __future__ import annotations

from functools import lru_cache

from rich.cells import cell_len, set_cell_size
from rich.segment import Segment
from rich.style import Style
from textual.strip import Strip


@lru_cache(maxsize=2048)
def paint(fg: str, bg: str, *, bold: bool = False, reverse: bool = False) -> Style:
    """A style of two hex colours."""
    return Style(color=fg, bgcolor=bg, bold=bold, reverse=reverse)


class Canvas:
    """Draw anywhere, then take the lines."""

    def __init__(self, width: int, height: int, ground: Style) -> None:
        self.width, self.height = width, height
        self._chars = [[" "] * width for _ in range(height)]
        self._styles = [[ground] * width for _ in range(height)]

    def put(self, x: int, y: int, text: str, style: Style) -> None:
        """Write text; what lies outside is cut off."""
        if not 0 <= y < self.height:
            return
        chars, styles = self._chars[y], self._styles[y]
        for char in text:
            if 0 <= x < self.width:
                chars[x], styles[x] = char, style
            x += 1

    def fill(self, x: int, y: int, width: int, height: int, style: Style, char: str = " ") -> None:
        """Fill a rectangle."""
        for row in range(y, y + height):
            self.put(x, row, char * width, style)

    def strips(self) -> list[Strip]:
        """The lines, for a widget."""
        lines = []
        for chars, styles in zip(self._chars, self._styles, strict=True):
            segments, start = [], 0
            for index in range(1, self.width + 1):
                if index == self.width or styles[index] is not styles[start]:
                    segments.append(Segment("".join(chars[start:index]), styles[start]))
                    start = index
            lines.append(Strip(segments, self.width))
        return lines


def fit(label: str, width: int) -> str:
    """A label in at most `width` cells: whole, without blanks, without inner vowels, or cut."""
    if cell_len(label) <= width:
        return label
    if width < 4:
        return label[:max(0, width)]
    words = label.split()
    if len(words) > 1:
        initials = " ".join([*(word[0] for word in words[:-1]), words[-1]])
        joined = "".join(words)
        for shorter in (joined, initials):
            if cell_len(shorter) <= width:
                return shorter
    squeezed = label[0] + "".join(char for char in label[1:] if char not in "aeiou ")
    if cell_len(squeezed) <= width:
        return squeezed
    return set_cell_size(squeezed, width).rstrip()


def centre(text: str, width: int) -> str:
    """Text in the middle of `width` cells."""
    left = max(0, (width - cell_len(text)) // 2)
    return set_cell_size(" " * left + text, width)
