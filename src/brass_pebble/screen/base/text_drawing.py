"""A surface as plain text, for printing in a terminal: its caps with what they do, no colours."""

from __future__ import annotations

from brass_pebble.core.desk.look.drawn import BareSurface
from brass_pebble.core.desk.look.shown import show_control
from brass_pebble.screen.widgets.canvas import Canvas, paint
from brass_pebble.screen.widgets.caps import SMALL, CapState, cell_box, draw_cap

from .palette import BASALT, outlines

WIDEST = 118
# Without colours a cap is its lines.
OUTLINES = outlines("basalt")


def drawn_as_text(surface: BareSurface, layer: str = "") -> list[str]:
    """The lines of the drawing: its lowest layer, or another one."""
    controls = surface.controls
    if not controls:
        return ["(not drawn yet)"]
    wide = max(c.x + c.w for c in controls)
    unit = (max(4, min(10, int(WIDEST / wide))), 3)
    shown = [layer] if layer else [found.id for found in surface.layers[:1]]
    boxes = [(control, cell_box(control, unit)) for control in controls]
    canvas = Canvas(max(x + w for _, (x, _, w, _) in boxes), max(y + h for _, (_, y, _, h) in boxes),
                    paint(BASALT.text, BASALT.ground))
    for control, box in boxes:
        draw_cap(canvas, show_control(control, surface.layers, shown), box, CapState(), OUTLINES, SMALL)
    return [strip.text.rstrip() for strip in canvas.strips()]
