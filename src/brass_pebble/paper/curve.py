"""The response of an axis as a drawing: SVG 1.1."""

from __future__ import annotations

from xml.sax.saxutils import escape

from brass_pebble.core.play.axis import AxisSettings, write_share
from brass_pebble.core.say.durations import write_duration

SIZE, MARGIN, HEAD = 420, 44, 64
POINTS = 200
INK, QUIET, BRASS, PAPER, SHADE = "#22262a", "#8f8a7c", "#b07d1c", "#ffffff", "#f3f0e8"
FONT = "Helvetica, Arial, sans-serif"


def say_settings(settings: AxisSettings) -> str:
    """The settings in a line."""
    parts = [f"dead zone {write_share(settings.dead)}", f"full at {write_share(settings.full)}",
             f"curve {settings.curve:g}", f"pressed at {write_share(settings.threshold)}"]
    if settings.invert:
        parts.append("turned round")
    if settings.smooth:
        parts.append(f"smoothed over {write_duration(settings.smooth)}")
    return ", ".join(parts)


def curve_svg(name: str, settings: AxisSettings, before: AxisSettings | None = None, *, centred: bool) -> str:
    """The curve, its dead zone shaded, and a dashed one for how it was before."""
    width, height = SIZE + 2 * MARGIN, SIZE + HEAD + 2 * MARGIN
    low = -1.0 if centred else 0.0
    reach = 1.0 - low

    def x(place: float) -> float:
        return MARGIN + SIZE * (place - low) / reach

    def y(value: float) -> float:
        return HEAD + MARGIN + SIZE * (1 - (value - low) / reach)

    def line(of: AxisSettings) -> str:
        places = [low + reach * step / POINTS for step in range(POINTS + 1)]
        return " ".join(f"{x(place):.2f},{y(of.respond(place, centred=centred)):.2f}" for place in places)

    dead_from = -settings.dead if centred else 0.0
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}" viewBox="0 0 {width} {height}">',
        f'<rect width="{width}" height="{height}" fill="{PAPER}"/>',
        _text(MARGIN, 30, name, 15, INK), _text(MARGIN, 48, say_settings(settings), 9, QUIET),
        f'<rect class="dead" x="{x(dead_from):.2f}" y="{y(1):.2f}" width="{x(settings.dead) - x(dead_from):.2f}" '
        f'height="{SIZE}" fill="{SHADE}"/>',
        f'<rect x="{x(low):.2f}" y="{y(1):.2f}" width="{SIZE}" height="{SIZE}" fill="none" stroke="{QUIET}" '
        'stroke-width="0.8"/>']
    for step in range(5):
        share = low + reach * step / 4
        parts.append(f'<line x1="{x(share):.2f}" y1="{y(low):.2f}" x2="{x(share):.2f}" y2="{y(1):.2f}" '
                     f'stroke="{QUIET}" stroke-width="0.3"/>')
        parts.append(f'<line x1="{x(low):.2f}" y1="{y(share):.2f}" x2="{x(1):.2f}" y2="{y(share):.2f}" '
                     f'stroke="{QUIET}" stroke-width="0.3"/>')
        parts.append(_text(x(share) - 8, y(low) + 16, f"{share * 100:g} %", 8, QUIET))
    if before is not None and before != settings:
        parts.append(f'<polyline class="before" points="{line(before)}" fill="none" stroke="{QUIET}" '
                     'stroke-width="1.4" stroke-dasharray="5 4"/>')
    parts.append(f'<polyline class="curve" points="{line(settings)}" fill="none" stroke="{BRASS}" stroke-width="2.4"/>')
    parts.append(_text(MARGIN, height - 12, "Across: where it is. Up: what comes of it. Dashed: before.", 8, QUIET))
    return "\n".join([*parts, "</svg>", ""])


def _text(x: float, y: float, words: str, size: float, colour: str) -> str:
    return (f'<text x="{x:.2f}" y="{y:.2f}" font-family="{FONT}" font-size="{size}" fill="{colour}">'
            f"{escape(words)}</text>")
