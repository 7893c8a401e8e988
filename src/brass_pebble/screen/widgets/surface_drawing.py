"""A surface as the thing it is: caps that show what they do and light up."""

from __future__ import annotations

import dataclasses
from typing import NamedTuple

from msgspec.structs import replace
from rich.cells import cell_len
from textual import events
from textual.geometry import Region, Size
from textual.message import Message
from textual.strip import Strip
from textual.timer import Timer
from textual.widget import Widget

from brass_pebble.core.desk.look.drawn import ControlRow, LayerRow, SurfaceRow
from brass_pebble.core.desk.look.shown import show_control
from brass_pebble.core.label.block_letters import READ_WELL, LetterSize, common_size
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.known import Known, Spot

from .canvas import Canvas, paint
from .caps import CapState, LabelStyle, cell_box, draw_cap, far_label
from .short_labels import cut, fit

TITLE_ROWS = 1
PROGRESS_EVERY = 0.1
MOST_NAMED = 3
# Where large letters are wanted, they are as large as so many of the labels have room for, 0 to 1.
MOST_LARGE = 0.7
MOST_MARKS = 6
# Why a layer is on, as a sign behind its name.
HOW_ON = {"held": "↧", "one press": "¹", "follows the focus": "≈"}


class Cap(NamedTuple):
    """A cap as it is drawn: its control, its place in cells, how it is now."""

    control: ControlRow
    box: tuple[int, int, int, int]
    now: CapState


class Frame(NamedTuple):
    """What all caps of a drawing depend on."""

    width: int
    height: int
    palette: Palette
    labels: LabelStyle


