"""The steps of meeting a device.  Each knows what to ask, which keys it has, and what a press on the device means."""

from __future__ import annotations

import subprocess
import sys
import time
from dataclasses import replace
from typing import Any

from brass_pebble.core.desk.look.drawn import DrawnRow
from brass_pebble.core.desk.look.shown import place_of
from brass_pebble.core.desk.model import ON_TRIAL
from brass_pebble.core.devices.grip import IN_WORDS
from brass_pebble.core.devices.identity import SOUND
from brass_pebble.core.devices.layout import Control, Layout
from brass_pebble.core.devices.walk import STEP, Learning, Walk, leave_out, move, rename, resize
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.signals.signal import from_wire, signal_name, wire
from brass_pebble.protocol.devices import Proposal, Taken
from brass_pebble.protocol.topics import ArrivedRow, DoubleRow, HeardNews
from brass_pebble.screen.base.sheets import AskText, Choose
from brass_pebble.screen.widgets.sketch import next_control

from .room import MeetRoom

# A key of a device that is not taken over reaches this terminal, too, a moment before or after the engine hears it.
ECHO = 0.25
ECHO_WAIT = 0.09
LISTEN_SECONDS = 30
STEERING = ("Enter", "Up", "Down", "Left", "Right", "Tab", "Escape", "N", "L", "1", "2", "0")
KEEP = "KEEP"


class Phase:
    """What the steps have in common."""

    number = 0
    title = ""
    keys: tuple[str, ...] = ()

    def __init__(self, view: MeetRoom) -> None:
        self.view = view

    def prompt(self) -> str:
        """What the person is asked to do."""
        return ""

    async def enter(self) -> None:
        """The step begins."""

    async def heard(self, message: HeardNews) -> None:
        """The device sent something."""

    async def do(self, what: str) -> None:
        """One of the step's keys."""


