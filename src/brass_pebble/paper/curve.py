"""The response of an axis on a page."""

from __future__ import annotations

from brass_pebble.core.play.axis import AxisSettings
from brass_pebble.core.say.durations import write_duration
from brass_pebble.core.say.setting import write_share

from .shapes import Box, Leg, Line, Page, Path, Words

# In mm.
SIZE, MARGIN, HEAD = 148.0, 15.5, 10.0
POINTS = 200
INK, QUIET, BRASS, SHADE = "#22262a", "#6f6a5e", "#b07d1c", "#f3f0e8"


def say_settings(settings: AxisSettings) -> str:
    """The settings in a line."""
    parts = [f"dead zone {write_share(settings.dead)}", f"full at {write_share(settings.full)}",
             f"curve {settings.curve:g}", f"pressed at {write_share(settings.threshold)}"]
    if settings.invert:
        parts.append("turned round")
    if settings.smooth:
        parts.append(f"smoothed over {write_duration(settings.smooth)}")
    return ", ".join(parts)


def curve_page(name: str, settings: AxisSettings, before: AxisSettings | None = None, *, centred: bool) -> Page:
    """The curve, its dead zone shaded, and a dashed one for how it was before."""
    width, height = SIZE + 2 * MARGIN, SIZE + HEAD + 2 * MARGIN
    page = Page(width, height)
    low = -1.0 if centred else 0.0
    reach = 1.0 - low

    def x(place: float) -> float:
        return MARGIN + SIZE * (place - low) / reach

    def y(value: float) -> float:
        return HEAD + MARGIN + SIZE * (1 - (value - low) / reach)

    def line(of: AxisSettings) -> tuple[Leg, ...]:
        places = [low + reach * step / POINTS for step in range(POINTS + 1)]
        return tuple(("L" if number else "M", (x(place), y(of.respond(place, centred=centred))))
                     for number, place in enumerate(places))

    dead_from = -settings.dead if centred else 0.0
    page.shapes += [
        Words(MARGIN, 10.5, name, 5.3, INK), Words(MARGIN, 17, say_settings(settings), 3.2, QUIET),
        Box(x(dead_from), y(1), x(settings.dead) - x(dead_from), SIZE, SHADE, role="dead"),
        Box(x(low), y(1), SIZE, SIZE, stroke=QUIET, line=0.28)]
    for step in range(5):
        share = low + reach * step / 4
        page.shapes += [Line(x(share), y(low), x(share), y(1), QUIET, 0.1),
                        Line(x(low), y(share), x(1), y(share), QUIET, 0.1),
                        Words(x(share), y(low) + 5.6, f"{share * 100:g} %", 2.8, QUIET, anchor="middle")]
    if before is not None and before != settings:
        page.shapes.append(Path(line(before), QUIET, line=0.5, dash=(1.8, 1.4), role="before"))
    page.shapes += [Path(line(settings), BRASS, line=0.85, role="curve"),
                    Words(MARGIN, height - 4.2, "Across: where it is. Up: what comes of it. Dashed: before.", 2.8,
                          QUIET)]
    return page
