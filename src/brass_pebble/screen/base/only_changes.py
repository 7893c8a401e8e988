"""Only what changed is sent to the terminal: the one way out remembers what stands there, cell by cell.

The toolkit sends the whole of every widget that is drawn again, each piece of text with all its colours.  Here a cell
is sent if it differs from what the terminal shows, and of a style what differs from the cell before.  Whatever a view
redraws, and however often, costs a line only what can be seen of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from typing import NamedTuple

from rich.cells import cell_len
from rich.color import ColorSystem
from rich.console import Console
from rich.style import Style
from textual._compositor import ChopsUpdate, CompositorUpdate, LayoutUpdate
from textual.color import Color
from textual.filter import LineFilter
from textual.strip import Strip

from brass_pebble.screen.widgets.short_labels import clusters

# Unchanged cells between two changed ones that are sent again, since going over them costs as much.
_WORTH_A_MOVE = 6
Cell = tuple[str, Style]
_NOTHING: Cell = ("", Style())
# The codes of ECMA-48 for what a style can be beside its colours.
_ATTRIBUTES = (("bold", "1"), ("dim", "2"), ("italic", "3"), ("underline", "4"), ("blink", "5"), ("reverse", "7"),
               ("strike", "9"))


class Pen(NamedTuple):
    """How the terminal writes: attributes, and the codes of both colours; empty ones are its own."""

    attributes: frozenset[str] = frozenset()
    ink: str = ""
    ground: str = ""


@lru_cache(maxsize=8192)
def pen_of(style: Style, system: ColorSystem) -> Pen:
    """What a style is to a terminal with so many colours."""
    ink, ground = style.color, style.bgcolor
    return Pen(frozenset(code for name, code in _ATTRIBUTES if getattr(style, name)),
               ";".join(ink.downgrade(system).get_ansi_codes(foreground=True)) if ink is not None else "",
               ";".join(ground.downgrade(system).get_ansi_codes(foreground=False)) if ground is not None else "")


@lru_cache(maxsize=16384)
def change_pen(now: Pen, then: Pen) -> str:
    """The shortest sequence that makes one pen of another."""
    codes = []
    if now.attributes - then.attributes:
        codes.append("0")
        now = Pen()
    codes += sorted(then.attributes - now.attributes)
    if now.ink != then.ink:
        codes.append(then.ink or "39")
    if now.ground != then.ground:
        codes.append(then.ground or "49")
    return f"\x1b[{';'.join(codes)}m" if codes else ""


@lru_cache(maxsize=4096)
def _blank(style: Style) -> Style:
    """Of an empty cell only the ground is seen, unless it has a line or is turned round."""
    return style if style.reverse or style.underline or style.strike else Style(bgcolor=style.bgcolor)


def cells_of(strip: Strip) -> list[Cell]:
    """A cell for each column: a character with what is combined with it; the second half of a wide one is empty."""
    cells: list[Cell] = []
    for text, given, control in strip:
        if control:
            continue
        style = given or Style()
        if text.isascii():
            if text.isspace():
                cells += [(" ", _blank(style))] * len(text)
            else:
                cells += [(char, style) for char in text]
            continue
        for cluster in clusters(text):
            cells.append((cluster, style))
            cells += [("", style)] * (cell_len(cluster) - 1)
    return cells


class TerminalMemory:
    """What stands in the terminal's cells, as far as it is known."""

    def __init__(self) -> None:
        self._size = (0, 0)
        self._lines: list[list[Cell]] = []

    def forget(self) -> None:
        """Anybody may have written there: everything is sent again."""
        self._size = (0, 0)

    def changes(self, pieces: Iterable[tuple[int, int, Strip]], size: tuple[int, int], system: ColorSystem) -> str:
        """What to send so that these pieces (column, row, text) stand there, in a terminal of so many columns, rows."""
        if size != self._size:
            self._size, self._lines = size, [[_NOTHING] * size[0] for _ in range(size[1])]
        sent: list[str] = []
        pen = Pen()
        for x, y, strip in pieces:
            if not 0 <= y < size[1] or x >= size[0]:
                continue
            line, cells = self._lines[y], cells_of(strip)[:size[0] - x]
            if line[x:x + len(cells)] == cells:
                continue
            for start, end in _runs(line[x:x + len(cells)], cells):
                sent.append(f"\x1b[{y + 1};{x + start + 1}H")
                at = start
                while at < end:
                    text, style = cells[at]
                    if (wanted := pen_of(style, system)) != pen:
                        sent.append(change_pen(pen, wanted))
                        pen = wanted
                    sent.append(text)
                    at += 1
                    if len(text) > 1 or (text and cells[at:at + 1] and not cells[at][0]):
                        # Terminals do not agree how wide such characters are: what follows stands where it belongs.
                        while at < end and not cells[at][0]:
                            at += 1
                        if at < end:
                            sent.append(f"\x1b[{y + 1};{x + at + 1}H")
            line[x:x + len(cells)] = cells
        if pen != Pen():
            sent.append("\x1b[0m")
        return "".join(sent)