class Which(Phase):
    """Which one is it?  Listens to every device without taking any over."""

    number, title = 1, "Which one is it?"
    keys = ("take", "main", "listen", "speak", "swallow", "plug", "allow")

    def __init__(self, view: MeetRoom) -> None:
        super().__init__(view)
        self.asks_main = False
        self.double: DoubleRow | None = None
        self.quiet: tuple[str, str] | None = None
        self.second: list[int | str] = []
        self._last_other = 0.0

    def prompt(self) -> str:
        if self.asks_main:
            return "First, press any key on the keyboard you type on. It is never taken over."
        if self.double is not None and self.quiet is None:
            first, second = self.double.first, self.double.second
            both = f"{first.key} ({_place(first)}) and {second.key} ({_place(second)})"
            sure = "" if self.double.times > 1 else " Press it once more to be sure."
            return (f"One press arrived twice: {both}, {self.double.apart_ms:.1f} ms apart. The pad itself stores a "
                    f"mapping that doubles it.{sure} Swallow:  1 {first.key}   2 {second.key}   0 neither")
        device = self.view.device
        if device is not None and not device.readable:
            return f"The system does not let you read “{device.shown}”. Press a to allow it, for this device alone."
        if device is not None and device.id in self.view.heard_from and not (
                device.surface or device.main):
            return f"That is the {device.shown}, {device.where}. Enter: take it over. Or press a key on another device."
        if self.view.known.devices.open_microphones:
            return "Speak into the microphone you want to use."
        spoken = any(row.bus == SOUND and not row.surface for row in self.view.rows)
        return "Press any key on the device you want to use." + (" F6: choose a microphone by speaking." if spoken
                                                                  else "")

    async def enter(self) -> None:
        keyboards = [row for row in self.view.known.devices.devices if not row.by_messages]
        self.asks_main = bool(keyboards) and not self.view.known.devices.main_known
        await self.do("listen")

    async def heard(self, message: HeardNews) -> None:
        row = next((r for r in self.view.rows if r.id == message.device), None)
        if row is None:
            return
        # What steers this screen comes from the keyboard one types on, and chooses no device.
        unknown = not self.view.known.devices.main_known
        steers = row.main or (row.full and unknown and message.key in STEERING)
        # What comes as messages reaches no terminal, and is no keyboard to type on.
        by_messages = row.by_messages
        if by_messages:
            self.asks_main = False
        if not steers and not row.bench and not by_messages:
            self._last_other = time.monotonic()
        if not message.down or (steers and not self.asks_main):
            return
        if row.bus == SOUND:
            return
        self.view.choose(message.device)
        if self.asks_main:
            if not message.turned:
                self.asks_main = False
                await self.view.ask("main", device=message.device)
            return
        if self.quiet == (message.device, message.node) and message.code not in self.second:
            self.second.append(message.code)
        if message.double and self.quiet is None:
            self.double = message.double

    async def do(self, what: str) -> None:
        if what == "listen":
            await self.view.ask("listen", seconds=LISTEN_SECONDS)
        elif what == "speak":
            self.asks_main = False
            await self.view.ask("listen", seconds=LISTEN_SECONDS, microphones=True)
        elif what == "allow":
            await self._allow()
        elif what == "main":
            self.asks_main = not self.asks_main
        elif what == "plug":
            await self._plug()
        elif what == "take":
            await self._take()

    async def _allow(self) -> None:
        """Have the system let this person read the chosen device: one rule for it, written by the setup."""
        device = self.view.device
        if device is None or device.readable:
            self.view.notify("You may read this device already.", timeout=4)
            return
        words = ["sudo", *own_command(), "setup", "--apply", "--device",
                 f"{device.vendor}:{device.product}:{device.name}"]
        chosen = await self.view.app.push_screen_wait(Choose(
            "Allow reading", f"This adds one line to /etc/udev/rules.d/70-brass-pebble.rules: whoever sits at this "
            f"computer may read “{device.shown}” ({device.vendor}:{device.product}). Nothing else is opened. "
            "It asks for your password; “brass-pebble setup --remove” undoes it.", ["Allow it", "Cancel"]))
        if chosen != 0:
            return
        with self.view.app.suspend():
            done = subprocess.run(words, check=False)
            if done.returncode:
                input("It did not work; see above. Enter: go back. ")
        await self.view.ask("devices")

    async def echoed(self) -> bool:
        """Whether a key that reached this terminal came from a device that is being met, not from the main keyboard."""
        await self.view.pause(ECHO_WAIT)
        return time.monotonic() - self._last_other < ECHO

    def swallow(self, number: int) -> None:
        """Which of two that come together is dropped: 1, 2, or 0 for neither."""
        if self.double is None:
            return
        parts = [self.double.first, self.double.second]
        if number:
            chosen = parts[number - 1]
            self.quiet = (chosen.device, chosen.node)
            self.second = [chosen.code]
            self.view.choose(parts[2 - number].device)
        self.double = None

    async def _plug(self) -> None:
        pulled, device = self.view.known.devices.pulled, self.view.device
        if pulled:
            await self.view.ask("bench", device=pulled[0].id, there=True)
        elif device is not None and device.kind == "bench":
            await self.view.ask("bench", device=device.id, there=False)

    async def _take(self, typed: str = "") -> None:
        device = self.view.device
        if device is None:
            return
        if device.surface:
            await self.view.go_on(device.surface, "draw")
            return
        proposals = await self.view.proposals(device.id)
        if proposals is None:
            return
        fields: dict[str, Any] = {"device": device.id, "typed": typed, "second": self.second}
        if self.quiet and self.quiet[0] != device.id:
            fields["also"] = [self.quiet[0]]
        if proposals:
            best = proposals[0]
            fields["layout"] = best.layout
            fields["size"] = [max(c.x + c.w for c in best.controls), max(c.y + c.h for c in best.controls)]
            fields["keys"] = {c.id: c.code for c in best.controls} if best.learn else {}
        if device.parts:
            chosen = await self.view.app.push_screen_wait(Choose(
                "Which parts?", f"Which parts of {device.shown} should be taken over? The others go on working as "
                                "before.",
                [words for words, _ in device.parts]))
            if chosen < 0:
                return
            fields["takes"] = device.parts[chosen][1]
        if device.last_keyboard and not typed and (not fields.get("takes") or "keys" in fields["takes"]):
            typed = await self.view.app.push_screen_wait(AskText(
                "Your only keyboard", f"{device.shown} is the only full keyboard here. Taken over, it types nothing "
                f"any more. It gives itself back after ten seconds, unless you keep it. To try, type: {ON_TRIAL}"))
            if not typed:
                return
            fields["typed"] = typed
        reply = await self.view.ask("take", **fields)
        if isinstance(reply, Taken):
            await self.view.ask("hush")
            if device.bus == SOUND:
                self.view.show_phrases(reply.surface)
                return
            await self.view.go_on(reply.surface, "draw", proposals)


