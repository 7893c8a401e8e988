"""The desk's surfaces and stage programs, each at its real place, at the largest scale that fits."""

from __future__ import annotations

import time
from collections.abc import Sequence

from textual import events
from textual.containers import ScrollableContainer
from textual.geometry import Region
from textual.widgets import Static

from brass_pebble.core.desk.look.arrange import side_by_side
from brass_pebble.core.desk.look.drawn import StagePlaceRow, SurfaceRow
from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.rows import DeskRow
from brass_pebble.screen.known import Known, Spot

from .caps import cell_box
from .desk_shape import DeskShape, RowOfSurfaces
from .placing import LARGEST, LARGEST_ALONE, SMALLEST, Band, Box, band_of, bands
from .stage_panel import StagePanel
from .surface_drawing import TITLE_ROWS, SurfaceDrawing

# A scale that reads from two metres away: a desk that does not fit at it is shown row by row.
READABLE = 4
# For so long, in s, a press is taken for the one that was made on this screen.
PRESSED_HERE_FOR = 1.0


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
        self._built: object = None
        self._shape = DeskShape(known.desk)

    def drawings(self) -> list[SurfaceDrawing]:
        """The surfaces' drawings."""
        return list(self.query(SurfaceDrawing))

    async def rebuild(self) -> None:
        """Follow the desk: other surfaces, other places."""
        desk = self.known.desk
        drawn = [(s.id, s.at, [(c.id, c.x, c.y, c.w, c.h) for c in s.controls])
                 for s in desk.surfaces]
        built = (self.known.starting, drawn, desk.stage, "" if desk.surfaces else desk.folder)
        if built != self._built:
            self._built = built
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
        places, stage = self._places(self._row_shown(height))
        shown = {s.id: _box(places[s.id], self.shape.extent(s.id), _narrowest(s))
                 for s in desk.surfaces if s.id in places}
        panels = {place.program: _box(at, place.size, 0.0) for place, at in stage}
        boxes = [*shown.values(), *panels.values()]
        # The only one of a desk fills it, as one that was chosen to be shown alone does.
        alone = bool(self.zoomed) or len(desk.surfaces) == 1
        largest = LARGEST_ALONE if alone else LARGEST
        units_high = max((box.y + box.h for box in boxes), default=1)
        uh = int(min(largest[1], max(SMALLEST[1], (height - TITLE_ROWS) / units_high)))
        # Caps much wider than high look like bricks.
        columns = bands(boxes, width, min(largest[0], uh * (7 if alone else 3)))
        for drawing in self.drawings():
            drawing.display = drawing.surface_id in shown
            if not drawing.display:
                continue
            drawing.alone = alone
            box = shown[drawing.surface_id]
            unit = (band_of(columns, box.x).scale, uh)
            size, x = drawing.size_for(unit), _cell(columns, box.x)
            # A long title may reach to the next drawing at its right.
            ends = min((_cell(columns, other.x) for other in boxes
                        if other.x + 0.05 >= box.right and other.y <= box.y < other.y + other.h), default=width)
            drawing.styles.offset = (x, round(box.y * uh))
            drawing.styles.width = max(size.width, min(drawing.title_width(), ends - x - 1))
            drawing.styles.height = size.height
            drawing.selected = self.selected[1] if self.selected[0] == drawing.surface_id else ""
            drawing.set_unit(unit)
        for panel in self.query(StagePanel):
            spot = panels.get(panel.program_id)
            # A desk that sends to real programs has no stage to show.
            panel.display = spot is not None and any(p.id == panel.program_id for p in self.known.programs)
            if spot is None:
                continue
            x, y = _cell(columns, spot.x), round(spot.y * uh) + TITLE_ROWS
            last = band_of(columns, spot.x) is columns[-1]
            panel.styles.offset = (x, y)
            panel.styles.width = max(12, (width - 1 if last else min(_cell(columns, spot.right), width - 1)) - x)
            panel.styles.height = round((spot.y + spot.h) * uh) + TITLE_ROWS - y
            panel.redraw()
        self.styles.height = min(height, round(units_high * uh) + TITLE_ROWS)

    def _places(self, row: RowOfSurfaces) -> tuple[dict[str, tuple[float, float]],
                                                   list[tuple[StagePlaceRow, tuple[float, float]]]]:
        """Where the surfaces that are shown are drawn, and the programs of the stage, in key units."""
        desk = self.known.desk
        if self.zoomed:
            return {self.zoomed: (0.0, 0.0)}, []
        places = {s.id: (s.at[0], s.at[1] - row.top) for s in desk.surfaces if s.id in row.ids}
        stage = [(place, at) for place in desk.stage if (at := row.place(place)) is not None]
        rows = self.shape.rows
        if len(row.ids) < len(desk.surfaces) or len(rows) < 2:
            return places, stage
        # The whole desk: rows stand side by side where that makes them larger.
        sizes = [(row.right, row.bottom - row.top + 1 / SMALLEST[1]) for row in rows]
        chosen = side_by_side(sizes, self.room[0] / SMALLEST[0], self.room[1] / SMALLEST[1])
        shift: list[tuple[float, float]] = []
        for number, column in enumerate(chosen):
            left = sum(max(sizes[at][0] for at, c in enumerate(chosen) if c == before) + 0.5
                       for before in range(column))
            above = sum(sizes[at][1] for at in range(number) if chosen[at] == column)
            shift.append((left, above - rows[number].top))
        for number, part in enumerate(rows):
            for surface in desk.surfaces:
                if surface.id in part.ids:
                    places[surface.id] = (surface.at[0] + shift[number][0], surface.at[1] + shift[number][1])
        moved = []
        for place, (x, y) in stage:
            home = next((at for at, part in enumerate(rows) if part.top <= place.at[1] < part.bottom), 0)
            moved.append((place, (x + shift[home][0], y + shift[home][1])))
        return places, moved

    @property
    def shape(self) -> DeskShape:
        """The shape of the desk as it was told last."""
        if self._shape.desk is not self.known.desk:
            self._shape = DeskShape(self.known.desk)
        return self._shape

    def _row_shown(self, height: int) -> RowOfSurfaces:
        """The row of the selected control, or everything where it fits or is wanted."""
        shape = self.shape
        if self.whole or (height - TITLE_ROWS) / shape.height >= READABLE:
            return shape.whole
        here = shape.row_of(self.selected[0])
        return shape.rows[here] if here >= 0 else shape.whole

    def row_name(self) -> str:
        """Which of several rows is shown, and what is missing or plays in the others."""
        rows, here = self.shape.rows, self.shape.row_of(self.selected[0])
        if len(rows) < 2 or here < 0 or self.zoomed or self._row_shown(self.room[1]).ids != rows[here].ids:
            return ""
        away = [s for s in self.known.desk.surfaces if s.id not in rows[here].ids]
        plays = {trace.surface for trace in self.known.live()}
        signs = [f"{s.name} is {s.state}" if s.state != "taken" else f"{s.name} is playing"
                 for s in away if s.state != "taken" or s.id in plays]
        return ", ".join([f"row {here + 1} of {len(rows)} (PgDn), {say_count(len(away), 'surface')} elsewhere", *signs])

    def go_to_row(self, by: int) -> Spot:
        """The first control of the next row."""
        rows, here = self.shape.rows, max(0, self.shape.row_of(self.selected[0]))
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
        if before[0] != spot[0] and not self.zoomed and not self.whole and len(self.shape.rows) > 1:
            self.place_all()
        for drawing in self.drawings():
            chosen = spot[1] if drawing.surface_id == spot[0] else ""
            if drawing.selected != chosen:
                drawing.choose(chosen)
            if chosen and (control := self.known.control(spot)):
                x, y, width, height = cell_box(control, drawing.unit)
                left, top = (int(value.value) for value in (drawing.styles.offset.x, drawing.styles.offset.y))
                # In a small terminal not all of it is in view.
                self.scroll_to_region(Region(left + x, top + y, width, height + TITLE_ROWS), animate=False, force=True)

    def neighbour(self, dx: int, dy: int) -> Spot:
        """The control next to the selected one in a direction, over the gaps between surfaces, too."""
        control = self.known.control(self.selected)
        if control is None:
            return self.selected
        return self.shape.neighbour(self.selected, dx, dy, (control.w, control.h), self.zoomed)

    def on_resize(self, event: events.Resize) -> None:
        """The width may have changed."""
        self.place_all()


def _cell(columns: list[Band], x: float) -> int:
    """Where a place of the desk is on the board."""
    band = band_of(columns, x)
    return band.at + round((x - band.left) * band.scale)


def _box(at: Sequence[float], size: Sequence[float], narrowest: float) -> Box:
    return Box(at[0], at[1], size[0], size[1], narrowest)


def _narrowest(surface: SurfaceRow) -> float:
    return min((c.w for c in surface.controls), default=1.0)


def _empty_text(desk: DeskRow) -> str:
    return ("This desk has no surfaces yet.\n\n"
            "M   Meet a device: press any key on it, and it becomes a surface, drawn and ready to bind.\n"
            "C   Checkup: what is missing on this machine, if anything.\n\n"
            f"The desk is a folder of text files, {desk.folder}.\n"
            "Or try the bakery's desk, without any hardware:   brass-pebble demo")
