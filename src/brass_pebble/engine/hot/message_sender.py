"""Effects that are no keys: MIDI to ports and sessions, OSC to addresses, axes of the virtual controller.

Ports are opened on the worker when a desk names them; what cannot be sent is dropped, and told once.
"""

from __future__ import annotations

import socket
from typing import Any

from brass_pebble.core.effects.messages import message_of, receiver_name
from brass_pebble.core.effects.pointer import MESSAGES, OSC_MESSAGES, SOUNDING, WIDE
from brass_pebble.core.play.player import Effect
from brass_pebble.core.say.problem import Problem
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports, Sessions
from brass_pebble.kinds.outputs.base import Output, OutputError
from brass_pebble.kinds.outputs.stage import StageOutput

REOPEN_AFTER = 500_000_000


class Messages:
    """Where messages go."""

    network: Sessions
    output: Output

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self._receivers: dict[str, Any] = {}
        self._opening: set[str] = set()
        self._troubles: set[str] = set()
        self._addresses: dict[str, tuple[str, int]] = {}
        self._socket: socket.socket | None = None
        self._controller: Any = None

    def follow(self) -> None:
        """A desk was read, or ports came or went: open what it sends to, as far as it is there."""
        for name in self._ports.desk.receivers:
            if name not in self._receivers and name not in self._opening and not _is_address(name):
                self._open(name)
        if self._controller is None and self._ports.desk.uses_controller and \
                not isinstance(self.output, StageOutput):
            self._make_controller()

    def _open(self, name: str) -> None:
        if isinstance(self.output, StageOutput) or self.network.session(name) is not None:
            return
        meant = name or self._ports.desk.midi_to
        if not meant:
            return
        self._opening.add(name)

        def opened(result: object) -> None:
            self._opening.discard(name)
            if isinstance(result, Exception):
                self._trouble(f"{result}", "Plug it in or correct its name; it is opened when it comes")
            else:
                self._receivers[name] = result
                self._troubles.clear()

        def job() -> Any:
            from brass_pebble.kinds.inputs.midi_ports import open_output
            return open_output(meant)
        self._ports.worker.do(job, opened)

    def _make_controller(self) -> None:
        from brass_pebble.kinds.outputs.controller import ControllerOutput
        try:
            self._controller = ControllerOutput()
        except OutputError as error:
            self._trouble(str(error), "brass-pebble checkup tells what is missing")

    def _trouble(self, what: str, hint: str) -> None:
        if what not in self._troubles:
            self._troubles.add(what)
            log.warning("%s", what)
            self._ports.problems.add(Problem(what, hint=hint))

    def send(self, out: list[Effect], now: int) -> None:
        """Send effects of all kinds in their order."""
        output = self.output
        if isinstance(output, StageOutput):
            output.send(out, now)
            # Whoever was let into the session and is named hears it, too; ports of the machine are left alone.
            for code, value, *_ in out:
                if code >= MESSAGES and (session := self.network.session(receiver_name(code))) is not None:
                    session.send(message_of(code, value))
            return
        keys: list[Effect] = []
        for effect in out:
            if effect[0] < WIDE:
                keys.append(effect)
                continue
            if keys:
                output.send(keys, now)
                keys = []
            self._send_one(effect[0], effect[1])
        if keys:
            output.send(keys, now)

    def _send_one(self, code: int, value: int) -> None:
        if code < MESSAGES:
            if self._controller is not None:
                self._controller.move(code, value)
            return
        name = receiver_name(code)
        if OSC_MESSAGES <= code < SOUNDING:
            self._send_datagram(name, message_of(code, value))
            return
        self.send_midi(name, message_of(code, value))

    def send_midi(self, name: str, message: bytes) -> bool:
        """Send a MIDI message to a session or a port; false if neither is there."""
        session = self.network.session(name)
        if session is not None:
            session.send(message)
        elif (port := self._receivers.get(name)) is not None:
            try:
                port.send_message(message)
            except Exception as error:
                # The library raises errors of its own; whether the port has vanished is seen in a moment.
                # One that only had too much to do is as good then as before.
                log.warning("sending to “%s” failed: %s", name, error)
                self._ports.alarms.later("midi receivers", REOPEN_AFTER, self._open_anew)
                return False
        else:
            self._trouble(f"nothing called “{name or self._ports.desk.midi_to}” takes MIDI messages now" if name or
                          self._ports.desk.midi_to else "a MIDI message has no receiver",
                          "Plug it in; or name a receiver: to \"Kiln\", or midi_to in desk.toml")
            return False
        return True

    def _open_anew(self, now: int) -> None:
        """Something could not be sent: open every port anew, in case one has vanished."""
        ports, self._receivers = self._receivers, {}

        def close() -> None:
            for port in ports.values():
                _close(port)
        self._ports.worker.do(close, lambda result: self.follow())

    def _send_datagram(self, name: str, data: bytes) -> None:
        if self._socket is None:
            self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            self._socket.setblocking(False)
        address = self._addresses.get(name)
        if address is None:
            host, _, port = name.rpartition(":")
            address = self._addresses[name] = ("127.0.0.1" if host == "localhost" else host, int(port))
        try:
            self._socket.sendto(data, address)
        except OSError as error:
            self._trouble(f"{name} cannot be sent to: {error.strerror or error}",
                          "Write the receiver’s address in numbers, like 192.168.1.20:9000")

    def close(self) -> None:
        """Let every receiver go."""
        for port in self._receivers.values():
            _close(port)
        self._receivers = {}
        if self._controller is not None:
            self._controller.close()
        if self._socket is not None:
            self._socket.close()


def _close(port: Any) -> None:
    port.close_port()
    port.delete()


def _is_address(name: str) -> bool:
    return name.rpartition(":")[2].isdigit()