class Draw(Phase):
    """Draw it: a drawing that is there, or one that grows as the keys are pressed."""

    number, title = 3, "Draw it"

    def __init__(self, view: MeetRoom, proposals: list[Proposal] | None = None) -> None:
        super().__init__(view)
        self.proposals = proposals or []
        self.learning: Learning | None = None
        self.walk: Walk | None = None
        self._history: list[Layout] = []
        self._next_is_row_key = False
        self._words = ""

    @property
    def keys(self) -> tuple[str, ...]:  # type: ignore[override]
        if self.walk is not None:
            return ("finish", "new_row", "row_key", "wider", "narrower", "taller", "flatter", "name", "leave_out",
                    "undo", "select", "shift", "again")
        return ("skip", "back", "again") if self.learning is not None else ("use", "walk", "change", "select")

    def prompt(self) -> str:
        words = f"{self._words}.  " if self._words else ""
        if self.walk is not None:
            if self._next_is_row_key:
                return "Press the key that should start new rows."
            count = len(self.walk.layout.controls)
            if not count:
                return ("Press the keys in reading order. n: new row. Home: choose a key of the device that "
                        "starts new rows.")
            return f"{words}{count} drawn. Go on, or arrows and + − * / i Del change the marked one. Enter: done."
        if self.learning is not None:
            left = sum(c.id not in self.learning.keys for c in self.learning.layout.controls)
            return (f"{words}Press “{self.learning.wanted}” on the device ({left} to go). Del: it has none, "
                    "Backspace: back.")
        if not self.proposals:
            return "No drawing for this device. n: draw it by pressing the keys one after the other."
        return "Choose a drawing. Enter: use it. d: change it. n: draw it by pressing the keys."

    async def enter(self) -> None:
        if not self.proposals:
            device = self.view.device
            self.proposals = (await self.view.proposals(device.id) if device else None) or []
        self.view.list_proposals([_say(p) for p in self.proposals])
        self._show()

    def preview(self, index: int) -> None:
        """Show a proposal."""
        if self.walk is None and self.learning is None and index < len(self.proposals):
            self.view.draw(self.proposals[index].controls)

    def _show(self) -> None:
        if self.walk is not None:
            self.view.draw([_row(c) for c in self.walk.layout.controls])
        elif self.learning is not None:
            rows = [_row(replace(c, code=self.learning.keys.get(c.id, 0))) for c in self.learning.layout.controls]
            self.view.draw(rows, seen=set(self.learning.keys), selected=self.learning.wanted)
        else:
            self.preview(self.view.proposal_at())
        self.view.lay_out()

    async def heard(self, message: HeardNews) -> None:
        if not message.down or message.turned:
            return
        if self.walk is not None:
            if self._next_is_row_key:
                self._next_is_row_key, self.walk.row_key = False, from_wire(message.code)
                self._words = f"{message.key} begins a new row from now on"
            else:
                self._history.append(self.walk.layout)
                walked = self.walk.press(from_wire(message.code))
                self._words = walked.words
                self._show()
                self.view.mark(walked.control)
                return
        elif self.learning is not None:
            self._words = self.learning.press(from_wire(message.code)).words
            if not self.learning.wanted:
                await self._learnt()
                return
        self._show()

    async def do(self, what: str) -> None:
        if what == "use":
            await self._use()
        elif what in ("walk", "change"):
            self._begin_walk(self._chosen_layout() if what == "change" else Layout("new", "", ()))
        elif what == "again":
            self.walk = self.learning = None
            self._words = ""
        elif what == "skip" and self.learning is not None:
            self.learning.skip()
            if not self.learning.wanted:
                await self._learnt()
                return
        elif what == "back" and self.learning is not None:
            self.learning.back()
        elif self.walk is not None:
            await self._edit(what)
            return
        self._show()

    def _begin_walk(self, layout: Layout) -> None:
        self.walk, self._history, self._words = Walk(layout), [], ""

    def _chosen_layout(self) -> Layout:
        if not self.proposals:
            return Layout("new", "", ())
        return _layout(self.proposals[self.view.proposal_at()])

    async def _use(self) -> None:
        if not self.proposals:
            return
        proposal = self.proposals[self.view.proposal_at()]
        if proposal.learn:
            self.learning = Learning(_layout(proposal))
            self._words = ""
        elif await self.view.ask("draw", surface=self.view.surface_id, layout=proposal.layout):
            await self.view.go_on(self.view.surface_id, "try")

    async def _learnt(self) -> None:
        assert self.learning is not None
        proposal = self.proposals[self.view.proposal_at()]
        if self.learning.skipped:
            await self._save(self.learning.result(), proposal.name)
        elif await self.view.ask("draw", surface=self.view.surface_id, layout=proposal.layout,
                                 keys=self.learning.keys):
            await self.view.go_on(self.view.surface_id, "try")

    async def _save(self, layout: Layout, name: str) -> None:
        drawing = {"name": name, "controls": [_row(c) for c in layout.controls]}
        if await self.view.ask("draw", surface=self.view.surface_id, drawing=drawing):
            await self.view.go_on(self.view.surface_id, "try")

    async def _edit(self, what: str) -> None:
        assert self.walk is not None
        layout, marked = self.walk.layout, self.view.marked()
        if what == "finish":
            if layout.controls:
                device = self.view.device
                await self._save(layout, device.shown if device else "")
            return
        if what == "new_row":
            self.walk.new_row()
            self._words = "A new row"
        elif what == "row_key":
            self._next_is_row_key = True
        elif what == "undo":
            if self._history:
                self.walk.layout = self._history.pop()
        elif marked:
            changed = await self._changed(what, layout, marked)
            if changed is not layout:
                self._history.append(layout)
                self.walk.layout = changed
        self._show()

    async def _changed(self, what: str, layout: Layout, marked: str) -> Layout:
        sizes = {"wider": {"wider": STEP}, "narrower": {"wider": -STEP}, "taller": {"taller": STEP},
                 "flatter": {"taller": -STEP}}
        if what in sizes:
            return resize(layout, marked, **sizes[what])
        if what.startswith("shift"):
            dx, dy = (float(word) * STEP for word in what.split()[1:])
            return move(layout, marked, dx, dy)
        if what == "leave_out":
            return leave_out(layout, marked)
        if what == "name":
            control = next(c for c in layout.controls if c.id == marked)
            name = await self.view.app.push_screen_wait(AskText("Key legend", "A word or a sign:",
                                                                control.legend))
            return rename(layout, marked, name) if name else layout
        return layout

    def select(self, dx: int, dy: int) -> None:
        """Mark the control next to the marked one, or choose another drawing."""
        if self.walk is None:
            self.view.choose_proposal(dy)
            return
        rows = [_row(c) for c in self.walk.layout.controls]
        here = next((row for row in rows if row.id == self.view.marked()), None)
        if rows:
            self.view.mark(next_control(rows, here, dx, dy).id if here else rows[0].id)


