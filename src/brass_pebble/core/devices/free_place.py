"""Where a new drawing goes on the desk."""

from __future__ import annotations

from collections.abc import Sequence

Box = tuple[tuple[float, float], tuple[float, float]]  # place, size; key units
GAP = (0.7, 0.8)
# A terminal's cells are higher than wide: this many key units side by side look like one unit of height.
WIDE = 2.2


def free_place(boxes: Sequence[Box], size: tuple[float, float]) -> tuple[float, float]:
    """A place beside or below the others, on none of them, that leaves the whole desk as large as it can be drawn."""
    xs = {0.0, *(round(at[0] + wide[0] + GAP[0], 2) for at, wide in boxes), *(at[0] for at, _ in boxes)}
    ys = {0.0, *(round(at[1] + wide[1] + GAP[1], 2) for at, wide in boxes)}
    right = max((at[0] + wide[0] for at, wide in boxes), default=0.0)
    low = max((at[1] + wide[1] for at, wide in boxes), default=0.0)

    def cost(place: tuple[float, float]) -> tuple[float, float, float]:
        spread = max(right / WIDE, (place[0] + size[0]) / WIDE, low, place[1] + size[1])
        return spread, place[1], place[0]

    free = [(x, y) for x in xs for y in ys if not any(_meets((x, y), size, at, wide) for at, wide in boxes)]
    return min(free, key=cost)


def _meets(at: tuple[float, float], size: tuple[float, float], other: tuple[float, float],
           other_size: tuple[float, float]) -> bool:
    return all(at[i] < other[i] + other_size[i] + GAP[i] - 0.01 and other[i] < at[i] + size[i] + GAP[i] - 0.01
               for i in (0, 1))
