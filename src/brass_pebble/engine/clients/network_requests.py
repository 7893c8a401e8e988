"""What clients may ask about devices of the network.  See docs/protocol.md."""

from __future__ import annotations

from brass_pebble.engine.devices.network import Network
from brass_pebble.engine.disk.edits import Edit
from brass_pebble.engine.ports import Ports
from brass_pebble.kinds.inputs.base import InputError

from .editing import Editing
from .server import Client, Message, Refusal

USUAL_PORTS = {"midi": 5004, "osc": 9010}


class NetworkRequests:
    """Answers on behalf of an engine."""

    network: Network

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing

    def do_sessions(self, client: Client, message: Message) -> Message:
        """Who is connected, who asks, what is open."""
        return self.network.state()

    def do_admit(self, client: Client, message: Message) -> Message:
        """Let somebody in from now on, or with `yes` false no longer."""
        name, host = str(message.get("name", "")), str(message.get("host", ""))
        if not host:
            raise Refusal("it is not told whom to let in", "Name a host, and for MIDI its name")
        self.network.admit(name, host, yes=bool(message.get("yes", True)))
        return {}

    def do_invite(self, client: Client, message: Message) -> Message:
        """Ask another computer to take part in our session."""
        host, port = str(message.get("host", "")), int(message.get("port", USUAL_PORTS["midi"]))
        try:
            self.network.invite(host, port, str(message.get("name", "")))
        except InputError as error:
            raise Refusal(str(error), "Open one first: o in the Network view, or midi = 5004 under [network]") from None
        return {}

    def do_dismiss(self, client: Client, message: Message) -> Message:
        """End somebody's part in the session; they may come again."""
        if not self.network.dismiss(str(message.get("name", "")), str(message.get("host", ""))):
            raise Refusal("nobody of that name takes part", "brass-pebble sessions lists who does")
        return {}

    def do_open_network(self, client: Client, message: Message) -> None:
        """Open MIDI sessions or OSC at a port, or close them with port 0."""
        what, port = str(message.get("what", "midi")), message.get("port")
        if what not in USUAL_PORTS:
            raise Refusal(f"there is no network input “{what}”", f"Known are {', '.join(USUAL_PORTS)}")
        number = USUAL_PORTS[what] if port is None else int(port)
        if not 0 <= number < 65_535:
            raise Refusal(f"{number} is no port", "Ports are 1 to 65534; 0 closes it")
        edit = Edit(f"network {what}: {number or 'closed'}", ((("network", what), number or None),))
        self._editing.edit(client, message, lambda: self._editing.store.change(edit))
