"""Recording: choose a device, a count-in, play, stop; what was played comes back as text.

Escape itself can be recorded: only pressed twice in quick succession on what is recorded does it end the recording.
"""

from __future__ import annotations

import asyncio
from typing import Any, ClassVar

from rich.text import Text
from textual import on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.timer import Timer
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from brass_pebble.client import EngineError
from brass_pebble.core.effects.kinds import KEY, kind_of
from brass_pebble.core.effects.pointer import REL_HWHEEL, REL_WHEEL, REL_X, REL_Y
from brass_pebble.core.macro.record import KEEPING, PLAYED, strokes_of, without_stop, write_recording
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import say_duration
from brass_pebble.core.signals.keys import key_table
from brass_pebble.protocol.devices import AskDevices, Devices
from brass_pebble.protocol.rows import DeviceRow
from brass_pebble.protocol.topics import HeardNews
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.known import Known
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.sketch import Sketch

COUNT_IN = 3
LONGEST = 120
STOP = "Escape"
# Two presses within this end a recording, in s.
TWICE_WITHIN = 0.5
WAYS = {"pointer x": REL_X, "pointer y": REL_Y, "wheel": REL_WHEEL, "wheel sideways": REL_HWHEEL}


class RecordSheet(ModalScreen[str]):
    """Returns macro text, or an empty one.  Only the chosen device is read, and only while the lamp is lit."""

    HEARS = ("heard",)
    DEFAULT_CSS = """
    RecordSheet { align: center middle; }
    RecordSheet > Vertical { width: 110; max-width: 98%; height: 34; max-height: 94%; background: $panel;
        border: round $primary; border-title-color: $primary; padding: 0 2; }
    RecordSheet #lamp { height: 1; margin: 1 0; }
    RecordSheet #told { height: auto; max-height: 6; color: $text-muted; }
    RecordSheet OptionList { height: auto; max-height: 9; background: $panel; padding: 0; }
    RecordSheet Sketch { height: 1fr; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "leave", "stop / leave"), Binding("i", "timing", "how time is kept"),
        Binding("o", "paths", "the pointer's way"),
    ]

    def __init__(self, known: Known, link: Asks) -> None:
        super().__init__()
        self.known, self.link = known, link
        self.keep = PLAYED
        self.paths = False
        self.events: list[tuple[int, int, int]] = []
        self.device: DeviceRow | None = None
        self.phase = "choose"
        self._left = 0
        self._stop_pressed = 0.0
        self._over_at: Timer | None = None

    def compose(self) -> ComposeResult:
        """The lamp, the devices, what came, and the bench's drawing."""
        with Vertical() as box:
            box.border_title = "Record"
            yield Static(id="lamp", markup=False)
            yield OptionList(markup=False)
            yield Static(id="told", markup=False)
            yield Sketch(id="bench")

    async def on_mount(self) -> None:
        """Offer the devices."""
        self.query_one(Sketch).display = False
        self.query_one(Sketch).can_focus = False
        self._offer()

    @work(group="record")
    async def _offer(self) -> None:
        try:
            found = await self.link.send(AskDevices())
        except EngineError as error:
            self.notify(str(error), severity="error")
            self.dismiss("")
            return
        assert isinstance(found, Devices)
        self.known.take_devices(found)
        options = self.query_one(OptionList)
        names = {s.id: s.name for s in self.known.desk.surfaces}
        for row in self.known.devices.devices:
            what = f"the surface {names.get(row.surface, '')}" if row.surface else row.where
            main = "   your main keyboard" if row.main else ""
            options.add_option(Option(f"{row.shown}   {what}{main}", id=row.id, disabled=not row.readable))
        options.highlighted = 0 if options.option_count else None
        options.focus()
        self._show()

    def _show(self) -> None:
        palette: Palette = self.app.palette  # type: ignore[attr-defined]
        lamp = self.query_one("#lamp", Static)
        if self.phase == "choose":
            what = "keys, clicks and the pointer's way" if self.paths else "keys and clicks"
            lamp.update(Text(f"○ Which device? Only this one is recorded: {what} (o).   Time is kept: {self.keep} (i)",
                             style=palette.text))
        elif self.phase == "count":
            lamp.update(Text(f"◔ {self._left} …   get ready on the {self.device and self.device.shown}",
                             style=f"bold {palette.brass}"))
        else:
            count = len(strokes_of(self.events, self.events[-1][2])) if self.events else 0
            ends = f"{STOP} twice" if self._types_here else f"{STOP} twice on it, Esc here"
            lamp.update(Text(f"● RECORDING the {self.device and self.device.shown}: "
                             f"{count} {'key' if count == 1 else 'keys'}   {ends}, or a click here: stop",
                             style=f"bold {palette.rust}"))
            names = key_table()
            latest = [f"{names.name(code)} {'down' if value else 'up'}" for code, value, _ in self.events[-12:]
                      if kind_of(code) is KEY]
            self.query_one("#told", Static).update(Text("   ".join(latest)))

    @on(OptionList.OptionSelected)
    def _chosen(self, event: OptionList.OptionSelected) -> None:
        self.device = next((r for r in self.known.devices.devices if r.id == event.option.id), None)
        if self.device is not None and self.phase == "choose":
            self._record()

    @work(group="record", exclusive=True)
    async def _record(self) -> None:
        device = self.device
        assert device is not None
        self.query_one(OptionList).display = False
        self.set_focus(None)
        sketch = self.query_one(Sketch)
        sketch.display = bool(device.shape)
        sketch.show(device.shape)
        self.phase = "count"
        for self._left in range(COUNT_IN, 0, -1):
            self._show()
            await asyncio.sleep(0.6)
        try:
            if device.surface:
                await self.link.ask("attend", surface=device.surface)
            else:
                await self.link.ask("listen", seconds=LONGEST, device=device.id, motion=self.paths)
        except EngineError as error:
            self.notify(str(error), severity="error")
            self.dismiss("")
            return
        self.phase = "record"
        self._over_at = self.set_timer(LONGEST, self._time_is_over)
        self._show()

    @property
    def _types_here(self) -> bool:
        """Whether what is recorded reaches this terminal, too."""
        return self.device is not None and not self.device.surface and self.device.kind == "evdev"

    def _time_is_over(self) -> None:
        if self.phase == "record":
            self.notify(f"Recording ended: it lasts {LONGEST} seconds at most.", timeout=6)
            self._finish(None)

    def hear(self, message: HeardNews) -> None:
        """The device sent something."""
        if self.phase != "record" or self.device is None or message.device != self.device.id:
            return
        if message.turned:
            if self.paths and message.turned in WAYS:
                self.events.append((WAYS[message.turned], message.steps, round(message.at * 1e9)))
            return
        self.events.append((message.typed, int(message.down), round(message.at * 1e9)))
        if message.down and message.key == STOP and self._stops(message.at):
            self._finish(message.typed)
            return
        self._show()

    def _stops(self, at: float) -> bool:
        """Whether this press of the stop key is the second of two."""
        before, self._stop_pressed = self._stop_pressed, at
        return at - before <= TWICE_WITHIN

    def on_click(self, event: Any) -> None:
        """A click on the lamp stops."""
        if self.phase == "record" and event.widget is self.query_one("#lamp"):
            self._finish(None)

    def _finish(self, stop: int | None) -> None:
        """End it; `stop` is the key that was pressed twice for it."""
        self.phase = "over"
        if self._over_at is not None:
            self._over_at.stop()
        played = self.events if stop is None else without_stop(without_stop(self.events, stop), stop)
        end = self.events[-1][2] if self.events else 0
        text = write_recording(played, end=end, keep=self.keep)
        if not text:
            self.notify("Nothing was played, so nothing is recorded.", timeout=4)
        else:
            self.notify(f"{say_count(len(text.splitlines()), 'line')}, "
                        f"{say_duration(end - self.events[0][2])}", timeout=3)
        self._leave(text)

    @work(group="leave")
    async def _leave(self, text: str) -> None:
        try:
            await self.link.ask("hush")
            await self.link.ask("attend", surface="")
        except EngineError:
            # The engine has gone, and its listening with it.
            pass
        self.dismiss(text)

    @on(Sketch.Picked)
    def _picked(self, message: Sketch.Picked) -> None:
        if self.device is not None:
            self._press(self.device.id, message.row.code, down=message.down)

    @work(group="press")
    async def _press(self, device: str, code: int, *, down: bool) -> None:
        try:
            await self.link.ask("press", device=device, code=code, down=down)
        except EngineError as error:
            self.notify(str(error), severity="error")

    def action_timing(self) -> None:
        """Another way of keeping time."""
        if self.phase == "choose":
            self.keep = KEEPING[(KEEPING.index(self.keep) + 1) % len(KEEPING)]
            self._show()

    def action_paths(self) -> None:
        """Record the way of a pointer, or not."""
        if self.phase == "choose":
            self.paths = not self.paths
            self._show()

    def action_leave(self) -> None:
        """Stop recording, or leave without."""
        if self.phase == "record":
            if self._types_here:
                # The same press is heard from the keyboard itself: two of them end it, one is recorded.
                return
            self._finish(None)
        else:
            self.workers.cancel_group(self, "record")
            self._leave("")
