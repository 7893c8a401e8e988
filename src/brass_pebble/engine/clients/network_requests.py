"""What clients may ask about devices of the network.  See docs/protocol.md."""

from __future__ import annotations

from brass_pebble.engine.devices.network import Network
from brass_pebble.engine.disk.edits import Edit
from brass_pebble.engine.ports import Ports
from brass_pebble.kinds.inputs.base import InputError
from brass_pebble.protocol import network as messages
from brass_pebble.protocol.errors import Refusal

from .editing import Editing
from .server import Client, Message

USUAL_PORTS = {"midi": 5004, "osc": 9010}


class NetworkRequests:
    """Answers on behalf of an engine."""

    network: Network

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing

    def do_sessions(self, client: Client, ask: messages.AskSessions) -> Message:
        """Who is connected, who asks, what is open."""
        return self.network.state()

    def do_admit(self, client: Client, ask: messages.Admit) -> Message:
        """Let somebody in from now on, or with `yes` false no longer."""
        name, host = ask.name, ask.host
        if not host:
            raise Refusal("it is not told whom to let in", "Name a host, and for MIDI its name")
        self.network.admit(name, host, yes=ask.yes)
        return {}

    def do_invite(self, client: Client, ask: messages.Invite) -> Message:
        """Ask another computer to take part in our session."""
        host, port = ask.host, ask.port
        try:
            self.network.invite(host, port, ask.name)
        except InputError as error:
            raise Refusal(str(error), "Open one first: 1 in the Network view, or midi = 5004 under [network]") from None
        return {}

    def do_dismiss(self, client: Client, ask: messages.Dismiss) -> Message:
        """End somebody's part in the session; they may come again."""
        if not self.network.dismiss(ask.name, ask.host):
            raise Refusal("nobody of that name takes part", "brass-pebble sessions lists who does")
        return {}

    def do_open_network(self, client: Client, ask: messages.OpenNetwork) -> None:
        """Open MIDI sessions or OSC at a port, or close them with port 0."""
        what, port = ask.what, ask.port
        if what not in USUAL_PORTS:
            raise Refusal(f"there is no network input “{what}”", f"Available: {', '.join(USUAL_PORTS)}")
        number = USUAL_PORTS[what] if port is None else int(port)
        if not 0 <= number < 65_535:
            raise Refusal(f"{number} is not a valid port", "Ports are 1 to 65534; 0 closes it")
        edit = Edit(f"network {what}: {number or 'closed'}", ((("network", what), number or None),))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))