class SurfaceDrawing(Widget):
    """Draws one surface and takes the mouse: pressing a drawn key presses it, letting go lets it go."""

    DEFAULT_CSS = "SurfaceDrawing { position: absolute; }"

    class Pressed(Message):
        """The mouse went down (or up) on a control."""

        def __init__(self, spot: Spot, *, down: bool) -> None:
            super().__init__()
            self.spot, self.down = spot, down

    def __init__(self, surface_id: str, known: Known) -> None:
        super().__init__()
        self.surface_id = surface_id
        self.known = known
        self.unit: tuple[float, float] = (5, 3)
        self.selected = ""
        self.latched: set[str] = set()
        self.marked: set[str] = set()
        # Whether it has the whole screen, so that its labels are read from far away.
        self.alone = False
        # The layer whose sheet is shown; without one, what answers now.
        self.sheet = ""
        # What is drawn: on which ground, and each cap as it stands there.
        self._frame: Frame | None = None
        self._caps: dict[str, Cap] = {}
        self._canvas = Canvas(0, 0, paint("#000000", "#000000"))
        self._lines: list[Strip] = []
        self._mouse_on = ""
        self._dragged = False
        self._timer: Timer | None = None

    @property
    def palette(self) -> Palette:
        """The colours in use."""
        return self.app.palette  # type: ignore[attr-defined,no-any-return]

    def size_for(self, unit: tuple[float, float]) -> Size:
        """Cells needed at a scale."""
        surface = self.known.surface(self.surface_id)
        boxes = [cell_box(control, unit) for control in surface.controls] if surface else []
        width = max((x + w for x, _, w, _ in boxes), default=int(unit[0] * 4))
        height = max((y + h for _, y, _, h in boxes), default=int(unit[1]))
        return Size(width, height + TITLE_ROWS)

    def title_width(self) -> int:
        """Cells that the title needs, which may reach into the gap beside the drawing."""
        surface = self.known.surface(self.surface_id)
        if surface is None:
            return 0
        names = sorted((len(layer.name) + 3 for layer in surface.layers), reverse=True)[:2]
        return len(surface.name) + 3 + max(12, sum(names) + min(len(surface.layers), MOST_MARKS))

    def set_unit(self, unit: tuple[float, float]) -> None:
        """Draw at another scale: cells for one key unit."""
        self.unit = unit
        self.redraw()

    def choose(self, control_id: str) -> None:
        """Select another control, or none: nothing but its cap and the last one is looked at."""
        before, self.selected = self.selected, control_id
        surface = self.known.surface(self.surface_id)
        if surface is None or self._frame is None or not self.is_mounted or not self.display:
            self.redraw()
            return
        caps = dict(self._caps)
        for name in {before, control_id} & caps.keys():
            caps[name] = caps[name]._replace(now=dataclasses.replace(caps[name].now, selected=name == control_id))
        self._draw(surface, self._frame, caps)

    def redraw(self) -> None:
        """Draw it again from the state."""
        surface = self.known.surface(self.surface_id)
        # One that is not shown is drawn when it is.
        if surface is None or not self.is_mounted or not self.display:
            return
        size, palette = self.size_for(self.unit), self.palette
        width = self.styles.width.cells if self.styles.width else None
        playing, latched = False, self.known.latched(self.surface_id)
        controls = [self._on_sheet(whole, surface.layers) for whole in surface.controls]
        labels = LabelStyle(large=self._letters(controls), rivals=frozenset(c.label for c in controls if c.kind))
        caps: dict[str, Cap] = {}
        for control in controls:
            spot = (self.surface_id, control.id)
            trace = self.known.playing(spot)
            progress = None
            if trace is not None and trace.state == "playing" and trace.length_ms > 250:
                progress = self.known.since(trace) * 1000 / trace.length_ms
                playing = True
            x, y, wide, high = cell_box(control, self.unit)
            caps[control.id] = Cap(control, (x, y + TITLE_ROWS, wide, high), CapState(
                selected=control.id == self.selected, down=spot in self.known.down,
                latched=control.id in self.latched, lit=control.id in latched,
                cycle=self._cycle(control), marked=control.id in self.marked, asleep=surface.state != "taken",
                at=tuple(self.known.at.get(spot, ())), progress=progress))
        frame = Frame(max(size.width, width or self.title_width()), size.height, palette, labels)
        self._draw(surface, frame, caps)
        self._tick(playing)

    def _draw(self, surface: SurfaceRow, frame: Frame, caps: dict[str, Cap]) -> None:
        """Draw the caps that changed, and tell the toolkit of their places alone; all of them on a new ground."""
        ground = paint(frame.palette.text, frame.palette.ground)
        whole = frame != self._frame or caps.keys() != self._caps.keys()
        if whole:
            self._canvas = Canvas(frame.width, frame.height, ground)
            changed = list(caps.values())
        else:
            changed = [cap for name, cap in caps.items() if cap != self._caps[name]]
        self._frame, self._caps = frame, caps
        canvas = self._canvas
        canvas.fill(0, 0, canvas.width, TITLE_ROWS, ground)
        self._draw_title(canvas, surface)
        for cap in changed:
            canvas.fill(*cap.box, ground)
            draw_cap(canvas, cap.control, cap.box, cap.now, frame.palette, frame.labels)
        if not caps:
            canvas.put(0, 1, "no drawing yet (i: draw it)", paint(frame.palette.dim, frame.palette.ground))
        if whole:
            self._lines = canvas.strips()
            self.refresh()
            return
        title = canvas.strip(0)
        places = [Region(*cap.box) for cap in changed]
        if title != self._lines[0]:
            places.append(Region(0, 0, canvas.width, TITLE_ROWS))
        for row in {row for place in places for row in place.line_range if row < canvas.height}:
            self._lines[row] = canvas.strip(row)
        if places:
            self.refresh(*places)

    def _letters(self, controls: list[ControlRow]) -> LetterSize | None:
        """The one size of block letters for all caps; None if labels are plain.

        As it comes, a surface that is shown alone has them if all of its labels have room.
        """
        wanted = self.known.letters
        if wanted == "plain" or (wanted == "by room" and not self.alone):
            return None
        rooms = [(far_label(c), width - 2, height - 2) for c in controls if c.kind and c.label
                 for _, _, width, height in (cell_box(c, self.unit),)]
        whole = self.app.look.signs == "plain"  # type: ignore[attr-defined]
        if wanted == "by room":
            return common_size(rooms, 1.0, whole=whole, faces=READ_WELL)
        return common_size(rooms, MOST_LARGE, whole=whole)

    def _on_sheet(self, control: ControlRow, layers: list[LayerRow]) -> ControlRow:
        """A control as the sheet of one layer has it; what would answer from below is told by its legend."""
        if not self.sheet:
            return control
        row = show_control(control, layers, (self.sheet,))
        if not row.kind:
            below = []
            for layer in layers:
                if layer.id == self.sheet:
                    break
                if layer.on:
                    below.append(layer.id)
            if label := show_control(control, layers, below).label:
                return replace(row, legend=f"{control.legend} ↓{label}")
        return row

    def _cycle(self, control: ControlRow) -> str:
        """Where the cycle of a control stands: what comes next, of how many."""
        if control.kind != "cycle":
            return ""
        return f"{self.known.cycle_at(self.surface_id, control) + 1}/{len(control.steps)}"

    def _tick(self, playing: bool) -> None:
        """Motion only while something plays."""
        if playing and self._timer is None:
            self._timer = self.set_interval(PROGRESS_EVERY, self.redraw)
        elif not playing and self._timer is not None:
            self._timer.stop()
            self._timer = None

    def _draw_title(self, canvas: Canvas, surface: SurfaceRow) -> None:
        """Its name; what is on or wrong, which comes before a long name; marks of its layers where there is room."""
        palette, ground = self.palette, self.palette.ground
        parts: list[tuple[str, str, bool]] = []
        if surface.id in self.known.by_hand:
            parts.append(("by hand ", palette.brass, False))
        if surface.state == "taken":
            parts += self._layer_parts(surface.layers)
        else:
            glyph = {"resting": "◌", "waiting": "◌", "unsure": "?"}.get(surface.state, "✗")
            parts.append((f"{glyph} {'which one is it?' if glyph == '?' else surface.state}",
                          palette.rust if glyph == "✗" else palette.brass, True))
        room = canvas.width - 3
        needed = max((cell_len(text) for text, _, needed in parts if needed), default=0)
        name = fit(surface.name.upper(), max(3, room - needed))
        canvas.put(1, 0, name, paint(palette.text, ground, bold=True))
        x, left = cell_len(name) + 3, room - cell_len(name)
        while parts and sum(cell_len(text) for text, _, _ in parts) > left:
            # What can be left out goes first, from the end.
            spare = [at for at, part in enumerate(parts) if not part[2]]
            if not spare:
                break
            del parts[spare[-1]]
        for text, colour, strong in parts:
            canvas.put(x, 0, cut(text, max(0, canvas.width - x)), paint(colour, ground, bold=strong))
            x += cell_len(text)

    def _layer_parts(self, layers: list[LayerRow]) -> list[tuple[str, str, bool]]:
        """The layers that are on, from the lowest to the topmost, by name; then a mark for each, filled if it is on."""
        palette = self.palette
        if not layers:
            return [("no layer yet", palette.dim, False)]
        on, parts = [layer for layer in layers if layer.on], []
        for index, layer in enumerate(on[-MOST_NAMED:]):
            text = ("▸ " if index else "◆ ") + layer.name + HOW_ON.get(layer.why, "") + " "
            parts.append((text, palette.tint(layer.tint) if layer.tint else palette.verdigris, layer is on[-1]))
        if 1 < len(layers) <= MOST_MARKS:
            parts.append(("".join("▰" if layer.on else "▱" for layer in layers), palette.dim, False))
        elif len(layers) > 1:
            parts.append((f"{len(on)}/{len(layers)}", palette.dim, False))
        return parts

    def render_line(self, y: int) -> Strip:
        """One line of the drawing."""
        if y < len(self._lines):
            return self._lines[y]
        return Strip.blank(self.size.width, paint(self.palette.text, self.palette.ground))

    def control_at(self, x: int, y: int) -> str:
        """The control under a cell, or an empty string."""
        surface = self.known.surface(self.surface_id)
        for control in surface.controls if surface else []:
            left, top, width, height = cell_box(control, self.unit)
            if left <= x < left + width and top <= y - TITLE_ROWS < top + height:
                return control.id
        return ""

    class Turned(Message):
        """The mouse's wheel turned over a control that moves, or it was dragged: `steps`, or `to` for each axis."""

        def __init__(self, spot: Spot, steps: int, to: list[float]) -> None:
            super().__init__()
            self.spot, self.steps, self.to = spot, steps, to

    def _row(self, control: str) -> ControlRow | None:
        return self.known.control((self.surface_id, control))

    def _wheel(self, event: events.MouseScrollUp | events.MouseScrollDown, steps: int) -> None:
        control = self.control_at(event.x, event.y)
        row = self._row(control)
        if row is not None and row.moves:
            event.stop()
            self.post_message(self.Turned((self.surface_id, control), steps, []))

    def on_mouse_scroll_up(self, event: events.MouseScrollUp) -> None:
        """Turn what is under the pointer to the right."""
        self._wheel(event, 1)

    def on_mouse_scroll_down(self, event: events.MouseScrollDown) -> None:
        """Turn it to the left."""
        self._wheel(event, -1)

    def on_mouse_move(self, event: events.MouseMove) -> None:
        """Drag a stick or a slider."""
        row = self._row(self._mouse_on) if self._mouse_on else None
        if row is None or not row.moves or row.turns:
            return
        x, y, width, height = cell_box(row, self.unit)
        across = min(1.0, max(0.0, (event.x - x) / max(1, width - 1)))
        down = min(1.0, max(0.0, (event.y - TITLE_ROWS - y) / max(1, height - 1)))
        if row.moves > 1:
            to = [across * 2 - 1, down * 2 - 1]
        else:
            place = 1 - down if row.shape == "slider" else across
            to = [place * 2 - 1 if row.centred else place]
        self._dragged = True
        self.post_message(self.Turned((self.surface_id, self._mouse_on), 0, to))

    class Asked(Message):
        """The right button went down on a control: what can be done with it?"""

        def __init__(self, spot: Spot) -> None:
            super().__init__()
            self.spot = spot

    def on_mouse_down(self, event: events.MouseDown) -> None:
        """Press the key under the pointer; with the right button, ask what can be done with it."""
        control = self.control_at(event.x, event.y)
        if control and event.button == 3:
            event.stop()
            self.post_message(self.Asked((self.surface_id, control)))
            return
        if control and event.button == 1:
            self._mouse_on = control
            self.capture_mouse()
            self._dragged = False
            self.post_message(self.Pressed((self.surface_id, control), down=True))

    def on_mouse_up(self, event: events.MouseUp) -> None:
        """Let it go."""
        if self._mouse_on:
            self.release_mouse()
            self.post_message(self.Pressed((self.surface_id, self._mouse_on), down=False))
            row = self._row(self._mouse_on)
            if self._dragged and row is not None and row.centred:
                # Nobody's finger is on the stick any more.
                self.post_message(self.Turned((self.surface_id, self._mouse_on), 0, [0.0] * row.moves))
            self._mouse_on = ""
