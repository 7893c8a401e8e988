"""The Curve view: how a position is read.  The curve with the live position on it, changed by keys, live at once."""

from __future__ import annotations

import re
from dataclasses import fields, replace
from typing import Any, ClassVar

from msgspec.structs import asdict
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.widgets import Static

from brass_pebble.core.desk.look.drawn import ControlRow
from brass_pebble.core.play.axis import AxisSettings
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.core.say.setting import Flag, Number, Setting, Share, Time, settings_of, write_share
from brass_pebble.paper.curve import curve_page, say_settings
from brass_pebble.paper.label_files import write_pages
from brass_pebble.protocol.base import News
from brass_pebble.protocol.motion import Calibrate, Calibrated
from brass_pebble.screen.base.desk_actions import STOP, UNDO, VISITS, DeskActions
from brass_pebble.screen.base.one_surface import write_here
from brass_pebble.screen.known import NO_CONTROL, Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.path_bar import PathBar
from brass_pebble.screen.widgets.status_line import StatusLine

from .plot import CurvePlot

# What can be set here, and how far one key changes each kind of setting; some want finer steps.
KNOBS = tuple(row for row in settings_of(AxisSettings).values() if row.label)
STEPS: dict[type, float] = {Share: 0.01, Number: 0.1, Flag: 1, Time: 5 * MS}
FINER = {"still": 0.001}


def limits(knob: Setting) -> tuple[float, float]:
    """The least and the most that a setting can be."""
    kind = knob.kind
    return (kind.least, kind.most) if isinstance(kind, Share | Number | Time) else (0, 1)


def say_value(knob: Setting, settings: AxisSettings) -> str:
    """A setting's value in words."""
    value = getattr(settings, knob.name)
    if isinstance(knob.kind, Flag):
        return "yes" if value else "no"
    if isinstance(knob.kind, Time):
        return say_duration(value) if value else "none"
    return write_share(round(value, 4)) if isinstance(knob.kind, Share) else f"{value:.1f}"


