"""The devices that are here, one a line: what each is, where it is plugged in, and what it just sent."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import ClassVar

from rich.cells import set_cell_size
from rich.segment import Segment
from textual import events
from textual.binding import Binding, BindingType
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from brass_pebble.core.devices.identity import SOUND
from brass_pebble.protocol.rows import DeviceRow
from brass_pebble.protocol.topics import HeardNews, LoudnessNews
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.widgets.canvas import paint

FRESH = 4.0


class DeviceList(Widget, can_focus=True):
    """Arrows or the mouse choose a device."""

    DEFAULT_CSS = """
    DeviceList { height: auto; max-height: 45%; padding: 0 1; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up", "step(-1)", "choose", show=False), Binding("down", "step(1)", "choose", show=False)]

    class Chosen(Message):
        """Another device is chosen."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[DeviceRow] = []
        self.at = 0
        self._heard: dict[str, tuple[HeardNews, float]] = {}
        self._down: dict[str, set[int | str]] = {}
        self._names: dict[str, str] = {}
        self._loud: dict[str, float] = {}
        self._open: Sequence[str] = ()
        self._lines: list[Strip] = []
        self._first = 0

    @property
    def chosen(self) -> DeviceRow | None:
        """The device under the cursor."""
        return self.rows[self.at] if self.rows else None

    def show(self, rows: list[DeviceRow], surface_names: dict[str, str], open_microphones: Sequence[str] = ()) -> None:
        """These devices are here now; the chosen one stays chosen.  Of microphones that are open loudness is shown."""
        self._open = open_microphones
        chosen = self.chosen.id if self.chosen else ""
        self.rows, self._names = rows, surface_names
        self.at = next((i for i, row in enumerate(rows) if row.id == chosen), min(self.at, max(0, len(rows) - 1)))
        self.styles.height = max(1, len(rows))
        self.redraw()

    def hear(self, heard: HeardNews) -> None:
        """A device sent something: show what, and choose it."""
        down = self._down.setdefault(heard.device, set())
        (down.add if heard.down else down.discard)(heard.code)
        if heard.down:
            self._heard[heard.device] = (heard, time.monotonic())
        self.redraw()

    def hear_loudness(self, news: LoudnessNews) -> None:
        """How loud it is at a microphone."""
        self._loud[news.device] = news.loud
        self.redraw()

    def is_loudest(self, device: str) -> bool:
        """Whether no other microphone hears more now."""
        return self._loud.get(device, -120.0) >= max(self._loud.values(), default=-120.0)

    def choose(self, device: str) -> None:
        """Put the cursor on a device."""
        found = next((i for i, row in enumerate(self.rows) if row.id == device), None)
        if found is not None and found != self.at:
            self.at = found
            self.post_message(self.Chosen())
        self.redraw()

    def redraw(self) -> None:
        """Draw it again."""
        if not self.is_mounted:
            return
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        width, height = self.content_size
        self._first = max(0, min(self.at - height + 1, len(self.rows) - height)) if height else 0
        self._lines = [self._line(row, index == self.at, width, palette)
                       for index, row in enumerate(self.rows) if index >= self._first]
        if not self.rows:
            self._lines = [Strip([Segment("No device with keys found. Plug one in and it appears here.",
                                          paint(palette.dim, palette.ground))])]
        self.refresh()

    def _line(self, row: DeviceRow, chosen: bool, width: int, palette: Palette) -> Strip:
        ground = palette.panel if chosen else palette.ground
        name_room = 34 if width >= 130 else 26
        where_room = 32 if width >= 130 else 20
        can_room = 22 if width >= 110 else 0
        heard, at = self._heard.get(row.id, (None, 0.0))
        pressed = bool(self._down.get(row.id))
        mark, colour = "·", palette.dim
        if row.surface:
            mark, colour = "◆", palette.verdigris
        elif row.main or not row.readable or row.deaf:
            mark = "—"
        if pressed:
            mark, colour = "●", palette.brass
        usable = not (row.main or row.surface) and row.readable
        name = paint(palette.brass if chosen else palette.text if usable else palette.dim, ground, bold=chosen)
        parts = [Segment("▸" if chosen else " ", paint(palette.brass, ground, bold=True)),
                 Segment(f"{mark} ", paint(colour, ground, bold=True)),
                 Segment(_cut(row.shown, name_room), name),
                 Segment(_cut(row.where + (", has a twin" if row.twin else ""), where_room),
                         paint(palette.dim, ground)),
                 Segment(_cut(row.can, can_room), paint(palette.dim, ground))]
        used = 3 + name_room + where_room + can_room
        last, style = "", paint(palette.dim, ground)
        if row.shown in self._open and not row.surface:
            meter = show_loudness(self._loud.get(row.id, -120.0))
            parts.append(Segment(f"{meter}  ", paint(palette.brass if pressed else palette.text, ground)))
            used += len(meter) + 2
        fresh = heard is not None and (pressed or time.monotonic() - at < FRESH)
        if heard is not None and (fresh or usable):
            style = paint(palette.brass if fresh else palette.text, ground, bold=fresh)
            key = "speech" if row.bus == SOUND else heard.key
            parts.append(Segment(f"{key}  ", style))
            used += len(key) + 2
            usage = f", usage {heard.usage}" if heard.usage else ""
            node = f", {heard.node}" if heard.node else ""
            raw = "" if row.bus == SOUND else heard.spelt or f"{heard.kernel} {heard.hex}"
            last, style = f"{raw}{usage}{node}", paint(palette.dim, ground)
        elif row.surface:
            last, style = f"is the surface {self._names.get(row.surface, row.surface)}", paint(
                palette.verdigris, ground)
        elif row.main:
            last = "your main keyboard; not taken over"
        elif not row.readable:
            last, style = "no permission to read it (a: allow)", paint(palette.rust, ground)
        elif row.deaf:
            last, style = row.deaf, paint(palette.rust, ground)
        parts.append(Segment(set_cell_size(last, max(0, width - used)), style))
        return Strip(parts).adjust_cell_length(width, paint(palette.text, ground))

    def render_line(self, y: int) -> Strip:
        """One line."""
        return self._lines[y] if y < len(self._lines) else Strip.blank(self.content_size.width)

    def on_resize(self, event: events.Resize) -> None:
        """Columns may be shown or hidden."""
        self.redraw()

    def action_step(self, by: int) -> None:
        """Choose the next device."""
        if self.rows:
            self.at = max(0, min(len(self.rows) - 1, self.at + by))
            self.redraw()
            self.post_message(self.Chosen())

    def on_click(self, event: events.Click) -> None:
        """Choose the device that was clicked."""
        index = event.y + self._first
        if index < len(self.rows):
            self.at = index
            self.redraw()
            self.post_message(self.Chosen())


def show_loudness(loud: float) -> str:
    """How loud it is, from -60 dB up, as a bar."""
    full = round(10 * min(1.0, max(0.0, (loud + 60) / 60)))
    return "▰" * full + "▱" * (10 - full)


def _cut(text: str, room: int) -> str:
    if not room:
        return ""
    return set_cell_size(text if len(text) < room else text[:room - 2] + "…", room)
