"""What several views do to the desk in the same way: bind, undo, stop, press on the bench, find, pin."""

from __future__ import annotations

import time

from textual import work
from textual.binding import Binding

from brass_pebble.core.play.told import TraceRow
from brass_pebble.protocol.base import Changed, Reply
from brass_pebble.protocol.desk import Stop, Stopped
from brass_pebble.screen.binding.panel import BindPanel
from brass_pebble.screen.known import Spot
from brass_pebble.screen.settings.desk import DeskPanel
from brass_pebble.screen.settings.surface import SurfacePanel

from .sheets import Sheet, explain
from .view import View

TAP_SECONDS = 0.09
# How far one key moves what is on the bench.
STRIDE = 0.05
# Keys that mean the same in every view that has them.
UNDO = (Binding("u", "undo", "undo", tooltip="undo, redo"), Binding("r", "redo", "redo", show=False,
                                                                  tooltip="undo, redo"))


def arrows(words: str) -> list[Binding]:
    """The arrow keys, which go from control to control: `action_go(dx, dy)`."""
    ways = {"up": "0, -1", "down": "0, 1", "left": "-1, 0", "right": "1, 0"}
    return [Binding(key, f"go({way})", "select", show=False, tooltip=words) for key, way in ways.items()]


STOP = Binding("x", "stop", "stop all", tooltip="stop everything, release everything")
QUIET_STOP = Binding("x", "stop", "stop all", show=False, tooltip="stop everything, release everything")


SETTINGS = (Binding("i", "settings", "settings", show=False,
                    tooltip="the surface's settings; redraw it, remove it"),
            Binding("D", "desk_settings", "the desk's settings", show=False,
                    tooltip="the desk's settings: times, typing, MIDI"))
# Views that any other one leads to, by the same capital letter; the desk's own help has their words.
VISITS = tuple(Binding(key, f"visit('{name}')", show=False) for key, name in (
    ("M", "meet"), ("K", "clashes"), ("C", "checkup"), ("N", "network"), ("L", "labels"), ("U", "usage"),
    ("V", "versions"), ("G", "asleep"), ("S", "values"), ("J", "phrases")))
OF_A_SURFACE = ("labels", "usage", "phrases")


