"""The desk's surfaces and stage programs, each at its real place, at the largest scale that fits."""

from __future__ import annotations

import time
from collections.abc import Sequence

from textual import events
from textual.containers import ScrollableContainer
from textual.geometry import Region
from textual.widgets import Static

from brass_pebble.core.desk.look.drawn import StagePlaceRow, SurfaceRow
from brass_pebble.protocol.rows import DeskRow
from brass_pebble.screen.known import Known, Spot

from .caps import cell_box
from .stage_panel import StagePanel
from .surface_drawing import TITLE_ROWS, SurfaceDrawing

SMALLEST, LARGEST = (5, 3), (16, 6)
# A scale that reads from two metres away: a desk that does not fit at it is shown row by row.
READABLE = 4
# For so long, in s, a press is taken for the one that was made on this screen.
PRESSED_HERE_FOR = 1.0
LARGEST_ALONE = (26, 8)


class Board(ScrollableContainer, can_focus=True, inherit_bindings=False):
    """Places drawings; knows which control is selected and what lies next to it."""

    DEFAULT_CSS = """
    Board { height: auto; background: $background; scrollbar-size: 1 1; layers: base; }
    Board > #empty { width: 1fr; height: auto; padding: 1 3; color: $text-muted; }
    """

    def __init__(self, known: Known) -> None:
        super().__init__()
        self.known = known
        self.zoomed = ""
        # Whether the whole desk is wanted, however small.
        self.whole = False
        self.selected: Spot = ("", "")
        self._chosen_at = 0.0
        self.room = (0, 0)
        self._shape: object = None

    def drawings(self) -> list[SurfaceDrawing]:
        """The surfaces' drawings."""
        return list(self.query(SurfaceDrawing))

    async def rebuild(self) -> None:
        """Follow the desk: other surfaces, other places."""
        desk = self.known.desk
        drawn = [(s.id, s.at, [(c.id, c.x, c.y, c.w, c.h) for c in s.controls])
                 for s in desk.surfaces]
        shape = (self.known.starting, drawn, desk.stage, "" if desk.surfaces else desk.folder)
        if shape != self._shape:
            self._shape = shape
            await self.remove_children()
            if desk.surfaces:
                await self.mount_all([SurfaceDrawing(s.id, self.known) for s in desk.surfaces])
                await self.mount_all([StagePanel(place.program, self.known) for place in desk.stage])
            else:
                await self.mount(Static("" if self.known.starting else _empty_text(desk), id="empty", markup=False))
        if self.known.control(self.selected) is None:
            # Not one that does something to the desk itself: the first Enter of a newcomer is to play something.
            spots = [((s.id, c.id), c.kind) for s in desk.surfaces for c in s.controls]
            self.selected = next((spot for spot, kind in spots if kind in ("tap", "play")),
                                 spots[0][0] if spots else ("", ""))
        self.place_all()

    def give_room(self, width: int, height: int) -> None:
        """Tell how many cells there are to fill."""
        if (width, height) != self.room:
            self.room = (width, height)
            self.place_all()

    def place_all(self) -> None:
        """Choose the scale and place everything."""
        width, height = self.room
        desk = self.known.desk
        if not width or not desk.surfaces:
            return
        row = self._row_shown(height)
        shown = [s for s in desk.surfaces if (s.id == self.zoomed if self.zoomed else s.id in row.ids)]
        boxes: list[tuple[tuple[float, float], Sequence[float]]] = [
            ((s.at[0], s.at[1] - row.top) if not self.zoomed else (0, 0), _extent(s)) for s in shown]
        stage: list[tuple[StagePlaceRow, tuple[float, float] | None]] = (
            [] if self.zoomed else [(place, row.place(place)) for place in desk.stage])
        boxes += [(at, place.size) for place, at in stage if at is not None]
        units_wide = max((at[0] + size[0] for at, size in boxes), default=1)
        units_high = max((at[1] + size[1] for at, size in boxes), default=1)
        largest = LARGEST_ALONE if self.zoomed else LARGEST
        uw = int(min(largest[0], max(SMALLEST[0], (width - 1) / units_wide)))
        uh = int(min(largest[1], max(SMALLEST[1], (height - TITLE_ROWS) / units_high)))
        # Caps much wider than high look like bricks.
        unit = (min(uw, uh * 3 if not self.zoomed else uh * 4), uh)
        for drawing in self.drawings():
            surface = self.known.surface(drawing.surface_id)
            drawing.display = surface in shown
            if surface is None or not drawing.display:
                continue
            at = (surface.at[0], surface.at[1] - row.top) if not self.zoomed else (0, 0)
            size = drawing.size_for(unit)
            drawing.styles.offset = (round(at[0] * unit[0]), round(at[1] * unit[1]))
            drawing.styles.width = max(size.width, drawing.title_width())
            drawing.styles.height = size.height
            drawing.selected = self.selected[1] if self.selected[0] == drawing.surface_id else ""
            drawing.set_unit(unit)
        for panel, (place, spot) in zip(self.query(StagePanel), stage or [(place, None) for place in desk.stage],
                                        strict=False):
            # A desk that sends to real programs has no stage to show.
            panel.display = spot is not None and any(p.id == place.program for p in self.known.programs)
            if spot is None:
                continue
            x, y = round(spot[0] * unit[0]), round(spot[1] * unit[1]) + TITLE_ROWS
            panel.styles.offset = (x, y)
            panel.styles.width = max(12, min(round((spot[0] + place.size[0]) * unit[0]), width - 1) - x)
            panel.styles.height = round((spot[1] + place.size[1]) * unit[1]) + TITLE_ROWS - y
            panel.redraw()
        self.styles.height = min(height, round(units_high * unit[1]) + TITLE_ROWS)

    def rows(self) -> list[RowOfSurfaces]:
        """The desk's rows, from the far end to the near one."""
        return desk_rows(self.known.desk)

    def _row_shown(self, height: int) -> RowOfSurfaces:
        """The row of the selected control, or everything where it fits or is wanted."""
        desk = self.known.desk
        every = RowOfSurfaces({s.id for s in desk.surfaces}, 0.0, desk)
        high = max((s.at[1] + _extent(s)[1] for s in desk.surfaces), default=1)
        if self.whole or (height - TITLE_ROWS) / high >= READABLE:
            return every
        return next((row for row in self.rows() if self.selected[0] in row.ids), every)

    def row_name(self) -> str:
        """Which of several rows is shown: `row 2 of 3 (PgDn)`."""
        rows = self.rows()
        here = next((index for index, row in enumerate(rows, 1) if self.selected[0] in row.ids), 0)
        if len(rows) < 2 or not here or self.zoomed or self._row_shown(self.room[1]).ids != rows[here - 1].ids:
            return ""
        return f"row {here} of {len(rows)} (PgDn)"

    def go_to_row(self, by: int) -> Spot:
        """The first control of the next row."""
        rows = self.rows()
        here = next((index for index, row in enumerate(rows) if self.selected[0] in row.ids), 0)
        ids = rows[(here + by) % len(rows)].ids if rows else set()
        return next(((s.id, s.controls[0].id) for s in self.known.desk.surfaces
                     if s.id in ids and s.controls), self.selected)

    def refresh_spots(self, spots: set[Spot]) -> None:
        """Redraw the surfaces of these controls."""
        surfaces = {spot[0] for spot in spots}
        for drawing in self.drawings():
            if drawing.surface_id in surfaces:
                drawing.redraw()

    def redraw_all(self) -> None:
        """Redraw everything, as after a change of colours."""
        for drawing in self.drawings():
            drawing.redraw()
        for panel in self.query(StagePanel):
            panel.redraw()

    def redraw_stage(self) -> None:
        """Redraw the stage programs."""
        for panel in self.query(StagePanel):
            panel.redraw()

    def choose(self, spot: Spot) -> None:
        """Select a control because the person asked for it here."""
        self._chosen_at = time.time()
        self.select(spot)

    def follow(self, spot: Spot, at: float) -> bool:
        """Select a control that was pressed on its device at `at` (s since 1970), and tell whether it was done.

        Not if the person has chosen another since: a press may be told late, as when a second tap was waited for.
        Nor if it was pressed here, which chose it already.
        """
        if at < max(self._chosen_at, self.known.pressed_here.get(spot, 0.0) + PRESSED_HERE_FOR):
            return False
        self.select(spot)
        return True

    def select(self, spot: Spot) -> None:
        """Select a control, and show its row."""
        before, self.selected = self.selected, spot
        if before[0] != spot[0] and not self.zoomed and not self.whole and len(self.rows()) > 1:
            self.place_all()
        for drawing in self.drawings():
            chosen = spot[1] if drawing.surface_id == spot[0] else ""
            if drawing.selected != chosen:
                drawing.selected = chosen
                drawing.redraw()
            if chosen and (control := self.known.control(spot)):
                x, y, width, height = cell_box(control, drawing.unit)
                left, top = (int(value.value) for value in (drawing.styles.offset.x, drawing.styles.offset.y))
                # In a small terminal not all of it is in view.
                self.scroll_to_region(Region(left + x, top + y, width, height + TITLE_ROWS), animate=False, force=True)

    def neighbour(self, dx: int, dy: int) -> Spot:
        """The control next to the selected one in a direction, over the gaps between surfaces, too."""
        here = self._centre(self.selected)
        if here is None:
            return self.selected
        best, best_cost = self.selected, float("inf")
        for surface in self.known.desk.surfaces:
            if self.zoomed not in ("", surface.id):
                continue
            for control in surface.controls:
                spot = (surface.id, control.id)
                there = self._centre(spot)
                if spot == self.selected or there is None:
                    continue
                along = (there[0] - here[0]) * dx + (there[1] - here[1]) * dy
                aside = abs((there[0] - here[0]) * dy) + abs((there[1] - here[1]) * dx)
                # A tall or wide cap is next to all that it borders on.
                reach = (control.h if dx else control.w) / 2
                cost = along + 2.5 * max(0.0, aside - reach + 0.5)
                if along > 0.3 and cost < best_cost:
                    best, best_cost = spot, cost
        return best

    def _centre(self, spot: Spot) -> tuple[float, float] | None:
        surface, control = self.known.surface(spot[0]), self.known.control(spot)
        if surface is None or control is None:
            return None
        at = surface.at
        return at[0] + control.x + control.w / 2, at[1] + control.y + control.h / 2

    def on_resize(self, event: events.Resize) -> None:
        """The width may have changed."""
        self.place_all()


