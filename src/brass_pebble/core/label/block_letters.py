"""Labels in block letters, which read from far away: text to dots, dots to cells.  Pure.

The letters are in `data/block-letters.tsv`, on two grids: slim ones of 5 rows and broad ones of 7.  Either is stretched
by whole numbers, so that its edges stay sharp.  A cell has two by two dots, drawn by quadrants (Unicode block U+2580 to
U+259F); or, where a font may lack those, a dot is a whole cell, which is drawn without any glyph.
"""

from __future__ import annotations

import math
import unicodedata
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from functools import cache, lru_cache

from brass_pebble.core.say.data_table import read_table

# By the dots that are set: 1 above left, 2 above right, 4 below left, 8 below right.
_QUADRANTS = " ▘▝▀▖▌▞▛▗▚▐▜▄▙▟█"
# How wide and how high half a cell is in a common font; a letter that is more than so many times as high as wide, or
# less, is hard to read.
_DOT = (4, 10)
_TALLEST, _FLATTEST = 3.0, 1.0
# Strokes side by side run together before strokes above one another do: width counts for so much more than height.
_WIDTH_COUNTS = 1.8
_MOST_STRETCH = (14, 9)
# Combining signs above letters, as three dots in the row above; one below is a dot in the row below.
_ABOVE = {"\u0300": "#..", "\u0301": "..#", "\u0302": ".#.", "\u0303": ".##", "\u0304": "###", "\u0306": "###",
          "\u0307": ".#.", "\u0308": "#.#", "\u030a": ".#.", "\u030b": "#.#", "\u030c": ".#."}
_BELOW = {"\u0323", "\u0326", "\u0327", "\u0328"}

Dots = tuple[str, ...]


@dataclass(frozen=True)
class Face:
    """One grid of letters: rows of dots, the width of most letters, of a blank, and its place in the table."""

    name: str
    rows: int
    width: int
    blank: int
    column: int


SLIM, BROAD = Face("slim", 5, 3, 2, 1), Face("broad", 7, 5, 3, 2)
FACES = (SLIM, BROAD)
# Those that a text recogniser reads as plain letters (tests/test_reading.py): what nobody asked for is in these.
READ_WELL = (BROAD,)


@dataclass(frozen=True)
class LetterSize:
    """A face, and how many dots across and down each of its dots takes; `whole`: how many cells."""

    face: Face
    across: int
    down: int
    whole: bool = False

    @property
    def reach(self) -> float:
        """How far away a common letter can be read, to compare sizes."""
        return min(self.wide * _WIDTH_COUNTS, self.high)

    @property
    def wide(self) -> int:
        """A common letter's width, as `_DOT` measures it."""
        return self.face.width * self.across * _DOT[0] * (2 if self.whole else 1)

    @property
    def high(self) -> int:
        """A letter's height, as `_DOT` measures it."""
        return self.face.rows * self.down * _DOT[1] * (2 if self.whole else 1)


@cache
def letter_sizes(*, whole: bool = False) -> tuple[LetterSize, ...]:
    """All sizes whose letters have a fair shape, the one that reads from farthest away first."""
    sizes = [LetterSize(face, across, down, whole) for face in (SLIM, BROAD)
             for across in range(1, _MOST_STRETCH[0] + 1) for down in range(1, _MOST_STRETCH[1] + 1)]
    fair = [size for size in sizes if _FLATTEST <= size.high / size.wide <= _TALLEST]
    return tuple(sorted(fair, key=lambda size: (-size.reach, -size.high * size.wide)))


@cache
def _letters(face: Face) -> dict[str, Dots]:
    rows = {row[0].lstrip("\\") or "\\": row[face.column] for row in read_table("block-letters.tsv")}
    rows = {letter: rows[drawn[1:]] if drawn.startswith("=") else drawn for letter, drawn in rows.items()}
    return {letter: tuple(drawn.split("/")) for letter, drawn in rows.items() if drawn != "-"}


