"""Where drawings go on a board: columns of the desk get the width that their narrowest caps need.  Pure.

Places and sizes on the desk are in key units, on the board in cells.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

# Cells for one key unit: below the smallest nothing can be read, above the largest caps look like bricks.
SMALLEST, LARGEST = (5, 3), (20, 7)
LARGEST_ALONE = (44, 9)
# Cells that one cap may be wide, and between columns of drawings.
WIDEST_CAP = 26
GAP = 1
# A program of the stage needs so many times the width of a cap to be as readable as it.
STAGE_CAPS = 3.3
# Fewer cells than this, and nothing of it can be read.
STAGE_CELLS = 26


@dataclass(frozen=True)
class Box:
    """A drawing on the desk, in key units; `narrowest` is its narrowest cap's width, 0 for a program of the stage."""

    x: float
    y: float
    w: float
    h: float
    narrowest: float = 1.0

    @property
    def right(self) -> float:
        """Where it ends."""
        return self.x + self.w


@dataclass
class Band:
    """Drawings above one another: from `left` to `right` on the desk, `scale` cells a unit, beginning at cell `at`."""

    left: float
    right: float
    boxes: list[Box]
    scale: float = SMALLEST[0]
    at: int = 0

    def __post_init__(self) -> None:
        """Begin at the smallest scale."""
        self.scale = max(SMALLEST[0] / (box.narrowest or SMALLEST[0] * box.w / STAGE_CELLS) for box in self.boxes)

    @property
    def cells(self) -> int:
        """How wide it is on the board."""
        return round((self.right - self.left) * self.scale)

    def room(self, scale: float) -> float:
        """How many cells a cap has at a scale, in the drawing that has the least."""
        return min(scale * (box.narrowest or box.w / STAGE_CAPS) for box in self.boxes)

    def may_grow(self, widest: int) -> bool:
        """Whether one cell more a unit still looks like caps."""
        caps = [box.narrowest for box in self.boxes if box.narrowest]
        return self.scale < widest and (not caps or min(caps) * (self.scale + 1) <= max(WIDEST_CAP, widest))


def bands(boxes: Sequence[Box], width: int, widest: int = LARGEST[0]) -> list[Band]:
    """The columns of a desk, scaled so that together they fill `width` cells and the narrowest caps get most.

    Below the smallest scale they are wider than the room.
    """
    columns: list[Band] = []
    for box in sorted(boxes, key=lambda box: box.x):
        if columns and box.x < columns[-1].right - 0.05:
            columns[-1].right = max(columns[-1].right, box.right)
            columns[-1].boxes.append(box)
        else:
            columns.append(Band(left=box.x, right=box.right, boxes=[box]))
    if not columns:
        return []
    columns = [Band(column.left, column.right, column.boxes) for column in columns]
    spare = width - 1 - GAP * (len(columns) - 1) - sum(column.cells for column in columns)
    growing = list(columns)
    while growing:
        column = min(growing, key=lambda column: column.room(column.scale))
        # Caps of one unit come out alike only at whole scales.
        more = round((column.right - column.left) * (int(column.scale) + 1)) - column.cells
        if more > spare or not column.may_grow(widest):
            growing.remove(column)
        else:
            spare -= more
            column.scale = int(column.scale) + 1
    # What is left goes to columns of wide caps, which may differ by a cell from one another.
    for column in columns:
        if spare > 0 and column.scale < widest and all(box.narrowest != 1 for box in column.boxes):
            wide = column.right - column.left
            column.scale = min(widest, (column.cells + spare) / wide)
            break
    at = 0
    for column in columns:
        column.at = at
        at += column.cells + GAP
    return columns


def band_of(columns: Sequence[Band], x: float) -> Band:
    """The column in which a drawing stands that begins at `x`."""
    return next((column for column in reversed(columns) if column.left <= x + 0.001), columns[0])
