"""Laying rectangles on pages so that little paper is wasted and straight cuts part them.  Pure.

A page is cut into rows, a row into columns, a column into labels of one width that lie below one another.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

Size = tuple[float, float]
SLACK = 1e-6


@dataclass
class _Column:
    x: float
    width: float
    filled: float


@dataclass
class _Row:
    y: float
    height: float
    columns: list[_Column] = field(default_factory=list)
    filled: float = 0.0


@dataclass(frozen=True)
class Spot:
    """Where a rectangle lies: its number in the list that was given, page (from 0), and its upper left corner."""

    index: int
    page: int
    x: float
    y: float


def pack(sizes: Iterable[Size], room: Size, gap: float) -> list[Spot]:
    """A place for each rectangle on pages of a size; `gap` is kept between any two.

    Those larger than a page are left out, which the caller sees by their missing number.
    """
    items = sorted(enumerate(sizes), key=lambda item: (-item[1][1], -item[1][0], item[0]))
    pages: list[list[_Row]] = []
    spots = []
    for index, (width, height) in items:
        if width > room[0] + SLACK or height > room[1] + SLACK:
            continue
        for number in range(len(pages) + 1):
            if number == len(pages):
                pages.append([])
            place = _place(pages[number], (width, height), room, gap)
            if place is not None:
                spots.append(Spot(index, number, *place))
                break
    return sorted(spots, key=lambda spot: (spot.page, spot.y, spot.x))


def _place(rows: list[_Row], size: Size, room: Size, gap: float) -> Size | None:
    width, height = size
    for row in rows:
        # Under a label of the same width first: nothing is lost there.
        for column in row.columns:
            if abs(column.width - width) < SLACK and column.filled + gap + height <= row.height + SLACK:
                y = row.y + column.filled + gap
                column.filled += gap + height
                return column.x, y
        start = row.filled + (gap if row.columns else 0.0)
        # A row is not spent on labels far lower than itself while there is room for a row of their own.
        if height <= row.height + SLACK and start + width <= room[0] + SLACK and (
                height > 0.6 * row.height or not _fits_below(rows, height, room, gap)):
            row.columns.append(_Column(start, width, height))
            row.filled = start + width
            return start, row.y
    if not _fits_below(rows, height, room, gap):
        return None
    y = _bottom(rows) + (gap if rows else 0.0)
    rows.append(_Row(y, height, [_Column(0.0, width, height)], width))
    return 0.0, y


def _bottom(rows: list[_Row]) -> float:
    return rows[-1].y + rows[-1].height if rows else 0.0


def _fits_below(rows: list[_Row], height: float, room: Size, gap: float) -> bool:
    return _bottom(rows) + (gap if rows else 0.0) + height <= room[1] + SLACK