def _signed(dots: Dots, marks: str) -> Dots | None:
    """A letter with the rows above and below it; None if a mark has no form."""
    width = len(dots[0])
    above, below = "." * width, "." * width
    for mark in marks:
        if mark in _BELOW:
            below = "#".rjust(width // 2 + 1, ".").ljust(width, ".")
        elif mark in _ABOVE:
            above = _ABOVE[mark].center(width, ".") if width >= len(_ABOVE[mark]) else "#" * width
        else:
            return None
    return above, *dots, below


def _compose(text: str, face: Face) -> Dots | None:
    """One line of text in dots, without empty rows above and below; None if a letter is not drawn."""
    letters = _letters(face)
    rows = [""] * (face.rows + 2)
    # What is combined with a letter follows it in this form.
    plain = unicodedata.normalize("NFD", "ẞ".join(part.upper() for part in text.split("ß")))
    at = 0
    while at < len(plain):
        letter, end = plain[at], at + 1
        while end < len(plain) and unicodedata.combining(plain[end]):
            end += 1
        drawn = ("." * face.blank,) * face.rows if letter == " " else letters.get(letter)
        signed = _signed(drawn, plain[at + 1:end]) if drawn else None
        if signed is None:
            return None
        rows = [row + ("." if row else "") + dots for row, dots in zip(rows, signed, strict=True)]
        at = end
    if "#" not in rows[0]:
        rows = rows[1:]
    if "#" not in rows[-1]:
        rows = rows[:-1]
    return tuple(rows)


def _splits(text: str) -> Iterator[tuple[str, ...]]:
    """The whole in one line; in two and three lines, parted at blanks."""
    yield (text,)
    words = text.split()
    for first in range(1, len(words)):
        yield " ".join(words[:first]), " ".join(words[first:])
        for second in range(first + 1, len(words)):
            yield " ".join(words[:first]), " ".join(words[first:second]), " ".join(words[second:])


@lru_cache(maxsize=4096)
def _lines_of_dots(text: str, face: Face) -> tuple[tuple[Dots, ...], ...]:
    """Each way to part a label into lines, in dots."""
    ways = []
    for lines in _splits(text):
        drawn = [_compose(line, face) for line in lines]
        if all(drawn):
            ways.append(tuple(dots for dots in drawn if dots))
    return tuple(ways)


def _stretched(lines: tuple[Dots, ...], size: LetterSize) -> list[str]:
    """Lines below one another, at a size, in the middle of the widest."""
    width = max(len(dots[0]) for dots in lines)
    rows: list[str] = []
    for number, dots in enumerate(lines):
        if number:
            rows.append("." * width * size.across)
        for dot_row in dots:
            wide = "".join(dot * size.across for dot in dot_row)
            rows += [wide.center(width * size.across, ".")] * size.down
    return rows


def _to_cells(rows: list[str], *, whole: bool) -> Dots:
    """Two rows and two columns of dots to a character, or one dot."""
    if whole:
        return tuple(row.replace(".", " ").replace("#", "█") for row in rows)
    width = len(rows[0]) + len(rows[0]) % 2
    rows = [row.ljust(width, ".") for row in rows]
    if len(rows) % 2:
        rows.append("." * width)
    return tuple("".join(_QUADRANTS[(upper[x] == "#") + 2 * (upper[x + 1] == "#") + 4 * (lower[x] == "#")
                                    + 8 * (lower[x + 1] == "#")] for x in range(0, width, 2))
                 for upper, lower in zip(rows[::2], rows[1::2], strict=True))


@lru_cache(maxsize=4096)
def largest_size(text: str, width: int, height: int, *, whole: bool = False) -> LetterSize | None:
    """The largest size at which a label fits into so many cells; None if it fits at none, or a letter has no form."""
    return next((size for size in letter_sizes(whole=whole) if fits(text, size, width, height)), None)


def common_size(labels: Collection[tuple[str, int, int]], share: float, *, whole: bool = False,
                faces: Collection[Face] = FACES) -> LetterSize | None:
    """The largest size at which so many of the labels (0 to 1) fit, each into its own room; None if there is none.

    Labels side by side are read as one thing only if their letters are alike.  `faces`: in these alone.
    """
    needed = max(1, math.ceil(len(labels) * share))
    return next((size for size in letter_sizes(whole=whole) if labels and size.face in faces and
                 sum(fits(text, size, wide, high) for text, wide, high in labels) >= needed), None)


def fits(text: str, size: LetterSize, width: int, height: int) -> bool:
    """Whether a label has room at a size."""
    return bool(_way(text, size, width, height))


@lru_cache(maxsize=16384)
def _way(text: str, size: LetterSize, width: int, height: int) -> tuple[Dots, ...] | None:
    per_cell = 1 if size.whole else 2
    for lines in _lines_of_dots(text, size.face):
        across = max(len(dots[0]) for dots in lines) * size.across
        down = sum(len(dots) for dots in lines) * size.down + len(lines) - 1
        if across <= width * per_cell and down <= height * per_cell:
            return lines
    return None


@lru_cache(maxsize=4096)
def block_label(text: str, width: int, height: int, only: LetterSize | None = None, *, whole: bool = False) -> Dots:
    """A label in block letters: rows of cells, at most `width` wide and `height` high; empty if none fits.

    `only`: at no other size than this.
    """
    for size in (only,) if only is not None else letter_sizes(whole=whole):
        if lines := _way(text, size, width, height):
            return _to_cells(_stretched(lines, size), whole=size.whole)
    return ()
