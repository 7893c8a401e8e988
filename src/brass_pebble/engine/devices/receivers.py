"""Receivers of MIDI: ports of the system, which are opened as the desk names them, and peers of a session."""

from __future__ import annotations

from typing import Any

from brass_pebble.core.effects.kinds import MIDI, NOTE
from brass_pebble.core.effects.messages import message_of, receiver_name
from brass_pebble.core.play.player import Effect
from brass_pebble.core.say.problem import Problem
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports, Sessions

# After an error of a port, all are opened anew this much later, in ns.
REOPEN_AFTER = 500_000_000


class Receivers:
    """Where MIDI messages go.  With `ports_too`, to ports of the machine beside peers."""

    sessions: Sessions
    takes = frozenset((MIDI, NOTE))

    def __init__(self, ports: Ports, *, ports_too: bool) -> None:
        self._ports, self._ports_too = ports, ports_too
        self._receivers: dict[str, Any] = {}
        self._opening: set[str] = set()
        self._troubles: set[str] = set()

    def follow(self) -> None:
        """A desk was read, or ports came or went: open what it sends to, as far as it is there."""
        for name in self._ports.desk.receivers:
            if name not in self._receivers and name not in self._opening and not is_address(name):
                self._open(name)

    def _open(self, name: str) -> None:
        meant = name or self._ports.desk.midi_to
        if not self._ports_too or not meant or self.sessions.session(name) is not None:
            return
        self._opening.add(name)

        def opened(result: object) -> None:
            self._opening.discard(name)
            if isinstance(result, Exception):
                self.trouble(f"{result}", "Plug it in or correct its name; it is opened when it comes")
            else:
                self._receivers[name] = result
                self._troubles.clear()

        def job() -> Any:
            from brass_pebble.kinds.inputs.midi_ports import open_output
            return open_output(meant)
        self._ports.worker.do(job, opened)

    def trouble(self, what: str, hint: str) -> None:
        """Tell of something that could not be sent, once."""
        if what not in self._troubles:
            self._troubles.add(what)
            log.warning("%s", what)
            self._ports.problems.add(Problem(what, hint=hint))

    def send(self, effects: list[Effect], now: int) -> None:
        """Send each to whom it names."""
        for code, value, *_ in effects:
            self._send_one(receiver_name(code), message_of(code, value))

    def _send_one(self, name: str, message: bytes) -> None:
        session = self.sessions.session(name)
        if session is not None:
            session.send(message)
        elif not self._ports_too:
            return
        elif (port := self._receivers.get(name)) is not None:
            try:
                port.send_message(message)
            except Exception as error:
                # The library raises errors of its own; whether the port has vanished is seen in a moment.
                # One that only had too much to do is as good then as before.
                log.warning("sending to “%s” failed: %s", name, error)
                self._ports.alarms.later("midi receivers", REOPEN_AFTER, self._open_anew)
        else:
            called = name or self._ports.desk.midi_to
            self.trouble(f"nothing called “{called}” takes MIDI messages now" if called else
                         "a MIDI message has no receiver",
                         "Plug it in; or name a receiver: to \"Kiln\", or midi_to in desk.toml")

    def _open_anew(self, now: int) -> None:
        """Something could not be sent: open every port again, in case one has vanished."""
        ports, self._receivers = self._receivers, {}

        def close() -> None:
            for port in ports.values():
                _close(port)
        self._ports.worker.do(close, lambda result: self.follow())

    def close(self) -> None:
        """Let every receiver go."""
        for port in self._receivers.values():
            _close(port)
        self._receivers = {}


def _close(port: Any) -> None:
    port.close()


def is_address(name: str) -> bool:
    """Whether a receiver is an address, HOST:PORT, and no port's name."""
    return name.rpartition(":")[2].isdigit()
