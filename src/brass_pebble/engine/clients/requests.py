"""What clients may ask: one method for each request, named after it.  docs/protocol.md tells the fields."""

from __future__ import annotations

import os
from collections.abc import Callable

from brass_pebble import __version__
from brass_pebble.core.say.problem import nearest
from brass_pebble.core.signals.signal import from_wire
from brass_pebble.engine.clients.desk_rows import DeskRows
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.devices.chord_catcher import ChordCatcher
from brass_pebble.engine.devices.meeting import Meet
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.devices.set_aside import USUAL, SetAside
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.hot.sender import Sender
from brass_pebble.engine.ports import LiveDesk, Ports
from brass_pebble.engine.runs.bench_presses import BenchPresses
from brass_pebble.engine.runs.control import Control
from brass_pebble.engine.runs.recorder import Recorder
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.inputs.bystanders import Bystanders
from brass_pebble.kinds.outputs.base import Output
from brass_pebble.kinds.outputs.stage import StageOutput

from .editing import Editing
from .privacy import open_devices
from .server import PROTOCOL, TOPICS, Client, Message, Refusal

MS = 1_000_000


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

    def __init__(self, ports: Ports, editing: Editing, *others: object) -> None:
        self._ports, self._editing = ports, editing
        parts = (self, *others)
        self._known = {name.removeprefix("do_"): getattr(part, name) for part in parts for name in dir(part)
                       if name.startswith("do_")}

    def warm(self) -> None:
        """Put together what the first client will ask for."""
        self.rows.desk()

    def hello(self) -> Message:
        """The reply to the first message."""
        return {"protocol": PROTOCOL, "version": __version__, "pid": os.getpid(), "topics": list(TOPICS),
                "desk": self._ports.desk.name, "folder": str(self.store.folder)}

    def take(self, client: Client, message: Message) -> Message | None:
        """Answer one request."""
        word = str(message.get("do", ""))
        call = self._known.get(word)
        if call is None:
            raise Refusal(f"there is no request “{word}”",
                          nearest(word, self._known) or f"Known are follow, {', '.join(self._known)}",
                          "unknown-request")
        try:
            reply: Message | None = call(client, message)
            return reply
        finally:
            self.sender.send_rest()

    def do_desk(self, client: Client, message: Message) -> Message:
        """The desk, its problems, the stage and the class."""
        return {"desk": self.rows.desk(), "problems": [p.as_dict() for p in self._ports.problems.listed],
                "programs": self.rows.stage(self.output) if isinstance(self.output, StageOutput) else [],
                "layers": self.rows.layers(), "at": self._ports.router.mover.positions(),
                "down": [[s, self._ports.desk.surfaces[s].control_of(c)] for s, c in self._ports.router.held()
                         if s in self._ports.desk.surfaces]}

    def do_traces(self, client: Client, message: Message) -> Message:
        """The latest traces, oldest first."""
        self.news.note()
        count = max(0, min(int(message.get("count", 50)), 500))
        latest = list(self.news.history)[-count:] if count else []
        return {"traces": [trace.as_dict(self._ports.wall_offset()) for trace in latest]}

    def do_press(self, client: Client, message: Message) -> Message:
        """Press or let go a control of the bench, of a surface or of a device that is none yet."""
        down = bool(message.get("down", True))
        strength = max(1, min(127, int(message.get("strength", 127))))
        if message.get("device"):
            facts = self.devices.find(str(message["device"]))
            if facts is None or facts.kind != "bench":
                raise Refusal("that device is not on the bench", "Press the key on the device itself")
            trace = self.bench.press_device(client.number, facts, from_wire(message.get("code", 0)), down, strength)
            return {"trace": trace.id if trace else 0}
        surface = self._editing.surface(message)
        control = str(message.get("control", ""))
        code = surface.code_of(control)
        if code is None:
            raise Refusal(f"“{surface.name}” has no control “{control}”",
                          nearest(control, [c.id for c in surface.layout.controls]))
        holding = self.devices.holdings.get(surface.id)
        if holding is None or holding.source is None or holding.source.facts.kind != "bench":
            raise Refusal(f"“{surface.name}” is not on the bench", "Press the control on the device itself")
        trace = self.bench.press_device(client.number, holding.source.facts, code, down, strength)
        return {"trace": trace.id if trace else 0}

    def do_move(self, client: Client, message: Message) -> Message:
        """Move a control of the bench: `to` positions, one for each axis, or `steps` of a wheel."""
        surface = self._editing.surface(message)
        name = str(message.get("control", ""))
        control = next((c for c in surface.layout.controls if c.id == name and c.moves), None)
        if control is None:
            raise Refusal(f"“{name}” of “{surface.name}” does not move",
                          nearest(name, [c.id for c in surface.layout.controls if c.moves]) or "Press it instead")
        holding = self.devices.holdings.get(surface.id)
        if holding is None or holding.source is None or holding.source.facts.kind != "bench":
            raise Refusal(f"“{surface.name}” is not on the bench", "Move the control on the device itself")
        if control.turns:
            steps = max(-100, min(100, int(message.get("steps", 0))))
            self.bench.turn(surface.id, control.moves[int(bool(message.get("axis"))) % len(control.moves)],
                              steps)
        else:
            to = message.get("to", [])
            self.bench.move_to(surface.id, control.id, [float(place) for place in to][:len(control.moves)])
        return {}

    def do_play(self, client: Client, message: Message) -> Message:
        """Play a macro."""
        name = str(message.get("macro", ""))
        desk = self._ports.desk
        macro = desk.macros.get(name) or next((m for m in desk.macros.values() if m.name == name), None)
        if macro is None:
            if name in desk.broken_macros:
                raise Refusal(desk.broken_macros[name], f"See brass-pebble macro check macros/{name}.macro", "broken")
            raise Refusal(f"there is no macro “{name}”", nearest(name, desk.macros) or
                          f"Known are {', '.join(desk.macros) or 'none yet'}", "unknown-macro")
        trace = self.control.play(macro, client.name or "a client", given_values(message))
        return {"trace": trace.id, "state": trace.state, "why": trace.why, "length_ms": macro.program.length / MS}

    def do_stop(self, client: Client, message: Message) -> Message:
        """Stop everything and release everything."""
        return {"runs": self.control.stop_all()}

    def do_privacy(self, client: Client, message: Message) -> Message:
        """Every device that is open, and why."""
        return {"open": open_devices(
            self._ports.desk, self.devices, self.bystanders.nodes(),
            ((self.meet.nodes(), "you are meeting devices, and asked for it to be listened to"),
             (self.recorder.nodes(), "you are recording what is typed on it"),
             (self.chord_catcher.nodes(), "a chord is being caught from it")))}

    def do_cancel_recording(self, client: Client, message: Message) -> Message:
        """End the recording that a record control began, and save nothing."""
        return {"ended": self.recorder.cancel("cancelled")}

    def do_hands_off(self, client: Client, message: Message) -> Message:
        """Let presses of one surface, or of all without a name, only select for a while; `seconds` says how long."""
        self.aside.hands_off(self._named(message), float(message.get("seconds", USUAL)))
        return self.aside.state()

    def do_hands_on(self, client: Client, message: Message) -> Message:
        """Let one surface, or all without a name, command again."""
        self.aside.hands_on(self._named(message))
        return self.aside.state()

    def _named(self, message: Message) -> list[str]:
        return [self._editing.surface(message).id] if message.get("surface") else list(self._ports.desk.surfaces)

    def do_rest(self, client: Client, message: Message) -> Message:
        """Let one surface, or all without a name, type normally."""
        return self._for_surfaces(message, self.devices.rest)

    def do_wake(self, client: Client, message: Message) -> Message:
        """Let one surface, or all without a name, command again."""
        return self._for_surfaces(message, self.devices.wake)

    def _for_surfaces(self, message: Message, call: Callable[[str], None]) -> Message:
        names = self._named(message)
        for name in names:
            call(name)
        self.live.tell_desk()
        holdings = self.devices.holdings
        return {"states": {name: holdings[name].state for name in names if name in holdings}}

    def do_quit(self, client: Client, message: Message) -> Message:
        """End the engine."""
        self.control.stop_all()
        self._ports.loop.stop()
        return {}

    def do_undo(self, client: Client, message: Message) -> None:
        """Take the last change of the desk back."""
        self._editing.edit(client, message, self.store.undo)

    def do_redo(self, client: Client, message: Message) -> None:
        """Do the last undone change again."""
        self._editing.edit(client, message, self.store.redo)

    def do_script(self, client: Client, message: Message) -> Message:
        """Start or stop the scripted class."""
        if self.setup.script is None:
            raise Refusal("this desk has no class to watch", "The demo has one: brass-pebble demo")
        if message.get("run", True):
            self.bench.start_script()
        else:
            self.bench.stop_script()
        return {"running": self.bench.script_running}


def given_values(message: Message) -> dict[str, int]:
    """What a client gives in place of a press: number, strength (0 to 127), position (0 to 100)."""
    limits = {"number": (-2**31, 2**31), "strength": (0, 127), "position": (0, 100)}
    return {name: max(low, min(high, int(message[name]))) for name, (low, high) in limits.items() if name in message}
