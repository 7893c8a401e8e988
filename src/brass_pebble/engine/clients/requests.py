"""What clients may ask: one method for each request, named after it.  docs/protocol.md tells the fields."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from typing import cast

from brass_pebble import __version__
from brass_pebble.core.macro.asking_steps import asked_for
from brass_pebble.core.macro.steps import Step
from brass_pebble.core.say.problem import nearest
from brass_pebble.core.signals.signal import from_wire
from brass_pebble.engine.clients.desk_rows import DeskRows
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.devices.chord_catcher import ChordCatcher
from brass_pebble.engine.devices.meeting import Meet
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.devices.set_aside import SetAside
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.hot.sender import Sender
from brass_pebble.engine.ports import LiveDesk, Ports
from brass_pebble.engine.runs.bench_presses import BenchPresses
from brass_pebble.engine.runs.control import Control
from brass_pebble.engine.runs.hearing import Hearing
from brass_pebble.engine.runs.kept_values import KeptInDesk
from brass_pebble.engine.runs.questions import Questions
from brass_pebble.engine.runs.recorder import Recorder
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.inputs.bystanders import Bystanders
from brass_pebble.kinds.outputs.base import Output, Reacts
from brass_pebble.protocol import desk as messages
from brass_pebble.protocol.base import VERSION, Request
from brass_pebble.protocol.errors import Broken, Refusal, UnknownMacro
from brass_pebble.protocol.table import TOPICS, requests

from .editing import Editing
from .privacy import open_devices
from .server import Client, Message

MS = 1_000_000

# What traces tell in place of a node.
BY_HAND = "by hand"


class Requests:
    """Answers requests on behalf of an engine."""

    setup: Setup
    devices: Devices
    recorder: Recorder
    aside: SetAside
    news: News
    sender: Sender
    bench: BenchPresses
    control: Control
    live: LiveDesk
    store: DeskStore
    rows: DeskRows
    output: Output
    meet: Meet
    chord_catcher: ChordCatcher
    bystanders: Bystanders
    kept: KeptInDesk
    questions: Questions
    hearing: Hearing

    def __init__(self, ports: Ports, editing: Editing, *others: object) -> None:
        self._ports, self._editing = ports, editing
        handlers = {name.removeprefix("do_"): getattr(part, name) for part in (self, *others) for name in dir(part)
                    if name.startswith("do_")}
        self._known = {kind: handlers[word] for word, kind in requests().items() if word in handlers}

    def warm(self) -> None:
        """Put together what the first client will ask for."""
        self.rows.desk()

    def hello(self) -> Message:
        """The reply to the first message."""
        return {"protocol": VERSION, "version": __version__, "pid": os.getpid(), "topics": list(TOPICS),
                "desk": self._ports.desk.name, "folder": str(self.store.folder)}

    def take(self, client: Client, ask: Request) -> Message | None:
        """Answer one request."""
        try:
            reply: Message | None = self._known[type(ask)](client, ask)
            return reply
        finally:
            self.sender.send_rest()

    def do_desk(self, client: Client, ask: messages.AskDesk) -> Message:
        """The desk, its problems, the stage and the class."""
        return {"desk": self.rows.desk(), "problems": [p.as_dict() for p in self._ports.problems.listed],
                "programs": self.rows.stage(stage) if (stage := self.output.ability(Reacts)) is not None else [],
                "layers": self.rows.layers(), "at": self._ports.router.mover.positions(),
                "down": [[s, self._ports.desk.surfaces[s].control_of(c)] for s, c in self._ports.router.held()
                         if s in self._ports.desk.surfaces],
                "values": self.kept.shown(), "questions": self.questions.rows(), "voices": self.hearing.rows()}

    def do_traces(self, client: Client, ask: messages.AskTraces) -> Message:
        """The latest traces, oldest first."""
        self.news.note()
        count = ask.count
        latest = list(self.news.history)[-count:] if count else []
        return {"traces": [trace.told(self._ports.wall_offset()) for trace in latest]}

    def do_press(self, client: Client, ask: messages.Press) -> Message:
        """Press or let go a control of the bench, of a surface or of a device that is none yet."""
        down = ask.down
        strength = ask.strength
        if ask.device:
            facts = self.devices.find(ask.device)
            if facts is None or not self.devices.kind_of(facts).simulated:
                raise Refusal("that device is not on the bench", "Press the key on the device itself")
            trace = self.bench.press_device(client.number, facts, from_wire(ask.code), down, strength)
            return {"trace": trace.id if trace else 0}
        surface = self._editing.surface(ask.surface)
        control = ask.control
        code = surface.code_of(control)
        if code is None:
            raise Refusal(f"“{surface.name}” has no control “{control}”",
                          nearest(control, [c.id for c in surface.layout.controls]))
        holding = self.devices.holdings.get(surface.id)
        if holding is None or holding.source is None or not self.devices.kind_of(holding.source.facts).simulated:
            if not ask.by_hand:
                raise Refusal(f"“{surface.name}” is not on the bench",
                              "Press the control on the device itself, or press it by hand (P)")
            if down and surface.id in self._ports.router.resting:
                raise Refusal(f"“{surface.name}” is resting", "Wake it first (o)")
            trace = self.bench.press(client.number, surface.id, code, down, BY_HAND, strength)
            return {"trace": trace.id if trace else 0}
        trace = self.bench.press_device(client.number, holding.source.facts, code, down, strength)
        return {"trace": trace.id if trace else 0}

    def do_move(self, client: Client, ask: messages.Move) -> Message:
        """Move a control of the bench: `to` positions, one for each axis, or `steps` of a wheel."""
        surface = self._editing.surface(ask.surface)
        name = ask.control
        control = next((c for c in surface.layout.controls if c.id == name and c.moves), None)
        if control is None:
            raise Refusal(f"“{name}” of “{surface.name}” does not move",
                          nearest(name, [c.id for c in surface.layout.controls if c.moves]) or "Press it instead")
        holding = self.devices.holdings.get(surface.id)
        if holding is None or holding.source is None or not self.devices.kind_of(holding.source.facts).simulated:
            raise Refusal(f"“{surface.name}” is not on the bench", "Move the control on the device itself")
        if control.turns:
            steps = ask.steps
            self.bench.turn(surface.id, control.moves[ask.axis % len(control.moves)],
                              steps)
        else:
            to = ask.to
            self.bench.move_to(surface.id, control.id, to[:len(control.moves)])
        return {}

    def do_play(self, client: Client, ask: messages.Play) -> Message:
        """Play a macro."""
        name = ask.macro
        desk = self._ports.desk
        macro = desk.macros.get(name) or next((m for m in desk.macros.values() if m.name == name), None)
        if macro is None:
            if name in desk.broken_macros:
                raise Broken(desk.broken_macros[name], f"See brass-pebble macro check macros/{name}.macro")
            raise UnknownMacro(f"there is no macro “{name}”", nearest(name, desk.macros) or
                          f"Available: {', '.join(desk.macros) or 'none yet'}")
        trace = self.control.play(macro, client.name or "a client", ask.given(), ask.answers)
        return {"trace": trace.id, "state": trace.state, "why": trace.why, "length_ms": macro.timetable.length / MS,
                "asks": asked_for(cast("Sequence[Step]", macro.score.steps)) if macro.score else []}

    def do_stop(self, client: Client, ask: messages.Stop) -> Message:
        """Stop everything and release everything."""
        return {"runs": self.control.stop_all()}

    def do_privacy(self, client: Client, ask: messages.AskPrivacy) -> Message:
        """Every device that is open, and why."""
        return {"open": open_devices(
            self._ports.desk, self.devices, self.bystanders.nodes(),
            ((self.meet.nodes(), "you are meeting devices, and asked for it to be listened to"),
             (self.recorder.nodes(), "you are recording what is typed on it"),
             (self.chord_catcher.nodes(), "a chord is being caught from it")), self.meet.open_microphones())
            + self.hearing.trying.kept_files()}

    def do_cancel_recording(self, client: Client, ask: messages.CancelRecording) -> Message:
        """End the recording that a record control began, and save nothing."""
        return {"ended": self.recorder.cancel("cancelled")}

    def do_hands_off(self, client: Client, ask: messages.HandsOff) -> Message:
        """Let presses of one surface, or of all without a name, only select for a while; `seconds` says how long."""
        self.aside.hands_off(self._named(ask.surface), ask.seconds)
        return self.aside.state()

    def do_hands_on(self, client: Client, ask: messages.HandsOn) -> Message:
        """Let one surface, or all without a name, act again."""
        self.aside.hands_on(self._named(ask.surface))
        return self.aside.state()

    def _named(self, name: str) -> list[str]:
        return [self._editing.surface(name).id] if name else list(self._ports.desk.surfaces)

    def do_rest(self, client: Client, ask: messages.Rest) -> Message:
        """Let one surface, or all without a name, type normally."""
        return self._for_surfaces(ask.surface, self.devices.rest)

    def do_wake(self, client: Client, ask: messages.Wake) -> Message:
        """Let one surface, or all without a name, act again.  One that is named is taken on trial if it was refused."""
        return self._for_surfaces(ask.surface, lambda name: self.devices.wake(name, on_trial=bool(ask.surface)))

    def _for_surfaces(self, meant: str, call: Callable[[str], None]) -> Message:
        names = self._named(meant)
        for name in names:
            call(name)
        self.live.tell_desk()
        holdings = self.devices.holdings
        return {"states": {name: holdings[name].state for name in names if name in holdings}}

    def do_quit(self, client: Client, ask: messages.Quit) -> Message:
        """End the engine."""
        self.control.stop_all()
        self._ports.loop.stop()
        return {}

    def do_undo(self, client: Client, ask: messages.Undo) -> None:
        """Take the last change of the desk back."""
        self._editing.edit(client, ask, self.store.undo)

    def do_redo(self, client: Client, ask: messages.Redo) -> None:
        """Do the last undone change again."""
        self._editing.edit(client, ask, self.store.redo)

    def do_script(self, client: Client, ask: messages.Script) -> Message:
        """Start or stop the scripted class."""
        if self.setup.script is None:
            raise Refusal("this desk has no class to watch", "The demo has one: brass-pebble demo")
        if ask.run:
            self.bench.start_script()
        else:
            self.bench.stop_script()
        return {"running": self.bench.script_running}

