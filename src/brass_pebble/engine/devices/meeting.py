"""Meeting devices: listening without taking over, the presses that tell twins apart, and drawing a surface.

Only for as long as somebody asked for it is any device read that the desk does not name.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, cast

from brass_pebble.core.desk.model import Surface
from brass_pebble.core.devices.double_reports import Double, Doubles
from brass_pebble.core.devices.identity import DeviceFacts, real_serial
from brass_pebble.core.devices.telling import Telling
from brass_pebble.core.signals.keys import key_table
from brass_pebble.core.signals.signal import MOVING, STRUCK, signal_name, spell, wire
from brass_pebble.engine.clients.server import Message
from brass_pebble.engine.devices.grips import Grips
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.devices.set_aside import SetAside
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports
from brass_pebble.engine.runs.recorder import Recorder
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.inputs.base import DeviceGone, InputError
from brass_pebble.kinds.inputs.kind import Ear

if TYPE_CHECKING:
    from brass_pebble.kinds.inputs.listening import Heard

MS = 1_000_000
LONGEST = 120.0
# What has not moved for so long begins anew, in ns.
MOTION_ENDS = 700 * MS
# A surface that takes all of a device.
MEANT = Surface("", "")


class Meet:
    """Who listens to what, until when."""

    devices: Devices
    aside: SetAside
    grips: Grips
    recorder: Recorder
    setup: Setup

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self._until: dict[int, int] = {}
        self._only: dict[int, str] = {}
        self._motion: set[str] = set()
        self._to_microphones: set[int] = set()
        self._speaking: set[str] = set()
        self._ears: dict[str, Ear] = {}
        self._moved: dict[tuple[str, int], int] = {}
        self._opening: set[str] = set()
        self._deaf: dict[str, str] = {}
        self._doubles = Doubles()
        # What was pressed on devices that are asked about.
        self._telling: dict[str, Telling] = {}

    # Listening.

    def listen(self, client: int, seconds: float, only: str = "", *, motion: bool = False,
               microphones: bool = False) -> float:
        """Listen to every free device for a client, or to one only, with the way of a pointer if it is wanted.

        No microphone is opened that was not asked for: by name, or all of them.

        Returns for how many seconds.
        """
        if only:
            self._only[client] = only
            self._motion = {only} if motion else set()
            if only in self._ears:
                self._close(only)
        else:
            self._only.pop(client, None)
        (self._to_microphones.add if microphones else self._to_microphones.discard)(client)
        seconds = max(1.0, min(seconds, LONGEST))
        self._until[client] = until = self._ports.now() + int(seconds * 1e9)
        self._doubles = Doubles()
        self._deaf.clear()
        self._ports.alarms.at(f"listening {client}", until, lambda now: self.hush(client))
        self.follow()
        self.tell()
        return seconds

    def nodes(self) -> list[str]:
        """The nodes that are listened to."""
        return [node for facts in self.devices.here if facts.id in self._ears for node in facts.nodes]

    def open_microphones(self) -> list[DeviceFacts]:
        """Microphones that are listened to, though they are no surface."""
        return [ear.facts for ear in self._ears.values() if ear.facts.spoken_to]

    def hush(self, client: int) -> None:
        """Stop listening for a client."""
        self._only.pop(client, None)
        self._to_microphones.discard(client)
        if self._until.pop(client, None) is not None:
            self._ports.alarms.cancel(f"listening {client}")
            self.follow()
            self.tell()

    def client_left(self, client: int) -> None:
        """A client is gone: nobody listens for it any more."""
        self.aside.give_to(client, "")
        self.hush(client)

    def follow(self) -> None:
        """Open and close ears, so that exactly those devices are listened to that are asked for now."""
        devices = self.devices
        if self._until:
            every = any(client not in self._only for client in self._until)
            wanted = {f.id: f for f in devices.here if f.readable and (f.nodes or devices.kind_of(f).by_messages)
                      and not devices.owner(f.id)
                      and ((every and (devices.kind_of(f).listens_unasked or self._to_microphones))
                           or f.id in self._only.values())}
        else:
            question = devices.question()
            asked = devices.holdings[question].ask if question else ()
            wanted = {f.id: f for f in asked if f.readable and f.nodes}
        for device in self._ears.keys() - wanted.keys():
            self._close(device)
        for device in wanted.keys() - self._ears.keys() - self._opening - self._deaf.keys():
            self._open(wanted[device])

    def _open(self, facts: DeviceFacts) -> None:
        self._opening.add(facts.id)

        def opened(result: object) -> None:
            self._opening.discard(facts.id)
            if isinstance(result, Exception) or result is None:
                self._deaf[facts.id] = f"{'' if isinstance(result, InputError) else 'it cannot be opened: '}{result}"
                log.warning("%s", self._deaf[facts.id])
                self.tell()
                return
            ear = cast(Ear, result)
            self._ears[facts.id] = ear
            if facts.spoken_to:
                self.tell()
            for fileno in ear.filenos():
                self._ports.loop.watch(fileno, self._reader(ear, fileno))
            # What was wanted may have changed while it was opened.
            self.follow()

        def job() -> object:
            return self.devices.kind_of(facts).listen(facts, motion=facts.id in self._motion)
        self._ports.worker.do(job, opened)

    def _leave(self, device: str) -> Ear:
        """Wait no longer for what a device says."""
        ears = self._ears.pop(device)
        for fileno in ears.filenos():
            self._ports.loop.forget(fileno)
        return ears

    def _close(self, device: str) -> None:
        self._telling.pop(device, None)
        ears = self._leave(device)
        # Closing a node may wait for the kernel.
        self._ports.worker.do(ears.close, lambda result: None)

    def _reader(self, ears: Ear, fileno: int) -> Any:
        def ready(events: int) -> None:
            try:
                for heard in ears.read(fileno):
                    self.hear(ears.facts, heard)
            except DeviceGone:
                if ears.facts.id in self._ears:
                    self._close(ears.facts.id)
                self.devices.look_again()
        return ready

    # What was heard.

    def hear(self, facts: DeviceFacts, heard: Heard) -> None:
        """A device that is not taken over sent something."""
        if heard.loud is not None and not self._begins_to_speak(facts, heard):
            return
        if any(self._only.get(client, facts.id) == facts.id for client in self._until):
            self._publish(facts, "", heard)
        if self.devices.kind_of(facts).simulated and facts.full:
            self.recorder.hear(heard)
        if heard.value and not heard.turned:
            if not self.devices.kind_of(facts).takes_from_programs or not facts.codes:
                self.devices.point_out(facts)
            elif heard.value == 1 and heard.code < MOVING:
                self._tell_apart(facts, heard)

    def _tell_apart(self, facts: DeviceFacts, heard: Heard) -> None:
        """A press on a device that programs get, too: it tells which one is meant only if it is not typing."""
        if not self.devices.is_asked_about(facts):
            return
        telling = self._telling.setdefault(facts.id, Telling())
        telling.press(heard.code, heard.at)
        name = f"told by {facts.id}"
        if telling.typed and facts.full:
            # Whoever meets a device presses its keys on purpose.
            if not self._until:
                self.devices.was_typed_on(facts)
            telling.typed = False
        if telling.due:
            self._ports.alarms.at(name, telling.due, lambda now: self._told(facts, now))
        else:
            self._ports.alarms.cancel(name)

    def _told(self, facts: DeviceFacts, now: int) -> None:
        if (telling := self._telling.get(facts.id)) is not None and telling.told(now):
            self.devices.point_out(facts)

    def _begins_to_speak(self, facts: DeviceFacts, heard: Heard) -> bool:
        """How loud it is at a microphone is told; whether somebody has begun to speak into it."""
        self._ports.publisher.publish("loudness", {"surface": "", "device": facts.id, "loud": heard.loud,
                                                   "speaking": bool(heard.value), "words": ""})
        spoke = facts.id in self._speaking
        (self._speaking.add if heard.value else self._speaking.discard)(facts.id)
        return spoke != bool(heard.value)

    def hear_surface(self, surface_id: str, code: int, value: int, at: int, node: str = "") -> None:
        """A surface that is being drawn or tried was pressed."""
        from brass_pebble.kinds.inputs.listening import Heard
        holding = self.devices.holdings[surface_id]
        if code < MOVING:
            self.grips.press(surface_id, code, value, at)
        self._publish(holding.parts[0], surface_id, Heard(node, code, value, at))

    def _publish(self, facts: DeviceFacts, surface_id: str, heard: Heard) -> None:
        double = None
        if heard.value and not heard.turned and heard.code < MOVING:
            double = self._doubles.press(facts.id, heard.node, heard.code, heard.at)
        if not self._ports.publisher.wanted("heard"):
            return
        key = key_table().by_code.get(heard.code)
        if heard.code >= MOVING and not self._begins_to_move(facts.id, heard):
            return
        self._ports.publisher.publish("heard", {
            "device": facts.id, "shown": facts.shown, "surface": surface_id, "code": wire(heard.code),
            "typed": self._ports.desk.places.name(heard.code) if heard.code < STRUCK else 0,
            "down": heard.value > 0 or heard.code >= MOVING, "turned": heard.turned,
            "key": heard.turned or signal_name(heard.code),
            "steps": heard.value if heard.turned else 0,
            "node": heard.node,
            "kernel": key.kernel[0] if key else "", "hex": f"0x{heard.code:x}",
            "usage": f"{heard.usage >> 16:02x}:{heard.usage & 0xFFFF:02x}" if heard.usage else "",
            "spelt": spell(heard.code, self._ports.desk.middle_c) if heard.code >= STRUCK else "",
            "at": heard.at / 1e9, "double": self._double(double) if double else None})

    def _begins_to_move(self, device: str, heard: Heard) -> bool:
        """A knob that is turned tells much: only the first of it is an answer."""
        key = (device, heard.code)
        last, self._moved[key] = self._moved.get(key, 0), heard.at
        return heard.at - last > MOTION_ENDS

    def _double(self, double: Double) -> Message:
        def part(source: tuple[str, str, int]) -> Message:
            facts = self.devices.find(source[0])
            return {"device": source[0], "shown": facts.shown if facts else "", "node": source[1],
                    "code": wire(source[2]), "key": signal_name(source[2])}
        return {"first": part(double.first), "second": part(double.second), "times": double.times,
                "apart_ms": double.apart / MS}

    # The state, for clients.

    def state(self) -> Message:
        """The devices that are here, and who listens."""
        devices, memory = self.devices, self.devices.memory
        until, now = max(self._until.values(), default=0), self._ports.now()
        makes = [facts.make for facts in devices.here]
        rows = []
        for facts in devices.here:
            shape = self.setup.bench.shapes.get(facts.id)
            rows.append({
                **facts.as_dict(), "surface": devices.owner(facts.id), "main": memory.is_main(facts),
                "twin": makes.count(facts.make) > 1 and not real_serial(facts.serial),
                "last_keyboard": devices.ways.is_last_keyboard(facts, MEANT),
                "last_pointer": facts.points and not devices.ways.other_pointer(facts),
                "deaf": self._deaf.get(facts.id, ""),
                "by_messages": devices.kind_of(facts).by_messages, "bench": devices.kind_of(facts).simulated,
                "shape": [{"id": c.id, "code": wire(c.code), "x": c.x, "y": c.y, "w": c.w, "h": c.h, "legend": c.legend}
                          for c in shape.controls] if shape else []})
        pulled = [self.setup.bench.devices[name] for name in sorted(self.setup.bench.pulled)]
        return {"devices": rows, "left_ms": max(0, until - now) / MS, "main_known": any(row["main"] for row in rows),
                "pulled": [{"id": facts.id, "shown": facts.shown} for facts in pulled],
                "open_microphones": [facts.shown for facts in self.open_microphones()]}

    def tell(self) -> None:
        """Tell clients of the devices as they are now."""
        self.follow()
        if self._ports.publisher.wanted("devices"):
            self._ports.publisher.publish("devices", self.state())

    def close(self) -> None:
        """Stop listening to everything."""
        for device in list(self._ears):
            self._leave(device).close()