class RowOfSurfaces:
    """Surfaces that stand side by side; `top` is where the row begins, in key units."""

    def __init__(self, ids: set[str], top: float, desk: DeskRow) -> None:
        self.ids, self.top = ids, top
        self._desk = desk

    def place(self, place: StagePlaceRow) -> tuple[float, float] | None:
        """Where a stage program is drawn beside this row: its own place there, if no surface is in its way."""
        rows = desk_rows(self._desk)
        home = next((row for row in rows if row.top <= place.at[1] < row.bottom), rows[0] if rows else self)
        x, y = place.at[0], place.at[1] - home.top
        if len(self.ids) == len(self._desk.surfaces):
            return x, place.at[1]
        for surface in self._desk.surfaces:
            if surface.id not in self.ids:
                continue
            wide, high = _extent(surface)
            left, top = surface.at[0], surface.at[1] - self.top
            if left < x + place.size[0] and x < left + wide and top < y + place.size[1] and y < top + high:
                return None
        return x, y

    @property
    def bottom(self) -> float:
        """Where the row ends."""
        return max((s.at[1] + _extent(s)[1] for s in self._desk.surfaces if s.id in self.ids), default=0.0)


def desk_rows(desk: DeskRow) -> list[RowOfSurfaces]:
    """Surfaces that overlap from top to bottom share a row."""
    rows: list[RowOfSurfaces] = []
    for surface in sorted(desk.surfaces, key=lambda s: s.at[1]):
        if rows and surface.at[1] < rows[-1].bottom - 0.25:
            rows[-1].ids.add(surface.id)
        else:
            rows.append(RowOfSurfaces({surface.id}, surface.at[1], desk))
    return rows


def _extent(surface: SurfaceRow) -> tuple[float, float]:
    return (max((c.x + c.w for c in surface.controls), default=4.0),
            max((c.y + c.h for c in surface.controls), default=1.0))


def _empty_text(desk: DeskRow) -> str:
    return ("This desk has no surfaces yet.\n\n"
            "m   Meet a device: press any key on it, and it becomes a surface, drawn and ready to bind.\n"
            "c   Checkup: what is missing on this machine, if anything.\n\n"
            f"The desk is a folder of text files, {desk.folder}.\n"
            "Or try the bakery's desk, without any hardware:   brass-pebble demo")