class Try(Phase):
    """Try it: every control lights up; those never seen stay dim."""

    number, title = 4, "Try it"
    keys = ("done", "redraw_it")

    def __init__(self, view: MeetRoom) -> None:
        super().__init__(view)
        self.seen: set[str] = set()
        self._stray = ""

    def prompt(self) -> str:
        controls = [c for c in self.view.surface_controls() if not (c.absent or c.passes)]
        if self._stray:
            return f"{self._stray} is not on the drawing. Enter: keep it so. d: redraw."
        if len(self.seen) == len(controls) and controls:
            return (f"All {say_count(len(controls), 'control')} work. Enter: done. Choose a key on the desk and "
                    "press b. To "
                    f"get the device back by itself at any time, {IN_WORDS}.")
        return f"Press every control once: {len(self.seen)} of {len(controls)} pressed. Enter: done."

    async def enter(self) -> None:
        self.view.draw([place_of(control) for control in self.view.surface_controls()], seen=self.seen)

    async def heard(self, message: HeardNews) -> None:
        control = next((c for c in self.view.surface_controls() if c.code == message.code), None)
        if not message.down or message.turned:
            # The key that ended the drawing is still to come up; that is no press of this step.
            return
        self._stray = "" if control else message.key
        if control:
            self.seen.add(control.id)
        self.view.draw([place_of(control) for control in self.view.surface_controls()], seen=self.seen)

    async def do(self, what: str) -> None:
        if what == "done":
            await self.view.action_leave()
        else:
            await self.view.go_on(self.view.surface_id, "draw")


def _place(part: ArrivedRow) -> str:
    return f"{part.shown}, {part.node}" if part.node else part.shown


def _say(proposal: Proposal) -> str:
    return f"{proposal.name}: {proposal.why}"


def _row(control: Control) -> DrawnRow:
    return DrawnRow(id=control.id, code=wire(control.code), key=signal_name(control.code) if control.code else "",
                    x=control.x, y=control.y, w=control.w, h=control.h, legend=control.legend)


def _layout(proposal: Proposal) -> Layout:
    return Layout(proposal.layout, proposal.name, tuple(
        Control(c.id, from_wire(c.code), c.x, c.y, c.w, c.h, c.legend)
        for c in proposal.controls))


def own_command() -> list[str]:
    """How this program is called again."""
    return [sys.executable, "-m", "brass_pebble"]
