"""A macro's lanes with their ruler on a page."""

from __future__ import annotations

from brass_pebble.core.macro.lanes import Lanes
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import MS, say_duration

from .font import typeface
from .shapes import Box, Line, Page, Path, Words

# In mm.  A4 across is 297 wide.
WIDTH, MARGIN, NAMES = 297.0, 12.5, 33.0
ROW, BAR, HEAD, FOOT = 7.0, 4.2, 27.0, 10.5
TICKS = 10
INK, QUIET, BRASS, PAPER, STRIPE = "#22262a", "#6f6a5e", "#b07d1c", "#ffffff", "#f3f0e8"
NARROWEST = 0.42
# So many characters of what a step does.
LONGEST = 40


def chart_page(name: str, lanes: Lanes, note: str = "") -> Page:
    """The lanes of a macro, as wide as A4 and as high as it needs."""
    height = HEAD + ROW * max(1, len(lanes.lanes)) + FOOT
    page = Page(WIDTH, height)
    length = max(1, lanes.length)
    room = WIDTH - 2 * MARGIN - NAMES

    def x(time: int) -> float:
        return MARGIN + NAMES + room * time / length

    def write(across: float, down: float, words: str, size: float, colour: str, *, bold: bool = False,
              middle: bool = False) -> None:
        page.shapes.append(Words(across, down, words, size, colour, bold, "middle" if middle else "start"))

    closest = f", closest pair {say_duration(lanes.closest)}" if lanes.closest is not None else ""
    write(MARGIN, 10.5, name, 5.3, INK, bold=True)
    write(MARGIN, 16, f"{say_duration(lanes.length)}, "
                      f"{say_count(lanes.events, 'event')}{closest}" + (f".  {note}" if note else ""),
          3.2, QUIET)
    for index, lane in enumerate(lanes.lanes):
        y = HEAD + ROW * index
        if index % 2 == 0:
            page.shapes.append(Box(MARGIN, y, WIDTH - 2 * MARGIN, ROW, STRIPE))
        write(MARGIN + 1.4, y + 4.9, lane.name, 3.2, INK)
    tick = _tick(length)
    for number in range(length // tick + 1):
        at = x(number * tick)
        page.shapes.append(Line(at, HEAD - 2.8, at, height - FOOT + 1.4, QUIET, 0.14))
        write(at, HEAD - 4.2, "0 ms" if not number else say_duration(number * tick), 2.8, QUIET, middle=True)
    for index, lane in enumerate(lanes.lanes):
        y = HEAD + ROW * index + (ROW - BAR) / 2
        for bar in lane.bars:
            if bar.end > bar.start:
                wide = max(NARROWEST, x(bar.end) - x(bar.start))
                page.shapes.append(Box(x(bar.start), y, wide, BAR, BRASS, radius=0.7, role="bar"))
                if bar.text and wide > typeface(False).width(bar.text, 2.5) + 0.6:
                    write(x(bar.start) + wide / 2, y + 3.1, bar.text, 2.5, PAPER, middle=True)
            else:
                middle, top = x(bar.start), y + BAR / 2 - 1.4
                page.shapes.append(Path((("M", (middle, top)), ("L", (middle + 1.4, top + 1.4)),
                                         ("L", (middle, top + 2.8)), ("L", (middle - 1.4, top + 1.4)), ("Z", ())),
                                        fill=INK, role="mark"))
                told = bar.text if len(bar.text) <= LONGEST else f"{bar.text[:LONGEST - 1]}…"
                # Near the right edge it stands before its mark.
                late = middle + 2.1 + typeface(False).width(told, 2.5) > WIDTH - MARGIN
                page.shapes.append(Words(middle - 2.1 if late else middle + 2.1, y + 3.1, told, 2.5, QUIET, False,
                                         "end" if late else "start"))
    write(MARGIN, height - 3.5, "Brass Pebble", 2.5, QUIET)
    return page


def _tick(length: int) -> int:
    """A round step so that about ten of them fit."""
    for power in range(12):
        for factor in (1, 2, 5):
            step: int = factor * 10**power * MS
            if length <= step * TICKS:
                return step
    return length
