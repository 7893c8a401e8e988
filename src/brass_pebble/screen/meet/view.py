"""The Meet view: from a pile of spare hardware to a surface, without editing a file."""

from __future__ import annotations

import asyncio
import time
from dataclasses import replace
from typing import ClassVar

from rich.text import Text
from textual import events, on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from brass_pebble.core.desk.look.drawn import ControlRow, DrawnRow
from brass_pebble.core.devices.grip import IN_WORDS
from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.base import News
from brass_pebble.protocol.devices import AskDevices, AskProposals, Devices, Proposal, Proposals
from brass_pebble.protocol.rows import DeviceRow
from brass_pebble.protocol.topics import DeskNews, DevicesNews, HeardNews, LoudnessNews, PressNews
from brass_pebble.screen.base.view import View
from brass_pebble.screen.known import Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch
from brass_pebble.screen.widgets.status_line import StatusLine

from .device_list import DeviceList
from .phases import KEEP, Draw, Phase, Try, Which

STEPS = ("Which one is it?", "Take it over", "Draw it", "Try it")


_GO_ON = "take it over; use this drawing; done"
_TWICE = "which of two presses that come together is swallowed; 0: neither"
_SIZE = "wider, narrower, taller, flatter"
_WAYS = {"up": "0, -1", "down": "0, 1", "left": "-1, 0", "right": "1, 0"}


