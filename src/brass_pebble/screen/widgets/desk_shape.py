"""Where everything of a desk lies, in key units: its rows of surfaces, and what lies next to what.  Pure.

A desk that was told never changes, so all of it is reckoned once: an arrow costs the same with forty surfaces.
"""

from __future__ import annotations

from collections.abc import Set
from functools import cached_property

from brass_pebble.core.desk.look.drawn import StagePlaceRow, SurfaceRow
from brass_pebble.protocol.rows import DeskRow
from brass_pebble.screen.known import Spot

# Something that is nearer than this, in key units, is not further in that direction.
LEAST_ALONG = 0.3
# How much worse it is to lie aside than further away.
ASIDE = 2.5


class DeskShape:
    """The shape of one desk."""

    def __init__(self, desk: DeskRow) -> None:
        self.desk = desk
        self._extents = {surface.id: _extent(surface) for surface in desk.surfaces}

    def extent(self, surface_id: str) -> tuple[float, float]:
        """How wide and how high a surface of it is."""
        return self._extents[surface_id]

    @cached_property
    def height(self) -> float:
        """How far it reaches from the far end to the near one."""
        return max((s.at[1] + self._extents[s.id][1] for s in self.desk.surfaces), default=1.0)

    @cached_property
    def whole(self) -> RowOfSurfaces:
        """All surfaces, as if they were one row."""
        return RowOfSurfaces(self, self.desk.surfaces, 0.0)

    @cached_property
    def rows(self) -> list[RowOfSurfaces]:
        """Its rows, from the far end to the near one: surfaces that overlap from top to bottom share one."""
        rows: list[list[SurfaceRow]] = []
        bottom = 0.0
        for surface in sorted(self.desk.surfaces, key=lambda s: s.at[1]):
            if not rows or surface.at[1] >= bottom - 0.25:
                rows.append([])
                bottom = 0.0
            rows[-1].append(surface)
            bottom = max(bottom, surface.at[1] + self._extents[surface.id][1])
        return [RowOfSurfaces(self, row, row[0].at[1]) for row in rows]

    def row_of(self, surface_id: str) -> int:
        """Which of the rows a surface stands in, from 0; -1: in none."""
        return next((index for index, row in enumerate(self.rows) if surface_id in row.ids), -1)

    @cached_property
    def _centres(self) -> dict[Spot, tuple[float, float]]:
        return {(surface.id, control.id): (surface.at[0] + control.x + control.w / 2,
                                           surface.at[1] + control.y + control.h / 2)
                for surface in self.desk.surfaces for control in surface.controls}

    def neighbour(self, spot: Spot, dx: int, dy: int, size: tuple[float, float], among: str = "") -> Spot:
        """The control next to one in a direction, over the gaps between surfaces, too; itself if there is none.

        `size` is how wide and high it is: a tall or wide cap is next to all that it borders on.  `among` is the only
        surface that counts; empty: all of them.
        """
        here = self._centres.get(spot)
        if here is None:
            return spot
        (x, y), reach = here, (size[1] if dx else size[0]) / 2 - 0.5
        best, best_cost = spot, float("inf")
        for other, (there_x, there_y) in self._centres.items():
            along = (there_x - x) * dx + (there_y - y) * dy
            if along <= LEAST_ALONG or along >= best_cost or (among and other[0] != among):
                continue
            cost = along + ASIDE * max(0.0, abs(there_y - y if dx else there_x - x) - reach)
            if cost < best_cost:
                best, best_cost = other, cost
        return best


class RowOfSurfaces:
    """Surfaces that stand side by side; `top` is where the row begins, in key units."""

    def __init__(self, shape: DeskShape, surfaces: list[SurfaceRow], top: float) -> None:
        self._shape, self._surfaces, self.top = shape, surfaces, top
        self.ids: Set[str] = {surface.id for surface in surfaces}

    def place(self, place: StagePlaceRow) -> tuple[float, float] | None:
        """Where a stage program is drawn beside this row: its own place there, if no surface is in its way."""
        rows = self._shape.rows
        home = next((row for row in rows if row.top <= place.at[1] < row.bottom), rows[0] if rows else self)
        x, y = place.at[0], place.at[1] - home.top
        if len(self._surfaces) == len(self._shape.desk.surfaces):
            return x, place.at[1]
        for surface in self._surfaces:
            wide, high = self._shape.extent(surface.id)
            left, top = surface.at[0], surface.at[1] - self.top
            if left < x + place.size[0] and x < left + wide and top < y + place.size[1] and y < top + high:
                return None
        return x, y

    @cached_property
    def right(self) -> float:
        """Where it ends at the right, with the programs of the stage that stand beside it."""
        ends = [s.at[0] + self._shape.extent(s.id)[0] for s in self._surfaces]
        ends += [place.at[0] + place.size[0] for place in self._shape.desk.stage
                 if self.top <= place.at[1] < self.bottom]
        return max(ends, default=1.0)

    @cached_property
    def bottom(self) -> float:
        """Where the row ends."""
        return max((s.at[1] + self._shape.extent(s.id)[1] for s in self._surfaces), default=0.0)


def _extent(surface: SurfaceRow) -> tuple[float, float]:
    return (max((c.x + c.w for c in surface.controls), default=4.0),
            max((c.y + c.h for c in surface.controls), default=1.0))