class DeskActions(View):
    """A view whose keys change the desk."""

    @work(group="undo")
    async def action_undo(self) -> None:
        """Take the last change back."""
        if reply := await self.change("undo"):
            self.notify("Press r to redo.", title=reply.words, timeout=4)

    @work(group="undo")
    async def action_redo(self) -> None:
        """Do the last undone change again."""
        if reply := await self.change("redo"):
            self.notify("Press u to undo.", title=reply.words, timeout=4)

    @work(group="stop")
    async def action_stop(self) -> None:
        """Stop everything, release everything."""
        self.before_stop()
        if reply := await self.query_engine(Stopped, Stop()):
            count = reply.runs
            self.known.stopped = True
            self.after_stop()
            self.notify(f"{count} {'run' if count == 1 else 'runs'} stopped, nothing is down.", timeout=3)

    def after_stop(self) -> None:
        """Everything is stopped."""

    def before_stop(self) -> None:
        """What the view itself holds down is let go."""

    @work(group="layer")
    async def action_pin(self) -> None:
        """Leave the layers as they are, whatever gets the focus; or follow again."""
        pinned = not self.known.layers.pinned
        if await self.ask("focus", pin=pinned):
            self.notify("Layers stay as they are, whatever has the focus. Press the same key again to let them follow."
                        if pinned else "Layers follow the focus again.", timeout=4)

    @work(exclusive=True, group="settings")
    async def surface_settings(self, surface_id: str) -> None:
        """What is set for a surface; draw it again, try it, take it off the desk."""
        if self.known.surface(surface_id) is None:
            self.notify("No surfaces yet. M on the desk: meet a device.", timeout=4)
            return
        if goal := await self.app.push_screen_wait(SurfacePanel(surface_id, self.known, self.ask)):
            self.app.open_view("meet", surface=surface_id, step=goal)  # type: ignore[attr-defined]

    def here(self) -> Spot:
        """The surface and the control that are chosen; empty texts if none is."""
        return "", ""

    async def action_visit(self, name: str) -> None:
        """Go to a view from any other one; back to it if it is open below."""
        await self.app.visit(name, **({"surface": self.here()[0]} if name in OF_A_SURFACE else {}))  # type: ignore[attr-defined]

    def action_desk_settings(self) -> None:
        """What is set for the whole desk."""
        self.app.push_screen(DeskPanel(self.known, self.ask))

    async def bind(self, spot: Spot, *, layer: str = "", gesture: str = "") -> Reply | None:
        """Ask for another action of a control, and give it; the reply if it was given."""
        surface, control = self.known.surface(spot[0]), self.known.control(spot)
        if surface is None or control is None:
            return None
        reply = await self.app.push_screen_wait(BindPanel(
            surface, control, self.known.desk.macros, ask=self.ask, layer=layer, gesture=gesture,
            save=lambda fields: self.ask_or_say("bind", **fields)))
        if isinstance(reply, Changed):
            self.notify("Saved. u: undo.", title=reply.words, timeout=4)
        return reply

    @work(group="press")
    async def press(self, spot: Spot, *, down: bool) -> None:
        """Press a control of the bench, or of a surface that is pressed by hand; for others, say where to press it."""
        if not spot[1]:
            return
        surface = self.known.surface(spot[0])
        real = surface is not None and not surface.bench
        if surface is not None and real and surface.id not in self.known.by_hand:
            if down:
                text = "Press it on the device." if surface.state == "taken" else \
                    f"{surface.why or surface.state}.".capitalize()
                self.notify(f"{text} P: press this surface on the screen.", title=surface.name, timeout=5)
            return
        if down:
            self.known.pressed_here[spot] = time.time()
        await self.ask("press", surface=spot[0], control=spot[1], down=down, by_hand=real)

    def press_by_hand(self, surface_id: str) -> None:
        """Let the screen press a real surface, also while its device is missing; or no longer."""
        surface = self.known.surface(surface_id)
        if surface is None:
            return
        if surface.bench:
            self.notify("This surface is simulated: you can press it on the screen anyway.", timeout=4)
            return
        on = surface_id not in self.known.by_hand
        (self.known.by_hand.add if on else self.known.by_hand.discard)(surface_id)
        self.notify(f"The screen presses “{surface.name}”: with a click, or Enter. P ends it." if on else
                    f"The screen no longer presses “{surface.name}”.", timeout=5)

    def turn(self, spot: Spot, steps: int, *, axis: int = 0) -> None:
        """Move a control of the bench by a step of the screen: a detent, or a twentieth of its way."""
        row = self.known.control(spot)
        if row is None or not row.moves:
            if row is not None:
                self.notify("This control does not move. Enter presses it.", timeout=3)
            return
        if row.turns:
            self.move(spot, steps=steps)
            return
        at = list(self.known.at.get(spot, [0.0] * row.moves))
        at += [0.0] * (row.moves - len(at))
        axis = min(axis, row.moves - 1)
        wide = STRIDE * 2 if row.centred else STRIDE
        at[axis] = min(1.0, max(-1.0 if row.centred else 0.0, at[axis] + steps * wide))
        # The next key comes before the engine has told where it is.
        self.known.at[spot] = at
        self.move(spot, to=at)

    @work(group="press")
    async def move(self, spot: Spot, *, steps: int = 0, to: list[float] | None = None) -> None:
        """Turn or move a control of the bench."""
        surface = self.known.surface(spot[0])
        if surface is not None and not surface.bench:
            self.notify("Turn it on the device. The screen can only move controls on the bench.",
                        title=surface.name, timeout=4)
            return
        await self.ask("move", surface=spot[0], control=spot[1], steps=steps, to=to or [])

    def tap(self, spot: Spot) -> None:
        """Press a control and let it go a moment later."""
        self.press(spot, down=True)
        self.set_timer(TAP_SECONDS, lambda: self.press(spot, down=False))

    def open_curve(self, spot: Spot) -> None:
        """How a control's position is read."""
        control = self.known.control(spot)
        if control is not None and control.axes:
            self.app.open_view("curve", spot=spot)  # type: ignore[attr-defined]
        else:
            self.notify("This control does not move, so it has no curve.", timeout=4)

    def explain_last(self, spot: Spot) -> None:
        """The last press of a control, hop by hop."""
        trace = self.known.last_trace_of(spot)
        if trace is None:
            self.notify("This control has not been pressed yet.", timeout=3)
        else:
            self.show_trace(trace)

    def show_trace(self, trace: TraceRow) -> None:
        """One press, hop by hop."""
        self.app.push_screen(Sheet("A press, explained", explain(trace, self.palette)))