class MeetView(View):
    """Chooses between the steps; each of them owns its work."""

    NAME = "Meet"
    ALSO = (("press", "a key on a device: it is chosen"), ("the way back", f"with the device alone: {IN_WORDS}"),
            ("Tab", "to the bench's drawing and back"))
    DEFAULT_CSS = """
    MeetView { background: $background; }
    MeetView #steps { height: 1; padding: 0 1; margin: 1 0 0 0; }
    MeetView #prompt { height: auto; min-height: 1; padding: 0 1; margin: 0 0 1 0; }
    MeetView #drawn { height: 1fr; display: none; }
    MeetView #drawn.shown { display: block; }
    MeetView OptionList { width: 46; height: 1fr; border: none; background: $background; padding: 0 1; display: none; }
    MeetView OptionList.shown { display: block; }
    MeetView #bench-box { height: 1fr; display: none; border-top: solid $panel; }
    MeetView #bench-box.shown { display: block; }
    MeetView #bench-says { height: 1; padding: 0 1; color: $text-muted; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("enter", "do('take')", "take it over", tooltip=_GO_ON),
        Binding("enter", "do('use')", "use this drawing", tooltip=_GO_ON),
        Binding("enter", "do('finish')", "done", tooltip=_GO_ON),
        Binding("enter", "do('done')", "ready", tooltip=_GO_ON),
        Binding("f3", "do('main')", "mark my main keyboard", tooltip="mark the keyboard you type on"),
        Binding("f5", "do('listen')", "listen again"),
        Binding("f6", "do('speak')", "hear the microphones",
                tooltip="open the microphones, to choose one by speaking into it"),
        Binding("1", "swallow(1)", "swallow the first", show=False, tooltip=_TWICE),
        Binding("2", "swallow(2)", "swallow the second", show=False, tooltip=_TWICE),
        Binding("0", "swallow(0)", "keep both", show=False, tooltip=_TWICE),
        Binding("o", "do('plug')", "pull out / plug in", tooltip="pull a device of the bench out, plug it in again"),
        Binding("a", "do('allow')", "allow reading", tooltip="allow this device to be read"),
        Binding("n", "do('walk')", "walk the keys"),
        Binding("d", "do('change')", "change it", tooltip="change a drawing, or redraw"),
        Binding("d", "do('redraw_it')", "redraw", tooltip="change a drawing, or redraw"),
        Binding("delete", "do('skip')", "it has none"),
        Binding("backspace", "do('back')", "back", tooltip="one step back"),
        Binding("n", "do('new_row')", "new row"),
        Binding("home", "do('row_key')", "row key", tooltip="the next key pressed begins rows"),
        Binding("plus", "do('wider')", "wider", tooltip=_SIZE), Binding("minus", "do('narrower')", "narrower",
                                                                        tooltip=_SIZE),
        Binding("asterisk", "do('taller')", "taller", tooltip=_SIZE), Binding("slash", "do('flatter')", "flatter",
                                                                              tooltip=_SIZE),
        Binding("f2", "do('name')", "name", tooltip="name the drawing"),
        Binding("delete", "do('leave_out')", "leave out"),
        Binding("u", "do('undo')", "undo"),
        Binding("ctrl+r", "do('again')", "start over", tooltip="start drawing over"),
        *(Binding(key, f"select({way})", "", show=False, tooltip="choose a device, a drawing or a control")
          for key, way in _WAYS.items()),
        *(Binding(f"shift+{key}", f"shift({way})", "", show=False, tooltip="move the marked control")
          for key, way in _WAYS.items()),
        Binding("k", "keep", "keep it", tooltip="keep a keyboard that was taken on trial"),
        Binding("C", "checkup", "checkup", show=False),
        Binding("escape", "leave", "desk", tooltip="back to the desk"),
    ]
    AUTO_FOCUS = "DeviceList"

    def __init__(self, known: Known, link: Asks, surface: str = "", step: str = "which") -> None:
        super().__init__(known, link)
        self.surface_id, self._first = surface, step
        self.phase: Phase = Which(self)
        self.heard_from: set[str] = set()
        self._last: HeardNews | None = None
        self._typed = ""
        self._until = 0.0

    def compose(self) -> ComposeResult:
        """From top to bottom: where one is, what is asked, the devices, the drawing, the bench."""
        yield StatusLine(self.known)
        yield PathBar(self.known)
        yield Static(id="steps", markup=False)
        yield Static(id="prompt", markup=False)
        yield DeviceList()
        with Horizontal(id="drawn"):
            yield OptionList(markup=False)
            yield Sketch(id="drawing", empty="nothing drawn yet")
        with Vertical(id="bench-box"):
            yield Static(id="bench-says", markup=False)
            yield Sketch(id="bench")
        yield KeyFooter()

    async def on_mount(self) -> None:
        """Ask what is here, and begin."""
        # The view's own keys choose and mark; only the devices and the bench are walked with Tab.
        for widget in (self.query_one(OptionList), self.query_one("#drawing"), self.query_one(PathBar)):
            widget.can_focus = False
        self.set_interval(0.5, self._tick)
        self._begin()

    @work(group="step")
    async def _begin(self) -> None:
        if reply := await self.query_engine(Devices, AskDevices()):
            self.known.take_devices(reply)
        if self.surface_id:
            await self.go_on(self.surface_id, self._first)
        else:
            await self.phase.enter()
        await self.show_all()

    # What steps need.

    @property
    def rows(self) -> list[DeviceRow]:
        """The devices that are here."""
        return list(self.known.devices.devices)

    @property
    def device(self) -> DeviceRow | None:
        """The device that this is about."""
        if self.surface_id:
            return next((row for row in self.rows if row.surface == self.surface_id), None)
        return self.query_one(DeviceList).chosen

    async def pause(self, seconds: float) -> None:
        """Wait."""
        await asyncio.sleep(seconds)

    async def proposals(self, device: str) -> list[Proposal] | None:
        """Drawings that may suit a device; None if it is gone."""
        reply = await self.query_engine(Proposals, AskProposals(device=device))
        return reply.proposals if reply else None

    def choose(self, device: str) -> None:
        """Put the cursor on a device."""
        self.query_one(DeviceList).choose(device)

    def surface_controls(self) -> list[ControlRow]:
        """The controls of the surface that is drawn or tried."""
        surface = self.known.surface(self.surface_id)
        return surface.controls if surface else []

    def show_phrases(self, surface: str) -> None:
        """Go on with the phrases of a microphone that was taken over."""
        self.app.pop_screen()
        self.app.open_view("phrases", surface=surface)  # type: ignore[attr-defined]

    def draw(self, controls: list[DrawnRow], *, seen: set[str] | None = None, selected: str = "") -> None:
        """Show a drawing."""
        sketch = self.query_one("#drawing", Sketch)
        sketch.selected = selected or sketch.selected
        sketch.show(controls, seen=seen)

    def marked(self) -> str:
        """The control marked on the drawing."""
        return self.query_one("#drawing", Sketch).selected

    def mark(self, control: str) -> None:
        """Mark a control on the drawing."""
        sketch = self.query_one("#drawing", Sketch)
        sketch.selected = control or sketch.selected
        sketch.redraw()

    def list_proposals(self, texts: list[str]) -> None:
        """Offer drawings."""
        options = self.query_one(OptionList)
        options.clear_options()
        options.add_options([Option(text) for text in texts])
        if texts:
            options.highlighted = 0

    def choose_proposal(self, by: int) -> None:
        """Choose the next drawing, or the one before."""
        options = self.query_one(OptionList)
        if options.option_count:
            options.highlighted = max(0, min(options.option_count - 1, (options.highlighted or 0) + by))

    def proposal_at(self) -> int:
        """Which drawing is chosen."""
        return self.query_one(OptionList).highlighted or 0

    async def go_on(self, surface_id: str, step: str, proposals: list[Proposal] | None = None) -> None:
        """To another step, about a surface."""
        self.surface_id = surface_id
        await self.ask("attend", surface=surface_id)
        self.phase = Draw(self, proposals) if step == "draw" else Try(self)
        await self.phase.enter()
        self.lay_out()
        if self.focused is not self.query_one("#bench"):
            self.set_focus(None)

    # News.

    async def show_all(self) -> None:
        """Draw everything."""
        if not self.is_mounted:
            return
        names = {s.id: s.name for s in self.known.desk.surfaces}
        self.query_one(DeviceList).show(self.rows, names, self.known.devices.open_microphones)
        self._until = time.monotonic() + self.known.devices.left_ms / 1000
        if self.surface_id and self.known.surface(self.surface_id) is None:
            # Undone, taken off the desk, or a trial that nobody confirmed.
            self.surface_id, self.phase = "", Which(self)
            self._enter_step()
        self.lay_out()

    @work(group="step")
    async def _enter_step(self) -> None:
        await self.phase.enter()
        self.lay_out()

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News of the devices."""
        if isinstance(message, HeardNews):
            self._last = message
            if message.down:
                self.heard_from.add(message.device)
            self.query_one(DeviceList).hear(message)
            self._light(message)
            self._watch_for_keep(message)
            await self.phase.heard(message)
            self.lay_out()
        elif isinstance(message, LoudnessNews):
            devices = self.query_one(DeviceList)
            devices.hear_loudness(message)
            # Several hear the same voice; the one that is spoken into hears it best.
            if message.speaking and devices.is_loudest(message.device):
                devices.choose(message.device)
        elif isinstance(message, DevicesNews | DeskNews):
            await self.show_all()
        elif isinstance(message, PressNews):
            self.query_one(StatusLine).redraw()

    def _light(self, message: HeardNews) -> None:
        for name in ("#bench", "#drawing"):
            sketch = self.query_one(name, Sketch)
            (sketch.down.add if message.down else sketch.down.discard)(message.code)
            sketch.redraw()

    def _watch_for_keep(self, message: HeardNews) -> None:
        """The last keyboard is kept by typing the word on it."""
        if message.down and self._on_trial():
            self._typed = (self._typed + message.key)[-len(KEEP):]
            if self._typed == KEEP:
                self.action_keep()

    def _on_trial(self) -> bool:
        surface = self.known.surface(self.surface_id)
        return bool(surface and surface.trial)

    @work(group="keep")
    async def action_keep(self) -> None:
        """Keep the last keyboard, which would give itself back."""
        if await self.ask("keep", surface=self.surface_id):
            self.notify("It stays a surface. Esc, then i and “remove it from the desk” gives it back.", timeout=6)

    # What is shown.

    def lay_out(self) -> None:
        """Show what belongs to the step."""
        if not self.is_mounted:
            return
        self._show_words()
        which = self.phase.number == 1
        devices, device = self.query_one(DeviceList), self.device
        devices.display = which
        self.query_one("#drawn").set_class(not which, "shown")
        choosing = isinstance(self.phase, Draw) and self.phase.walk is None and self.phase.learning is None
        self.query_one(OptionList).set_class(choosing, "shown")
        bench = bool(device and device.shape)
        self.query_one("#bench-box").set_class(bench, "shown")
        if device and bench:
            self.query_one("#bench-says", Static).update(
                f"ON THE BENCH   {device.shown}, {device.where}: click its keys, or Tab here, arrows and Enter")
            sketch = self.query_one("#bench", Sketch)
            if sketch.controls != device.shape:
                sketch.selected = ""
                sketch.show(device.shape)
        self.refresh_bindings()
        if which and self.focused is None:
            devices.focus()

    def _show_words(self) -> None:
        palette = self.palette
        line = Text(no_wrap=True, overflow="ellipsis")
        for number, title in enumerate(STEPS, 1):
            here, past = number == self.phase.number, number < self.phase.number
            style = f"bold {palette.brass}" if here else palette.verdigris if past else palette.dim
            line.append(f"{'✓' if past else number} {title}", style=style)
            line.append("   ─   " if number < len(STEPS) else "", style=palette.dim)
        self.query_one("#steps", Static).update(line)
        prompt = Text(self.phase.prompt(), style=f"bold {palette.text}")
        if self._on_trial():
            prompt = Text("On trial: given back after ten seconds. To keep it, type keep on it or press k.",
                          style=f"bold {palette.rust}")
        elif self.phase.number == 1:
            left = self._until - time.monotonic()
            count = len([row for row in self.rows if not row.surface])
            listening = f"   listening to {say_count(count, 'device')}, {left:.0f} s left" if left > 0.5 else \
                "   not listening (F5: listen again)"
            prompt.append(listening, style=palette.dim if left > 0.5 else palette.rust)
        self.query_one("#prompt", Static).update(prompt)
        self.query_one(StatusLine).redraw()
        self.query_one(PathBar).set_hops(self._hops())

    def _hops(self) -> list[Hop]:
        device, last = self.device, self._last
        if device is None:
            return [Hop("no device yet", "device")]
        hops = [Hop(device.shown, "device")]
        if last is not None and last.device == device.id:
            hops.append(Hop(last.key, "device"))
        surface = self.known.surface(device.surface)
        if surface is None:
            hops.append(Hop("your main keyboard, never taken over", "device") if device.main
                        else Hop("not a surface yet" if device.by_messages
                                 else "not a surface yet: its keys reach all programs", "device"))
        else:
            if surface.name != device.shown:
                hops.append(Hop(surface.name, "device"))
            hops += [Hop("setting up: keys are inactive" if self.surface_id else
                                                         f"{say_count(len(surface.controls), 'control')}", "device")]
        return hops

    def _tick(self) -> None:
        if self.phase.number == 1 or self._on_trial():
            self._show_words()

    def on_resize(self, event: events.Resize) -> None:
        """Another scale may fit."""
        self.call_after_refresh(self.lay_out)

    # Keys.

    def help_bindings(self) -> list[Binding]:
        """Those of the step that one is in, by what each does there."""
        return [replace(row, tooltip="") if row.description else row for row in super().help_bindings()
                if self._is_of_this_step(row)]

    def _is_of_this_step(self, row: Binding) -> bool:
        name, _, given = row.action.rstrip(")").partition("(")
        return given.strip("'") in self.phase.keys if name == "do" else \
            name in self.phase.keys or name not in ("swallow", "select", "shift")

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys of the step that one is in."""
        keys = self.phase.keys
        if action == "do":
            if parameters[0] == "plug":
                device = self.device
                return "plug" in keys and bool(self.known.devices.pulled
                                               or (device and device.kind == "bench"))
            return parameters[0] in keys
        if action == "keep":
            return self._on_trial()
        return action in keys if action in ("swallow", "select", "shift") else True

    @work(group="step")
    async def action_do(self, what: str) -> None:
        """One of the step's keys."""
        if isinstance(self.phase, Which) and what != "listen" and await self.phase.echoed():
            return
        await self.phase.do(what)
        self.lay_out()

    @work(group="step")
    async def action_swallow(self, number: int) -> None:
        """Which of two that come together is dropped."""
        if isinstance(self.phase, Which) and not await self.phase.echoed():
            self.phase.swallow(number)
            self.lay_out()

    def action_select(self, dx: int, dy: int) -> None:
        """Mark another control of the drawing."""
        if isinstance(self.phase, Draw):
            self.phase.select(dx, dy)

    @work(group="step")
    async def action_shift(self, dx: int, dy: int) -> None:
        """Move the marked control."""
        await self.phase.do(f"shift {dx} {dy}")
        self.lay_out()

    @on(DeviceList.Chosen)
    def _device_chosen(self) -> None:
        self.lay_out()

    @on(OptionList.OptionHighlighted)
    def _proposal_shown(self, event: OptionList.OptionHighlighted) -> None:
        if isinstance(self.phase, Draw):
            self.phase.preview(event.option_index)

    @on(OptionList.OptionSelected)
    def _proposal_taken(self) -> None:
        self.action_do("use")

    @on(Sketch.Picked)
    def _picked(self, message: Sketch.Picked) -> None:
        if message.sketch.id == "bench" and self.device is not None:
            self._press_bench(self.device.id, message.row.code, down=message.down)

    @work(group="press")
    async def _press_bench(self, device: str, code: int | str, *, down: bool) -> None:
        await self.ask("press", device=device, code=code, down=down)

    def action_checkup(self) -> None:
        """What is wrong on this machine."""
        self.app.open_view("checkup")  # type: ignore[attr-defined]

    async def action_leave(self) -> None:
        """Back to the desk, at the surface that was met."""
        if self.known.connected:
            await self.ask("hush")
            await self.ask("attend", surface="")
        self.app.pop_screen()
        if self.surface_id:
            self.app.desk_view.show_surface(self.surface_id)  # type: ignore[attr-defined]

