"""A macro's lanes with their ruler as a drawing: SVG 1.1, or PDF made from it."""

from __future__ import annotations

import io
from xml.sax.saxutils import escape

from brass_pebble.core.macro.lanes import Lanes
from brass_pebble.core.say.durations import MS, say_duration

# In points.  A4 across is 842 wide.
WIDTH, MARGIN, NAMES = 842, 36, 92
ROW, BAR, HEAD, FOOT = 20, 12, 76, 30
TICKS = 10
INK, QUIET, BRASS, PAPER, STRIPE = "#22262a", "#8f8a7c", "#b07d1c", "#ffffff", "#f3f0e8"
FONT = "Helvetica, Arial, sans-serif"
NARROWEST = 1.2


def chart_svg(name: str, lanes: Lanes, note: str = "") -> str:
    """The lanes as SVG text."""
    height = HEAD + ROW * max(1, len(lanes.lanes)) + FOOT
    length = max(1, lanes.length)
    room = WIDTH - 2 * MARGIN - NAMES

    def x(time: int) -> float:
        return MARGIN + NAMES + room * time / length

    closest = f", closest pair {say_duration(lanes.closest)}" if lanes.closest is not None else ""
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH}" height="{height}" viewBox="0 0 {WIDTH} {height}">',
        f'<rect width="{WIDTH}" height="{height}" fill="{PAPER}"/>',
        _text(MARGIN, 30, name, 15, INK, bold=True),
        _text(MARGIN, 46, f"{say_duration(lanes.length)}, {lanes.events} events{closest}"
              + (f".  {note}" if note else ""), 9, QUIET)]
    for index, lane in enumerate(lanes.lanes):
        y = HEAD + ROW * index
        if index % 2 == 0:
            parts.append(f'<rect x="{MARGIN}" y="{y}" width="{WIDTH - 2 * MARGIN}" height="{ROW}" fill="{STRIPE}"/>')
        parts.append(_text(MARGIN + 4, y + 14, lane.name, 9, INK))
    tick = _tick(length)
    for number in range(length // tick + 1):
        at = x(number * tick)
        parts.append(f'<line x1="{at:.2f}" y1="{HEAD - 8}" x2="{at:.2f}" y2="{height - FOOT + 4}" stroke="{QUIET}" '
                     'stroke-width="0.4"/>')
        parts.append(_text(at, HEAD - 12, "0 ms" if not number else say_duration(number * tick), 8, QUIET, middle=True))
    for index, lane in enumerate(lanes.lanes):
        y = HEAD + ROW * index + (ROW - BAR) // 2
        for bar in lane.bars:
            if bar.end > bar.start:
                wide = max(NARROWEST, x(bar.end) - x(bar.start))
                parts.append(f'<rect class="bar" x="{x(bar.start):.2f}" y="{y}" width="{wide:.2f}" height="{BAR}" '
                             f'rx="2" fill="{BRASS}"/>')
                if bar.text and wide > 5 * len(bar.text):
                    parts.append(_text(x(bar.start) + wide / 2, y + 9, bar.text, 7, PAPER, middle=True))
            else:
                middle, top = x(bar.start), y + BAR / 2
                parts.append(f'<path class="mark" d="M {middle:.2f} {top - 4} l 4 4 l -4 4 l -4 -4 z" fill="{INK}"/>')
                parts.append(_text(middle + 6, y + 9, bar.text[:40], 7, QUIET))
    parts.append(_text(MARGIN, height - 10, "Brass Pebble", 7, QUIET))
    return "\n".join([*parts, "</svg>", ""])


def _text(x: float, y: float, words: str, size: float, colour: str, *, bold: bool = False,
          middle: bool = False) -> str:
    weight = ' font-weight="bold"' if bold else ""
    anchor = ' text-anchor="middle"' if middle else ""
    return (f'<text x="{x:.2f}" y="{y:.2f}" font-family="{FONT}" font-size="{size}" fill="{colour}"{weight}{anchor}>'
            f"{escape(words)}</text>")


def _tick(length: int) -> int:
    """A round step so that about ten of them fit."""
    for power in range(12):
        for factor in (1, 2, 5):
            step: int = factor * 10**power * MS
            if length <= step * TICKS:
                return step
    return length


def chart_pdf(svg: str) -> bytes:
    """A drawing as PDF."""
    from reportlab.graphics import renderPDF
    from svglib.svglib import svg2rlg
    drawing = svg2rlg(io.BytesIO(svg.encode()))
    return bytes(renderPDF.drawToString(drawing))
