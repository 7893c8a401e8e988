"""A stage program as it would look: drawn from the `panel` rows of its file."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from rich.cells import cell_len
from textual import events
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from brass_pebble.protocol.rows import StageRow
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.known import Known

from .canvas import Canvas, paint
from .short_labels import centre, cut, fit

Row = dict[str, Any]


class StagePanel(Widget):
    """Draws one stage program's state."""

    DEFAULT_CSS = "StagePanel { position: absolute; }"

    class Clicked(Message):
        """A click gives a program the focus."""

        def __init__(self, program: str) -> None:
            super().__init__()
            self.program = program

    def __init__(self, program_id: str, known: Known) -> None:
        super().__init__()
        self.program_id = program_id
        self.known = known
        self._lines: list[Strip] = []
        self._wraps = False

    @property
    def palette(self) -> Palette:
        """The colours in use."""
        return self.app.palette  # type: ignore[attr-defined,no-any-return]

    def redraw(self) -> None:
        """Draw it again from the state."""
        program = next((p for p in self.known.programs if p.id == self.program_id), None)
        width, height = self.size
        if program is None or width < 12 or height < 3:
            return
        palette = self.palette
        ground = paint(palette.text, palette.panel)
        canvas = Canvas(width, height, ground)
        focused = program.focused and len(self.known.programs) > 1
        frame = paint(palette.brass if focused else palette.dim, palette.panel)
        canvas.put(0, 0, "╭" + "─" * (width - 2) + "╮", frame)
        for y in range(1, height - 1):
            canvas.put(0, y, "│", frame)
            canvas.put(width - 1, y, "│", frame)
        canvas.put(0, height - 1, "╰" + "─" * (width - 2) + "╯", frame)
        title = f" {'◉ ' if focused else ''}{program.name} "
        canvas.put(2, 0, title, paint(palette.brass, palette.panel, bold=True))
        what = f" {program.what}, {'has the focus' if focused else 'on the stage'} "
        if len(what) + len(program.name) < width - 8:
            canvas.put(width - 2 - len(what), 0, what, frame)
        self._draw_rows(canvas, program)
        self._lines = canvas.strips()
        self.refresh()

    def _draw_rows(self, canvas: Canvas, program: StageRow) -> None:
        inner, room = canvas.width - 4, canvas.height - 2
        tiles = next((len(p["values"]) for p in program.panels if p["kind"] == "tiles"), 0)
        per_line = tiles if tiles and inner // tiles >= 7 else max(1, (tiles + 1) // 2)
        tall = 3 if room >= len(program.panels) + 5 and per_line == tiles else 1
        lines = len(program.panels) - 1 + tall * -(-tiles // per_line) if tiles else len(program.panels)
        # Lamps that do not fit side by side with their words take more lines, where there are some.
        self._wraps = room - lines >= 1
        lines += sum(len(self._lamp_lines(program, p, inner)) - 1 for p in program.panels if p["kind"] == "lamps")
        spare = max(0, room - lines)
        # Blank lines are handed out from above: before the first row, then below each.
        y = 1 + (1 if spare else 0)
        spare -= 1
        for panel in program.panels:
            if y > room:
                # In a small terminal the last rows have no place.
                break
            if panel["kind"] == "tiles":
                y += self._tiles(canvas, program, panel, y, (per_line, tall))
            else:
                y += _ROWS[panel["kind"]](self, canvas, program, panel, y) or 1
            y += 1 if spare > 0 else 0
            spare -= 1

    def _tiles(self, canvas: Canvas, program: StageRow, panel: Row, y: int, shape: tuple[int, int]) -> int:
        """Cameras and the like: one tile each, the live one in brass."""
        per_line, tall = shape
        palette, values = self.palette, panel["values"]
        width = (canvas.width - 4) // per_line
        for index, value in enumerate(values):
            live = program.state[panel["of"]] == value
            fill, text = (palette.brass, palette.on_brass) if live else (palette.cap, palette.text)
            x, top = 2 + index % per_line * width, y + index // per_line * tall
            style = paint(text, fill, bold=live)
            canvas.fill(x, top, width - 1, tall, style)
            label = fit(value, width - 3)
            canvas.put(x, top + tall // 2, centre(f"◉{label}" if live else label, width - 1), style)
            if live and tall > 1 and width - 1 >= len(panel["on"]):
                canvas.put(x, top + tall - 1, centre(panel["on"], width - 1), style)
        return tall * -(-len(values) // per_line)

    def _banner(self, canvas: Canvas, program: StageRow, panel: Row, y: int) -> None:
        """A line of text that can be hidden, and the window it is written in."""
        palette, state = self.palette, program.state
        width, text = canvas.width - 4, str(state[panel["of"]])
        if program.opening == panel["window"]:
            canvas.put(2, y, fit(f"… {panel['window']} is opening", width), paint(palette.dim, palette.panel))
        elif program.window == panel["window"]:
            canvas.put(2, y, f" ✎ {text}▏".ljust(width)[:width], paint(palette.text, palette.ground, bold=True))
        elif all(state[key] == value for key, value in panel["shown_when"].items()):
            canvas.put(2, y, centre(f"▐ {text} ▌", width), paint(palette.on_brass, palette.tint("wheat"), bold=True))
        else:
            canvas.put(2, y, f"title hidden: {text}"[:width], paint(palette.dim, palette.panel))

    def _lamp_lines(self, program: StageRow, panel: Row, width: int) -> list[list[tuple[str, str]]]:
        """Each lamp as its text and its colour, line by line; without values where all is to stand in one."""
        palette = self.palette
        lines: list[list[tuple[str, str]]] = [[]]
        short: list[tuple[str, str]] = []
        used = 0
        for lamp in panel["lamps"]:
            value = program.state[lamp["of"]]
            good, bad = value == lamp["good"], value == lamp.get("bad")
            colour = palette.verdigris if good else palette.rust if bad else palette.dim
            mark, name = "●" if good else "✗" if bad else "○", lamp.get("name", lamp["of"])
            text = f"{mark} {name} {value}"
            if lines[-1] and used + cell_len(text) > width:
                lines.append([])
                used = 0
            lines[-1].append((text, colour))
            short.append((f"{mark} {name[:9]}", colour))
            used += cell_len(text) + 2
        return lines if len(lines) == 1 or self._wraps else [short]

    def _lamps(self, canvas: Canvas, program: StageRow, panel: Row, y: int) -> int:
        """On and off, as a dot and a word; and how many lines they took."""
        lines = self._lamp_lines(program, panel, canvas.width - 4)
        for number, line in enumerate(lines):
            x = 2
            for text, colour in line:
                canvas.put(x, y + number, cut(text, max(0, canvas.width - 2 - x)),
                           paint(colour, self.palette.panel, bold=colour != self.palette.dim))
                x += cell_len(text) + 2
        return len(lines)

    def _meter(self, canvas: Canvas, program: StageRow, panel: Row, y: int) -> None:
        """A level from 0 to 100."""
        palette, value = self.palette, int(program.state[panel["of"]])
        off = all(program.state[key] == wanted for key, wanted in panel["off_when"].items())
        width = max(5, min(30, canvas.width - 22))
        lit = round(width * value / 100)
        canvas.put(2, y, f"{panel['name']} ", paint(palette.text, palette.panel))
        x = 3 + len(panel["name"])
        canvas.put(x, y, "▰" * lit, paint(palette.dim if off else palette.verdigris, palette.panel))
        canvas.put(x + lit, y, "▱" * (width - lit), paint(palette.dim, palette.panel))
        canvas.put(x + width + 1, y, f"{value} %{' off' if off else ''}", paint(palette.text, palette.panel))

    def _facts(self, canvas: Canvas, program: StageRow, panel: Row, y: int) -> None:
        """Names and values."""
        palette, x = self.palette, 2
        for fact in panel["facts"]:
            value = str(program.state[fact["of"]])
            canvas.put(x, y, f"{fact['name']} ", paint(palette.dim, palette.panel))
            x += len(fact["name"]) + 1
            calm = value in ("none", "0")
            canvas.put(x, y, value, paint(palette.dim if calm else palette.brass, palette.panel, bold=not calm))
            x += len(value) + 3

    def render_line(self, y: int) -> Strip:
        """One line of the drawing."""
        if y < len(self._lines):
            return self._lines[y]
        return Strip.blank(self.size.width, paint(self.palette.text, self.palette.panel))

    def on_click(self, event: events.Click) -> None:
        """Click into it, as into a window."""
        self.post_message(self.Clicked(self.program_id))

    def on_resize(self) -> None:
        """Draw at the new size."""
        self.redraw()


_ROWS: dict[str, Callable[[StagePanel, Canvas, StageRow, Row, int], int | None]] = {
    "banner": StagePanel._banner, "lamps": StagePanel._lamps, "meter": StagePanel._meter, "facts": StagePanel._facts,
}