def _runs(before: list[Cell], now: list[Cell]) -> Iterator[tuple[int, int]]:
    """Where cells differ, from and to; what lies close together is one run, and no character is cut in half."""
    start, end = -1, -1
    for at, cell in enumerate(now):
        if cell == before[at]:
            continue
        if start >= 0 and at - end > _WORTH_A_MOVE:
            yield _whole(now, start, end)
            start = -1
        if start < 0:
            start = at
        end = at + 1
    if start >= 0:
        yield _whole(now, start, end)


def _whole(now: list[Cell], start: int, end: int) -> tuple[int, int]:
    while start > 0 and not now[start][0]:
        start -= 1
    while end < len(now) and not now[end][0]:
        end += 1
    return start, end


def _pieces(update: CompositorUpdate) -> Iterator[tuple[int, int, Strip]] | None:
    """The texts of an update with their places; None if it is of an unknown kind."""
    if isinstance(update, LayoutUpdate):
        return _of_layout(update)
    if isinstance(update, ChopsUpdate):
        return _of_chops(update)
    return None


def _of_layout(update: LayoutUpdate) -> Iterator[tuple[int, int, Strip]]:
    for y, line in enumerate(update.strips, update.region.y):
        x = update.region.x
        for strip in line:
            yield x, y, strip
            x += strip.cell_length


def _of_chops(update: ChopsUpdate) -> Iterator[tuple[int, int, Strip]]:
    for y, begins, ends in update.spans:
        for end, (x, strip) in zip(update.chop_ends[y], update.chops[y].items(), strict=False):
            if strip is None or x > ends or end <= begins:
                continue
            yield x, y, strip if begins <= x and end <= ends else strip.crop(0, min(end, ends) - x)


class Way(NamedTuple):
    """What every piece goes through on its way out, one filter after the other, and the ground of the theme."""

    filters: Sequence[LineFilter]
    ground: Color

    def through(self, strip: Strip) -> Strip:
        """The piece as it is sent."""
        for each in self.filters:
            strip = Strip(each.apply(list(strip), self.ground), strip.cell_length)
        return strip


class OnlyChanges(CompositorUpdate):
    """An update of the toolkit, of which only what differs from the terminal is rendered."""

    def __init__(self, update: CompositorUpdate, memory: TerminalMemory, size: tuple[int, int], way: Way) -> None:
        self._update, self._memory, self._size, self._way = update, memory, size, way

    def render_segments(self, console: Console) -> str:
        """What to send."""
        pieces = _pieces(self._update)
        if pieces is None:
            self._memory.forget()
            return self._update.render_segments(console)
        system = ColorSystem[{"truecolor": "TRUECOLOR", "256": "EIGHT_BIT"}.get(console.color_system or "", "STANDARD")]
        return self._memory.changes(((x, y, self._way.through(strip)) for x, y, strip in pieces), self._size, system)
