"""Charts of use: for each surface a page with its heat map, its days, and what earns its place."""

from __future__ import annotations

import time

from brass_pebble.core.desk.look.drawn import BareSurface, DrawnDesk
from brass_pebble.core.label.fit import fit_text
from brass_pebble.core.label.sheet import MARGIN
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.usage.report import History, Report, report

from .font import measure, measure_plain
from .shapes import Box, Group, Line, Page, Shape, Words

WIDE, HIGH = 297.0, 210.0
INK, QUIET, EDGE, BRASS = "#22262a", "#7d786c", "#b9b4a8", "#c08a24"
DAY = 86_400
ROWS = 24
LIST = 82.0


def usage_pages(desk: DrawnDesk, history: History, period: str) -> list[Page]:
    """A page for each surface, on A4 across.  `desk` is as clients get it, `period` the time in words."""
    return [_page(desk, surface, history, period) for surface in desk.surfaces]


def _page(desk: DrawnDesk, surface: BareSurface, history: History, period: str) -> Page:
    found = report(desk, surface, history)
    page = Page(WIDE, HIGH)
    page.shapes += [Words(MARGIN, MARGIN + 4, surface.name, 4.6, INK, bold=True),
                    Words(MARGIN, MARGIN + 9.5, f"{say_count(found.presses, 'press')} in {period}; "
                                                f"{say_count(found.stopped, 'run')} "
                          f"stopped, {found.cancelled} had no effect, "
                          f"{found.slips} likely mis-hits; never used: {len(found.unused)}", 2.8, QUIET)]
    right = WIDE - MARGIN - LIST
    page.shapes += _heat(surface, found, (MARGIN, MARGIN + 14, right - MARGIN - 8, 116))
    page.shapes += _days(history, (MARGIN, 150, right - MARGIN - 8, 44))
    page.shapes += _list(found, surface, right, MARGIN + 14)
    return page


def heat_colour(share: float) -> str:
    """From paper white to brass."""
    low, high = (0xF6, 0xF3, 0xEA), (0xC0, 0x8A, 0x24)
    mixed = [round(a + (b - a) * share**0.6) for a, b in zip(low, high, strict=True)]
    return "#" + "".join(f"{part:02x}" for part in mixed)


def _heat(surface: BareSurface, found: Report, room: tuple[float, float, float, float]) -> list[Shape]:
    x, y, width, height = room
    controls = surface.controls
    wide = max((c.x + c.w for c in controls), default=1.0)
    high = max((c.y + c.h for c in controls), default=1.0)
    unit = min(width / wide, height / high, 26.0)
    most = max(found.heat.values(), default=0)
    unused = {control for _, control, *_ in found.unused}
    # What a control is most used for names it.
    names = {control: label for _, control, _, label, _ in reversed(found.bindings)}
    slipped = {slip.control: slip.times for slip in found.slipped}
    shapes: list[Shape] = []
    for control in controls:
        left, top = x + control.x * unit + 0.4, y + control.y * unit + 0.4
        across, down = control.w * unit - 0.8, control.h * unit - 0.8
        times = found.heat.get(control.id, 0)
        inner: list[Shape] = [Box(left, top, across, down, heat_colour(times / most) if times else "#ffffff", EDGE, 0.2,
                                  min(1.2, across * 0.1), "heat")]
        name = names.get(control.id, control.label or control.legend)
        label = fit_text(name, across - 1, down * 0.4, measure, largest=3.0,
                         smallest=1.2)
        for index, line in enumerate(label.lines):
            inner.append(Words(left + across / 2, top + down * 0.3 + label.size * (0.4 + 1.1 * index), line, label.size,
                               INK if control.label else QUIET, bold=True, anchor="middle"))
        foot = str(times) if times else "never" if control.id in unused else ""
        inner.append(Words(left + across / 2, top + down * 0.86, foot, min(2.6, down * 0.2), INK if times else QUIET,
                           anchor="middle"))
        if control.id in slipped:
            inner.append(Words(left + across - 0.6, top + 2.6, f"! {slipped[control.id]}", min(2.2, down * 0.2),
                               "#a33b2c", bold=True, anchor="end"))
        shapes.append(Group(control.id, tuple(inner), "control"))
    return shapes


def _days(history: History, room: tuple[float, float, float, float]) -> list[Shape]:
    """Presses by day: a bar for each, from the first day to the last."""
    x, y, width, height = room
    shapes: list[Shape] = [Words(x, y, "Presses by day, all surfaces", 2.8, QUIET),
                           Line(x, y + height, x + width, y + height, EDGE, 0.2)]
    if not history.days:
        return shapes
    first, last = history.days[0][0], history.days[-1][0]
    step = width / (last - first + 1)
    most = max(times for _, times in history.days)
    for day, times in history.days:
        tall = (height - 6) * times / most
        wide = max(0.3, min(6.0, step * 0.8))
        middle = x + (day - first + 0.5) * step
        shapes.append(Box(middle - wide / 2, y + height - tall, wide, tall, BRASS, role="day"))
    for day, anchor, at in ((first, "start", x), (last, "end", x + width)):
        shapes.append(Words(at, y + height + 3.4, time.strftime("%d %b %Y", time.gmtime(day * DAY)), 2.4, QUIET,
                            anchor=anchor))
    shapes.append(Words(x + width, y, f"most on a day: {most:,}", 2.4, QUIET, anchor="end"))
    return shapes


def _list(found: Report, surface: BareSurface, x: float, y: float) -> list[Shape]:
    """The most used, with bars; then slips and pairs as far as there is room."""
    legends = {control.id: control.legend for control in surface.controls}
    shapes: list[Shape] = [Words(x, y, "Most used", 3.0, INK, bold=True)]
    most = found.bindings[0][4] if found.bindings else 1
    y += 5
    for _, control, _, label, times in found.bindings[:ROWS]:
        shapes += [Box(x + 40, y - 2.2, 26 * times / most, 2.4, BRASS, role="used"),
                   Words(x + LIST - 1, y, f"{times:,}", 2.4, INK, anchor="end"),
                   Words(x, y, fit_text(label, 24, 3, measure, largest=2.5).lines[0], 2.5, INK, bold=True),
                   Words(x + 39, y, legends.get(control, control), 2.2, QUIET, anchor="end")]
        y += 3.9
    y += 3
    for title, lines in (
            ("Likely mis-hits", [f"{legends.get(slip.control, slip.control)}, {say_count(slip.times, 'time')}" + (
                f", probably meant {', '.join(legends.get(name, name) for name, _ in slip.meant[:3])}"
                if slip.meant else "")
                for slip in found.slipped]),
            ("One after another", [f"{pair.words[0]} ▸ {pair.words[1]}: {pair.times}" for pair in found.pairs])):
        if lines and y < HIGH - 30:
            shapes.append(Words(x, y, title, 3.0, INK, bold=True))
            y += 4.5
            for line in lines[:6]:
                fitted = fit_text(line, LIST, 3, measure_plain, largest=2.5, smallest=1.6)
                shapes.append(Words(x, y, fitted.lines[0], fitted.size, INK))
                y += 3.7
            y += 3
    return shapes
