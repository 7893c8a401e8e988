"""One surface as large as it can be drawn: for a second screen, or a narrow pane beside the program."""

from __future__ import annotations

from typing import ClassVar

from rich.text import Text
from textual import on
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import VerticalScroll
from textual.widgets import Static

from brass_pebble.core.desk.look.drawn import SurfaceRow
from brass_pebble.protocol.base import News
from brass_pebble.screen.base.desk_actions import DeskActions
from brass_pebble.screen.known import Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.surface_drawing import TITLE_ROWS, SurfaceDrawing

# Cells for a key unit.  Below the smallest scale, a list can be read where a drawing cannot.
SMALLEST, LARGEST = (6, 3), (80, 24)
# Caps that are so many times as wide as high, in cells, are as wide as they look well.
WIDEST = 6


class GlanceView(DeskActions):
    """Shows what each control does now, and what is pressed; nothing else."""

    DEFAULT_CSS = """
    GlanceView { background: $background; }
    GlanceView #box { height: 1fr; width: 1fr; align: center middle; scrollbar-size: 1 1; }
    GlanceView #list { height: auto; width: 1fr; }
    GlanceView #foot { height: 1; dock: bottom; color: $text-muted; }
    """
    AUTO_FOCUS = ""
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("greater_than_sign,tab", "other(1)", "next surface"),
        Binding("less_than_sign,shift+tab", "other(-1)", "surface before"), Binding("x", "stop", "stop all"),
        Binding("g", "pin", "pin the layers"), Binding("R", "restart", "restart engine"),
        Binding("question_mark", "keys", "keys"), Binding("q,escape", "app.quit", "quit"),
    ]

    def __init__(self, known: Known, link: Asks, surface: str) -> None:
        super().__init__(known, link)
        self.surface_id = surface
        self._drawn = ""

    def compose(self) -> ComposeResult:
        """The drawing, or the list."""
        with VerticalScroll(id="box"):
            yield Static(id="list", markup=False)
        yield Static(id="foot", markup=False)

    @property
    def row(self) -> SurfaceRow | None:
        """The surface: the one that was asked for by id or name."""
        return self.known.surface(self.surface_id) or next(
            (row for row in self.known.desk.surfaces if row.name == self.surface_id), None)

    async def show_all(self) -> None:
        """After connecting, when the desk changed, or the pane has another size."""
        row, box, text = self.row, self.query_one("#box"), self.query_one("#list", Static)
        if row is None:
            await box.query(SurfaceDrawing).remove()
            known = ", ".join(found.id for found in self.known.desk.surfaces)
            text.display = True
            text.update("" if self.known.starting else
                        "The engine has ended. R: start it again. q: quit." if not self.known.connected else
                        f"There is no surface “{self.surface_id}”. Available: {known or 'none yet'}.")
            return
        self.surface_id = row.id
        if self._drawn != row.id:
            await box.query(SurfaceDrawing).remove()
            drawing = SurfaceDrawing(row.id, self.known)
            drawing.alone = True
            await box.mount(drawing, before=0)
            self._drawn = row.id
        self._fit()

    def _fit(self) -> None:
        row, drawing = self.row, self.query_one(SurfaceDrawing)
        if row is None:
            return
        unit = self._scale(row)
        text = self.query_one("#list", Static)
        drawing.display, text.display = unit is not None, unit is None
        if unit is not None:
            size = drawing.size_for(unit)
            drawing.styles.width, drawing.styles.height = max(size.width, drawing.title_width()), size.height
            drawing.styles.position = "relative"
            drawing.set_unit(unit)
        else:
            text.update(self._list(row))
        self._foot(row)

    def _scale(self, row: SurfaceRow) -> tuple[float, float] | None:
        """The cells for a key unit with which the drawing fills the pane; None if there is too little room."""
        wide = max((c.x + c.w for c in row.controls), default=4.0)
        high = max((c.y + c.h for c in row.controls), default=1.0)
        down = min(LARGEST[1], int((self.size.height - 1 - TITLE_ROWS) / high))
        across = min(LARGEST[0], self.size.width / wide, down * WIDEST)
        if across < SMALLEST[0] or down < SMALLEST[1]:
            return None
        # Keys come out alike at whole scales; of few, wide caps none is compared with another.
        return (across if wide < 4 else int(across)), down

    def _list(self, row: SurfaceRow) -> Text:
        """What does something, a line each: for panes that are too small for the drawing."""
        palette, text = self.palette, Text(no_wrap=True, overflow="ellipsis")
        for control in row.controls:
            if control.kind:
                down = (row.id, control.id) in self.known.down
                style = f"{palette.on_brass} on {palette.brass}" if down else palette.tint(control.tint)
                text.append(f"{control.legend[:8]:>8} ", style=palette.dim)
                text.append(f"{control.label}\n", style=f"bold {style}")
        return text if text else Text("No bindings yet.", style=palette.dim)

    def _foot(self, row: SurfaceRow) -> None:
        palette = self.palette
        foot = Text(no_wrap=True, overflow="ellipsis")
        if not self.known.connected:
            foot.append("✗ engine ended   R: start it again", style=f"bold {palette.rust}")
        elif row.state != "taken":
            foot.append(f"◌ {row.why or row.state}", style=palette.brass)
        else:
            trace = next((t for t in reversed(self.known.traces) if t.surface == row.id), None)
            sends = self.known.desk.sends
            ready = "◉ armed" if sends else "✗ nothing can be sent"
            foot.append(trace.sentence.partition(": ")[2] if trace else ready,
                        style=palette.verdigris if sends else palette.rust)
        if self.known.connected and self.known.mic_lamp:
            foot = Text.assemble((f"{self.known.mic_lamp}   ", f"bold {palette.brass}"), foot)
        self.query_one("#foot", Static).update(foot)

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News of one topic, already in the state."""
        topic, row = message.topic, self.row
        if topic == "desk" or row is None:
            await self.show_all()
        elif topic in ("press", "trace", "layers", "moves"):
            if any(surface == row.id for surface, _ in changed) and self.query(SurfaceDrawing):
                self.query_one(SurfaceDrawing).redraw()
                if self.query_one("#list").display:
                    self.query_one("#list", Static).update(self._list(row))
            self._foot(row)
        elif topic == "voice":
            self._foot(row)

    def on_resize(self) -> None:
        """The pane has another size."""
        if self.query(SurfaceDrawing):
            self._fit()

    @on(SurfaceDrawing.Pressed)
    def _pressed(self, message: SurfaceDrawing.Pressed) -> None:
        self.press(message.spot, down=message.down)

    async def action_other(self, by: int) -> None:
        """Another surface."""
        ids = [surface.id for surface in self.known.desk.surfaces]
        if ids:
            self.surface_id = ids[(ids.index(self.surface_id) + by) % len(ids) if self.surface_id in ids else 0]
            await self.show_all()

    def action_keys(self) -> None:
        """All keys, in one line each."""
        self.notify("> <  another surface\ng  pin the layers\nx  stop everything\nq  quit", title="Keys", timeout=6)
