"""What clients may ask: one method for each request, named after it.  docs/protocol.md tells the fields."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

from brass_pebble import __version__, file_access
from brass_pebble.core.desk.model import Surface
from brass_pebble.core.say.problem import ConflictError, ProblemError, nearest
from brass_pebble.core.signals.signal import from_wire
from brass_pebble.engine.devices.set_aside import USUAL
from brass_pebble.engine.disk.store import Loaded
from brass_pebble.engine.logs import log
from brass_pebble.kinds.outputs.stage import StageOutput

from .desk_rows import DeskRows
from .giving_requests import GivingRequests
from .layer_requests import LayerRequests
from .macro_requests import MacroRequests
from .meet_requests import MeetRequests
from .motion_requests import MotionRequests
from .network_requests import NetworkRequests
from .paper_requests import PaperRequests
from .privacy import open_devices
from .server import PROTOCOL, TOPICS, Client, Message, Refusal
from .usage_requests import UsageRequests

if TYPE_CHECKING:
    from brass_pebble.engine.engine import Engine

MS = 1_000_000


class Requests:
    """Answers requests on behalf of an engine."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.rows = DeskRows(engine)
        parts = (self, MeetRequests(engine, self), MacroRequests(engine, self), LayerRequests(engine, self),
                 MotionRequests(engine, self), NetworkRequests(engine, self), PaperRequests(engine, self),
                 UsageRequests(engine, self), GivingRequests(engine, self))
        self._known = {name.removeprefix("do_"): getattr(part, name) for part in parts for name in dir(part)
                       if name.startswith("do_")}

    def warm(self) -> None:
        """Put together what the first client will ask for."""
        self.rows.desk()

    def hello(self) -> Message:
        """The reply to the first message."""
        return {"protocol": PROTOCOL, "version": __version__, "pid": os.getpid(), "topics": list(TOPICS),
                "desk": self._engine.desk.name, "folder": str(self._engine.store.folder)}

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
            self._engine.send_rest()

    def do_desk(self, client: Client, message: Message) -> Message:
        """The desk, its problems, the stage and the class."""
        engine = self._engine
        return {"desk": self.desk_state(), "problems": [p.as_dict() for p in engine.problems],
                "programs": self.stage_state(engine.output) if isinstance(engine.output, StageOutput) else [],
                "layers": self.layers_state(), "at": engine.router.mover.positions(),
                "down": [[s, engine.desk.surfaces[s].control_of(c)] for s, c in engine.router.held()
                         if s in engine.desk.surfaces]}

    def do_traces(self, client: Client, message: Message) -> Message:
        """The latest traces, oldest first."""
        self._engine.news.note()
        count = max(0, min(int(message.get("count", 50)), 500))
        latest = list(self._engine.news.history)[-count:] if count else []
        return {"traces": [trace.as_dict(self._engine.wall_offset) for trace in latest]}

    def do_press(self, client: Client, message: Message) -> Message:
        """Press or let go a control of the bench, of a surface or of a device that is none yet."""
        engine, down = self._engine, bool(message.get("down", True))
        strength = max(1, min(127, int(message.get("strength", 127))))
        if message.get("device"):
            facts = engine.devices.find(str(message["device"]))
            if facts is None or facts.kind != "bench":
                raise Refusal("that device is not on the bench", "Press the key on the device itself")
            trace = engine.hands.press_device(client.number, facts, from_wire(message.get("code", 0)), down, strength)
            return {"trace": trace.id if trace else 0}
        surface = self.surface(message)
        control = str(message.get("control", ""))
        code = surface.code_of(control)
        if code is None:
            raise Refusal(f"“{surface.name}” has no control “{control}”",
                          nearest(control, [c.id for c in surface.layout.controls]))
        holding = engine.devices.holdings.get(surface.id)
        if holding is None or holding.source is None or holding.source.facts.kind != "bench":
            raise Refusal(f"“{surface.name}” is not on the bench", "Press the control on the device itself")
        trace = engine.hands.press_device(client.number, holding.source.facts, code, down, strength)
        return {"trace": trace.id if trace else 0}

    def do_move(self, client: Client, message: Message) -> Message:
        """Move a control of the bench: `to` positions, one for each axis, or `steps` of a wheel."""
        engine, surface = self._engine, self.surface(message)
        name = str(message.get("control", ""))
        control = next((c for c in surface.layout.controls if c.id == name and c.moves), None)
        if control is None:
            raise Refusal(f"“{name}” of “{surface.name}” does not move",
                          nearest(name, [c.id for c in surface.layout.controls if c.moves]) or "Press it instead")
        holding = engine.devices.holdings.get(surface.id)
        if holding is None or holding.source is None or holding.source.facts.kind != "bench":
            raise Refusal(f"“{surface.name}” is not on the bench", "Move the control on the device itself")
        if control.turns:
            steps = max(-100, min(100, int(message.get("steps", 0))))
            engine.hands.turn(surface.id, control.moves[int(bool(message.get("axis"))) % len(control.moves)],
                              steps)
        else:
            to = message.get("to", [])
            engine.hands.move_to(surface.id, control.id, [float(place) for place in to][:len(control.moves)])
        return {}

    def do_play(self, client: Client, message: Message) -> Message:
        """Play a macro."""
        name = str(message.get("macro", ""))
        desk = self._engine.desk
        macro = desk.macros.get(name) or next((m for m in desk.macros.values() if m.name == name), None)
        if macro is None:
            if name in desk.broken_macros:
                raise Refusal(desk.broken_macros[name], f"See brass-pebble macro check macros/{name}.macro", "broken")
            raise Refusal(f"there is no macro “{name}”", nearest(name, desk.macros) or
                          f"Known are {', '.join(desk.macros) or 'none yet'}", "unknown-macro")
        trace = self._engine.play(macro, client.name or "a client", given_values(message))
        return {"trace": trace.id, "state": trace.state, "why": trace.why, "length_ms": macro.program.length / MS}

    def do_stop(self, client: Client, message: Message) -> Message:
        """Stop everything and release everything."""
        return {"runs": self._engine.stop_all()}

    def do_privacy(self, client: Client, message: Message) -> Message:
        """Every device that is open, and why."""
        return {"open": open_devices(self._engine)}

    def do_cancel_recording(self, client: Client, message: Message) -> Message:
        """End the recording that a record control began, and save nothing."""
        return {"ended": self._engine.recorder.cancel("cancelled")}

    def do_hands_off(self, client: Client, message: Message) -> Message:
        """Let presses of one surface, or of all without a name, only select for a while; `seconds` says how long."""
        self._engine.aside.hands_off(self._named(message), float(message.get("seconds", USUAL)))
        return self._engine.aside.state()

    def do_hands_on(self, client: Client, message: Message) -> Message:
        """Let one surface, or all without a name, command again."""
        self._engine.aside.hands_on(self._named(message))
        return self._engine.aside.state()

    def _named(self, message: Message) -> list[str]:
        return [self.surface(message).id] if message.get("surface") else list(self._engine.desk.surfaces)

    def do_rest(self, client: Client, message: Message) -> Message:
        """Let one surface, or all without a name, type normally."""
        return self._for_surfaces(message, self._engine.devices.rest)

    def do_wake(self, client: Client, message: Message) -> Message:
        """Let one surface, or all without a name, command again."""
        return self._for_surfaces(message, self._engine.devices.wake)

    def _for_surfaces(self, message: Message, call: Callable[[str], None]) -> Message:
        names = self._named(message)
        for name in names:
            call(name)
        self._engine.tell_desk()
        holdings = self._engine.devices.holdings
        return {"states": {name: holdings[name].state for name in names if name in holdings}}

    def do_quit(self, client: Client, message: Message) -> Message:
        """End the engine."""
        self._engine.stop_all()
        self._engine.quit()
        return {}

    def do_undo(self, client: Client, message: Message) -> None:
        """Take the last change of the desk back."""
        self.edit(client, message, self._engine.store.undo)

    def do_redo(self, client: Client, message: Message) -> None:
        """Do the last undone change again."""
        self.edit(client, message, self._engine.store.redo)

    def do_script(self, client: Client, message: Message) -> Message:
        """Start or stop the scripted class."""
        if self._engine.setup.script is None:
            raise Refusal("this desk has no class to watch", "The demo has one: brass-pebble demo")
        if message.get("run", True):
            self._engine.hands.start_script()
        else:
            self._engine.hands.stop_script()
        return {"running": self._engine.hands.script_running}

    def edit(self, client: Client | None, message: Message, job: Callable[[], str], fields: Message | None = None,
             then: Callable[[], None] | None = None) -> None:
        """Change the desk on the worker; the reply, with `fields`, follows when it is saved and live.

        Without a client, the engine itself wants it."""
        engine, number = self._engine, message.get("id")

        def work() -> tuple[str, Loaded]:
            words = job()
            return words, engine.store.load()

        def done(result: object) -> None:
            if client is None:
                if isinstance(result, tuple):
                    engine.take_loaded(result[1])
            elif isinstance(result, ProblemError):
                problem = result.problem
                code = "changed" if isinstance(result, ConflictError) else "refused"
                engine.server.refuse(client, number, Refusal(problem.what, problem.hint, code))
            elif isinstance(result, OSError):
                engine.server.refuse(client, number, Refusal(f"the desk could not be saved: {file_access.say(result)}",
                                                             f"Nothing was changed. {file_access.next_step(result)}"))
            elif isinstance(result, Exception):
                log.error("a change of the desk failed: %r", result, exc_info=result)
                engine.server.refuse(client, number, Refusal(f"the desk could not be changed: {result!r}",
                                                             "See what it is now with V; the log has the details"))
            else:
                assert isinstance(result, tuple)
                words, loaded = result
                engine.take_loaded(loaded)
                if then is not None:
                    then()
                engine.server.reply(client, number, {"words": words, **(fields or {})})
        engine.worker.do(work, done)

    def surface(self, message: Message) -> Surface:
        """The surface that a request names."""
        name = str(message.get("surface", ""))
        surface = self._engine.desk.surfaces.get(name)
        if surface is None:
            raise Refusal(f"there is no surface “{name}”", nearest(name, self._engine.desk.surfaces))
        return surface

    def stage_state(self, output: StageOutput) -> list[Message]:
        """The stage's programs as they are."""
        return [{"id": name, "name": program.name, "what": program.what, "panels": program.panels,
                 "state": program.state, "window": program.window, "opening": program.opening,
                 "focused": name == output.focused}
                for name, program in output.programs.items()]

    def desk_state(self) -> Message:
        """The desk as clients draw it."""
        return self.rows.desk()

    def layers_state(self) -> Message:
        """Which layers are on and why, where cycles stand, and the window that has the focus."""
        engine, layers = self._engine, self._engine.router.layers
        window, cycles = layers.window, engine.router.cycles(time.monotonic_ns())
        return {"on": {surface.id: {layer.id: why for layer in surface.layers if (why := layers.why(surface, layer.id))}
                       for surface in engine.desk.surfaces.values()},
                "cycles": cycles, "window": {"class": window.cls, "title": window.title, "shown": window.shown}
                if window else None, "pinned": layers.pinned, "follows": engine.focus.wanted(),
                "source": engine.focus.source, "trouble": engine.focus.trouble}


def given_values(message: Message) -> dict[str, int]:
    """What a client gives in place of a press: number, strength (0 to 127), position (0 to 100)."""
    limits = {"number": (-2**31, 2**31), "strength": (0, 127), "position": (0, 100)}
    return {name: max(low, min(high, int(message[name]))) for name, (low, high) in limits.items() if name in message}