class CurveView(DeskActions):
    """One axis of one control."""

    NAME = "Curve"
    CSS = """
    CurveView { layout: vertical; background: $background; }
    CurveView #body { height: 1fr; padding: 1 1 0 1; }
    CurveView #side { width: 52; padding: 0 0 0 2; }
    CurveView #names { height: 2; }
    CurveView #rows { height: 1fr; }
    CurveView #numbers { height: 6; }
    """

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up", "choose(-1)", "setting before", show=False, tooltip="choose a setting"),
        Binding("down", "choose(1)", "setting", tooltip="choose a setting"),
        Binding("left", "change(-1)", "less", tooltip="less, more"), Binding("right", "change(1)", "more",
                                                                             tooltip="less, more"),
        Binding("shift+left", "change(-10)", "much less", show=False, tooltip="ten times as much"),
        Binding("shift+right", "change(10)", "much more", show=False, tooltip="ten times as much"),
        Binding("tab", "axis", "other axis", tooltip="a stick's other axis"),
        Binding("equals_sign", "compare", "before / after", tooltip="feel it as it was before, and back"),
        Binding("f9", "calibrate", "calibrate", tooltip="calibrate: move it to its ends, then Enter"),
        Binding("enter", "done", "end calibration", show=False),
        Binding("delete", "plain", "as usual", show=False, tooltip="everything as usual"),
        Binding("ctrl+s", "export", "save as SVG", tooltip="save the curve as SVG"),
        Binding("left_square_bracket", "turn(-1)", "turn left", show=False, tooltip="move it, on the bench"),
        Binding("right_square_bracket", "turn(1)", "turn right", show=False, tooltip="move it, on the bench"),
        *UNDO, STOP, *VISITS,
    ]

    AUTO_FOCUS = "CurvePlot"

    def __init__(self, known: Known, link: Asks, spot: Spot) -> None:
        super().__init__(known, link)
        self.spot = spot
        self.axis = 0
        self.chosen = 0
        self._before: list[AxisSettings] = []
        self._after: AxisSettings | None = None
        self._calibrating = False
        self._wanted: dict[int, AxisSettings] = {}
        self._sending = 0

    def compose(self) -> ComposeResult:
        """The plot, and the settings beside it."""
        yield StatusLine(self.known)
        yield PathBar(self.known)
        with Horizontal(id="body"):
            yield CurvePlot()
            with Vertical(id="side"):
                yield Static("", id="names", markup=False)
                yield Static("", id="rows", markup=False)
                yield Static("", id="numbers", markup=False)
        yield KeyFooter()

    @property
    def row(self) -> ControlRow:
        """The control's row; empty if it went away."""
        return self.known.control(self.spot) or NO_CONTROL

    def settings(self, axis: int | None = None) -> AxisSettings:
        """How the axis is read now."""
        axes = self.row.axes
        at = self.axis if axis is None else axis
        if at in self._wanted:
            return self._wanted[at]
        if at >= len(axes):
            return AxisSettings()
        return AxisSettings(**asdict(axes[at]))

    async def show_all(self) -> None:
        """Draw everything."""
        row = self.row
        if not row.axes:
            self.notify("This control does not move any more.", timeout=4)
            self.app.pop_screen()
            return
        if not self._before:
            self._before = [self.settings(axis) for axis in range(len(row.axes))]
        plot = self.query_one(CurvePlot)
        plot.settings, plot.before = self.settings(), self._before[self.axis]
        plot.centred = bool(row.centred)
        plot.presses = not row.turns
        self.query_one(StatusLine).redraw()
        self.query_one(PathBar).show(self.spot, following=True)
        self._show_place()
        self._show_side()

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News: most often where it is now."""
        topic = message.topic
        if topic == "moves":
            if self.spot in changed:
                self._show_place()
        elif topic == "desk":
            await self.show_all()
        elif topic in ("trace", "layers"):
            self.query_one(PathBar).show(self.spot, following=True)
            self.query_one(StatusLine).redraw()

    @property
    def place(self) -> float:
        """Where the axis is."""
        at = self.known.at.get(self.spot, [])
        return float(at[self.axis]) if self.axis < len(at) else 0.0

    def _show_place(self) -> None:
        plot = self.query_one(CurvePlot)
        plot.at = self.place
        plot.redraw()
        palette, settings = self.palette, self.settings()
        response = settings.respond(self.place, centred=plot.centred)
        text = Text()
        text.append("now   ", style=palette.dim)
        text.append(f"{self.place * 100:6.1f} %", style=f"bold {palette.text}")
        text.append("  leads to  ", style=palette.dim)
        text.append(f"{response * 100:6.1f} %", style=f"bold {palette.verdigris}")
        text.append("\n")
        before = self._before[self.axis].respond(self.place, centred=plot.centred) if self._before else response
        text.append(f"before it would have led to {before * 100:.1f} %\n", style=palette.dim)
        raw = self.known.raw.get(self.spot, [])
        if self.axis < len(raw):
            text.append(f"the device reports {raw[self.axis]}", style=palette.dim)
        if self._calibrating:
            text.append("\n● Move it to both ends a few times, let it rest, then press "
                        "Enter.", style=f"bold {palette.brass}")
        elif self._after is not None:
            text.append("\n◌ before the change (=: after)", style=f"bold {palette.brass}")
        self.query_one("#numbers", Static).update(text)

    def _show_side(self) -> None:
        palette, row, settings = self.palette, self.row, self.settings()
        surface = self.known.surface(self.spot[0])
        names = Text()
        names.append(f"{surface.name if surface else ''} ▸ {row.legend}", style=f"bold {palette.brass}")
        if row.moves > 1:
            names.append(f"   {('across', 'down')[self.axis]}  (Tab: the other)", style=palette.dim)
        names.append(f"\n{row.sends}", style=palette.dim)
        self.query_one("#names", Static).update(names)
        rows = Text()
        for index, knob in enumerate(KNOBS):
            here = index == self.chosen
            value, was = say_value(knob, settings), say_value(knob, self._before[self.axis])
            rows.append("▸ " if here else "  ", style=palette.brass)
            rows.append(f"{knob.label:16}", style=f"bold {palette.brass}" if here else palette.text)
            style = f"bold {palette.text}" if here else palette.text
            rows.append(f"◂ {value} ▸" if here else f"  {value}", style=style)
            if value != was:
                rows.append(f"   was {was}", style=palette.dim)
            rows.append("\n")
            if here:
                rows.append(f"    {knob.means}\n", style=palette.dim)
        measured = [f"{name} {value}" for name in ("low", "centre", "high")
                    if (value := getattr(settings, name)) is not None]
        rows.append("\n  measured: ", style=palette.dim)
        rows.append(", ".join(measured) or "not yet; the range that the device reports is used (F9: "
                                           "calibrate)", style=palette.dim)
        self.query_one("#rows", Static).update(rows)

    # Changing.

    def action_choose(self, by: int) -> None:
        """Another setting."""
        self.chosen = (self.chosen + by) % len(KNOBS)
        self._show_side()

    def action_axis(self) -> None:
        """The stick's other axis."""
        if self.row.moves > 1:
            self.axis = 1 - self.axis
            self._after = None
            self.call_later(self.show_all)
        else:
            self.notify("It has only one axis.", timeout=3)

    def action_change(self, steps: int) -> None:
        """More or less of the chosen setting."""
        knob, settings = KNOBS[self.chosen], self.settings()
        value = getattr(settings, knob.name)
        low, high = limits(knob)
        if isinstance(knob.kind, Flag):
            changed: Any = not value
        else:
            changed = min(high, max(low, value + steps * FINER.get(knob.name, STEPS[type(knob.kind)])))
            changed = int(changed) if isinstance(knob.kind, Time) else round(changed, 4)
        self._after = None
        self._give(replace(settings, **{knob.name: changed}))

    def _give(self, settings: AxisSettings) -> None:
        # The next key comes before the engine has answered; what it tells meanwhile is older.
        self._wanted[self.axis] = settings
        self._send(settings)
        self.call_later(self.show_all)

    @work(group="axis")
    async def _send(self, settings: AxisSettings) -> None:
        self._sending += 1
        await self.ask("set_axis", surface=self.spot[0], control=self.spot[1], axis=self.axis,
                       **{field.name: getattr(settings, field.name) for field in fields(AxisSettings)})
        self._sending -= 1
        if not self._sending:
            self._wanted.clear()
            await self.show_all()

    def action_compare(self) -> None:
        """As it was when this view was opened, and back: felt on the device itself."""
        if self._after is None:
            self._after = self.settings()
            self._give(self._before[self.axis])
        else:
            settings, self._after = self._after, None
            self._give(settings)

    @work(group="axis")
    async def action_plain(self) -> None:
        """As usual for such a thing."""
        await self.ask("set_axis", surface=self.spot[0], control=self.spot[1], axis=self.axis, usual=True)

    @work(group="axis")
    async def action_calibrate(self) -> None:
        """Find the ends by moving it there."""
        if self.row.turns:
            self.notify("It has no ends: it only reports how far it was turned.", timeout=4)
        elif await self.ask("calibrate", surface=self.spot[0], control=self.spot[1], step="begin"):
            self._calibrating = True
            self._show_place()

    @work(group="axis")
    async def action_done(self) -> None:
        """The calibration is over: what was seen counts from now on."""
        if self._calibrating:
            self._calibrating = False
            if reply := await self.query_engine(Calibrated, Calibrate(surface=self.spot[0], control=self.spot[1],
                                                                      step="end")):
                self.notify("Saved. u: undo.", title=reply.words, timeout=5)
            self._show_place()

    async def action_leave(self) -> None:
        """End a calibration, or go back."""
        if self._calibrating:
            self._calibrating = False
            self._show_place()
        else:
            self.app.pop_screen()

    def action_turn(self, steps: int) -> None:
        """Move it, on the bench."""
        self.turn(self.spot, steps, axis=self.axis)

    def action_export(self) -> None:
        """Save the curve as a drawing, among the person's documents."""
        surface, row = self.known.surface(self.spot[0]), self.row
        name = f"{surface.name if surface else ''} {row.legend}"
        file = self.outside.exports() / (re.sub(r"[^a-z0-9]+", "-", f"{name} curve".lower()).strip("-") + ".svg")
        page = curve_page(name, self.settings(), self._before[self.axis], centred=bool(row.centred))
        self.run_worker(write_here(self, file, lambda: write_pages([page], file, name), "", "Saved the curve"))

    def more_help(self) -> list[tuple[str, str]]:
        return [("now", say_settings(self.settings()))]
