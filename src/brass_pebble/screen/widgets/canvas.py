"""A grid of styled cells.  A wide character takes two of them, and what is combined with it none."""

from __future__ import annotations

from functools import lru_cache

from rich.cells import cell_len
from rich.segment import Segment
from rich.style import Style
from textual.strip import Strip

from .short_labels import clusters


@lru_cache(maxsize=2048)
def paint(fg: str, bg: str, *, bold: bool = False, reverse: bool = False) -> Style:
    """A style of two hex colours."""
    return Style(color=fg, bgcolor=bg, bold=bold, reverse=reverse)


@lru_cache(maxsize=4096)
def _one_cell_each(text: str) -> bool:
    """Whether a text needs no measuring, as nearly all of what is drawn."""
    return text.isascii() or all(cell_len(char) == 1 for char in text)


class Canvas:
    """Draw anywhere, then take the lines."""

    def __init__(self, width: int, height: int, ground: Style) -> None:
        self.width, self.height = width, height
        self._chars = [[" "] * width for _ in range(height)]
        self._styles = [[ground] * width for _ in range(height)]

    def put(self, x: int, y: int, text: str, style: Style) -> None:
        """Write text; what lies outside is cut off, and half a wide character is left empty."""
        if not 0 <= y < self.height:
            return
        chars, styles = self._chars[y], self._styles[y]
        if _one_cell_each(text):
            for char in text:
                if 0 <= x < self.width:
                    self._clear_half(chars, x)
                    chars[x], styles[x] = char, style
                x += 1
            return
        for cluster in clusters(text):
            wide = cell_len(cluster)
            if wide == 1:
                if 0 <= x < self.width:
                    self._clear_half(chars, x)
                    chars[x], styles[x] = cluster, style
            else:
                self._put_wide(x, y, cluster, wide, style)
            x += wide

    def _put_wide(self, x: int, y: int, cluster: str, wide: int, style: Style) -> None:
        chars, styles = self._chars[y], self._styles[y]
        whole = x >= 0 and x + wide <= self.width
        for cell in range(max(0, x), min(self.width, x + wide)):
            self._clear_half(chars, cell)
            chars[cell], styles[cell] = ("" if whole else " "), style
        if whole and wide:
            chars[x] = cluster

    def _clear_half(self, chars: list[str], x: int) -> None:
        """What is overwritten may be one half of a wide character: the other half becomes empty."""
        if chars[x] == "":
            chars[x - 1] = " "
        if x + 1 < self.width and chars[x + 1] == "":
            chars[x + 1] = " "

    def fill(self, x: int, y: int, width: int, height: int, style: Style, char: str = " ") -> None:
        """Fill a rectangle."""
        for row in range(y, y + height):
            self.put(x, row, char * width, style)

    def strips(self) -> list[Strip]:
        """The lines, for a widget."""
        return [self.strip(y) for y in range(self.height)]

    def strip(self, y: int) -> Strip:
        """One of them."""
        chars, styles = self._chars[y], self._styles[y]
        segments, start = [], 0
        for index in range(1, self.width + 1):
            if index == self.width or styles[index] is not styles[start]:
                segments.append(Segment("".join(chars[start:index]), styles[start]))
                start = index
        return Strip(segments, self.width)
