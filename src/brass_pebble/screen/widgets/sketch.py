"""A drawing of a device that is being met: its controls at the largest scale that fits, to look at and to press."""

from __future__ import annotations

from typing import ClassVar

from textual import events
from textual.binding import Binding, BindingType
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from brass_pebble.core.desk.look.drawn import ControlRow, DrawnRow
from brass_pebble.core.say.limits import fill_label
from brass_pebble.screen.base.palette import Palette

from .canvas import Canvas, paint
from .caps import SMALL, CapState, cell_box, draw_cap

SMALLEST, LARGEST = (3, 3), (14, 5)


class Sketch(Widget, can_focus=True):
    """Shows controls; the mouse, or the arrows and Enter, press them."""

    # A click presses a key and leaves the keyboard where it was.
    FOCUS_ON_CLICK = False
    DEFAULT_CSS = """
    Sketch { height: 1fr; width: 1fr; padding: 0 1; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up", "go(0, -1)", "", show=False), Binding("down", "go(0, 1)", "", show=False),
        Binding("left", "go(-1, 0)", "", show=False), Binding("right", "go(1, 0)", "", show=False),
        ("enter", "press", "press this key"), ("escape", "leave", "leave the bench"),
    ]

    class Picked(Message):
        """A control was pressed (or let go) on the drawing."""

        def __init__(self, sketch: Sketch, control: DrawnRow, *, down: bool) -> None:
            super().__init__()
            self.sketch, self.row, self.down = sketch, control, down

        @property
        def control(self) -> Sketch:
            """The drawing it came from."""
            return self.sketch

    def __init__(self, *, empty: str = "", id: str | None = None) -> None:
        super().__init__(id=id)
        self.empty = empty
        self.controls: list[DrawnRow] = []
        self.selected = ""
        self.down: set[int | str] = set()
        self.seen: set[str] | None = None
        self._lines: list[Strip] = []
        self._unit = SMALLEST
        self._mouse_on: DrawnRow | None = None

    def show(self, controls: list[DrawnRow], *, seen: set[str] | None = None) -> None:
        """Draw these controls; those not in `seen` stay dim."""
        self.controls, self.seen = controls, seen
        if self.selected and not any(c.id == self.selected for c in controls):
            self.selected = ""
        self.redraw()

    def rows_wanted(self, width: int) -> int:
        """Rows that a comfortable drawing needs in so many columns."""
        wide, high = self._units()
        unit = max(SMALLEST[0], min(LARGEST[0], int(width / wide)))
        return round(high * max(SMALLEST[1], min(LARGEST[1], unit // 2))) if self.controls else 2

    def _units(self) -> tuple[float, float]:
        return (max((c.x + c.w for c in self.controls), default=1.0),
                max((c.y + c.h for c in self.controls), default=1.0))

    def redraw(self) -> None:
        """Draw it again."""
        if not self.is_mounted:
            return
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        width, height = self.content_size
        ground = palette.ground
        canvas = Canvas(max(1, width), max(1, height), paint(palette.text, ground))
        wide, high = self._units()
        uw = max(SMALLEST[0], min(LARGEST[0], int(width / wide)))
        uh = max(1 if height / high < SMALLEST[1] else SMALLEST[1], min(LARGEST[1], int(height / high)))
        self._unit = (min(uw, max(6, uh * 3)), uh)
        if not self.controls:
            canvas.put(0, 0, self.empty, paint(palette.dim, ground))
        for control in self.controls:
            known = self.seen is None or control.id in self.seen
            key = fill_label(control.key, self.app.known.values)  # type: ignore[attr-defined]
            label = ""
            if known:
                label = key if key.lower() != control.legend.lower() else ""
                if not label and self._unit[1] <= SMALLEST[1]:
                    label = control.legend
            row = ControlRow(id=control.id, code=control.code, x=control.x, y=control.y, w=control.w, h=control.h,
                             legend="" if label == control.legend else control.legend,
                             glyph="✓" if self.seen is not None and known else "",
                             kind="seen" if known else "", label=label)
            box = cell_box(control, self._unit)
            if self._unit[1] < SMALLEST[1]:
                self._draw_flat(canvas, control, box, palette)
                continue
            draw_cap(canvas, row, box, CapState(selected=control.id == self.selected,
                                                down=control.code in self.down), palette, SMALL)
        self._lines = canvas.strips()
        self.refresh()

    def _draw_flat(self, canvas: Canvas, control: DrawnRow, box: tuple[int, int, int, int], palette: Palette) -> None:
        """One row a key, where there is no room for caps."""
        x, y, width, _ = box
        known = self.seen is None or control.id in self.seen
        fill = palette.brass if control.code in self.down else palette.cap if known else palette.panel
        text = palette.on_brass if control.code in self.down else palette.text if known else palette.dim
        style = paint(text, fill, bold=control.id == self.selected, reverse=control.id == self.selected)
        canvas.put(x, y, control.legend[:max(1, width - 1)].ljust(max(1, width - 1)), style)

    def render_line(self, y: int) -> Strip:
        """One line of the drawing."""
        return self._lines[y] if y < len(self._lines) else Strip.blank(self.content_size.width)

    def on_resize(self, event: events.Resize) -> None:
        """Another scale may fit."""
        self.redraw()

    def watch_has_focus(self, has_focus: bool) -> None:
        """Show where one stands."""
        super().watch_has_focus(has_focus)
        if has_focus and not self.selected and self.controls:
            self.selected = self.controls[0].id
        self.redraw()

    def action_go(self, dx: int, dy: int) -> None:
        """Select the control next to the selected one."""
        here = next((c for c in self.controls if c.id == self.selected), None)
        if here is None:
            self.selected = self.controls[0].id if self.controls else ""
        else:
            self.selected = next_control(self.controls, here, dx, dy).id
        self.redraw()

    def action_leave(self) -> None:
        """The view's own keys count again."""
        self.blur()

    async def action_press(self) -> None:
        """Press the selected control and let it go."""
        if not self.selected:
            # Tab and Enter came together: Enter overtakes the news that the focus is here.
            self.action_go(0, 0)
        control = next((c for c in self.controls if c.id == self.selected), None)
        if control is not None:
            self.post_message(self.Picked(self, control, down=True))
            self.set_timer(0.09, lambda: self.post_message(self.Picked(self, control, down=False)) and None)

    def on_mouse_down(self, event: events.MouseDown) -> None:
        """Press the key under the pointer."""
        left = 1
        for control in self.controls:
            x, y, width, height = cell_box(control, self._unit)
            if x <= event.x - left < x + width and y <= event.y < y + height and event.button == 1:
                self._mouse_on = control
                self.selected = control.id
                self.capture_mouse()
                self.redraw()
                self.post_message(self.Picked(self, control, down=True))
                return

    def on_mouse_up(self, event: events.MouseUp) -> None:
        """Let it go."""
        if self._mouse_on is not None:
            self.release_mouse()
            self.post_message(self.Picked(self, self._mouse_on, down=False))
            self._mouse_on = None


def next_control(controls: list[DrawnRow], here: DrawnRow, dx: int, dy: int) -> DrawnRow:
    """The control that lies next in a direction; the same one if none does."""
    best, best_cost = here, float("inf")
    at = (here.x + here.w / 2, here.y + here.h / 2)
    for control in controls:
        to = (control.x + control.w / 2, control.y + control.h / 2)
        along = (to[0] - at[0]) * dx + (to[1] - at[1]) * dy
        aside = abs((to[0] - at[0]) * dy) + abs((to[1] - at[1]) * dx)
        cost = along + 2.5 * max(0.0, aside - (control.h if dx else control.w) / 2 + 0.5)
        if control is not here and along > 0.3 and cost < best_cost:
            best, best_cost = control, cost
    return best
