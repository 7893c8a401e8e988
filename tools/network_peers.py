"""Made-up devices of the network for the pictures: a tablet that plays pads, one that asks, a sender of OSC.

Their packets are made by the package pymidi; they speak to this machine only.
"""

from __future__ import annotations

import random
import socket
import time
from pathlib import Path

from pymidi import packets
from pythonosc.osc_message_builder import OscMessageBuilder

NETWORK = '\n[network]\nmidi = 25004\nosc = 29010\nlisten = "127.0.0.1"\n'
TABLET = """
[surface.tablet]
name = "Tablet"
layout = "pads-16"
at = [10, 10]
device = { name = "Gull tablet", bus = "network MIDI" }

[surface.tablet.layer.base]
name = "Base"

[surface.tablet.layer.base.press]
1 = { tap = "Ctrl+Alt+1", label = "wide", tint = "sky" }
2 = { tap = "Ctrl+Alt+2", label = "hob", tint = "sky" }
3 = { tap = "Ctrl+Alt+3", label = "oven", tint = "sky" }
"""


def neighbours() -> tuple[socket.socket, socket.socket]:
    """Two sockets at ports that follow one another, as a session has them."""
    while True:
        first, second = (socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(2))
        first.bind(("127.0.0.1", 0))
        try:
            second.bind(("127.0.0.1", first.getsockname()[1] + 1))
        except OSError:
            # Somebody else has the next one.
            first.close()
            second.close()
        else:
            return first, second


class Peer:
    """One peer of the session."""

    def __init__(self, name: str) -> None:
        self.name, self.ssrc, self.sequence = name, random.getrandbits(31), 1
        self.control, self.data = neighbours()

    def invite(self) -> None:
        """Ask to take part."""
        packet = packets.AppleMIDIExchangePacket.build({"command": b"IN", "protocol_version": 2, "initiator_token": 7,
                                                        "ssrc": self.ssrc, "name": self.name})
        for sock, port in ((self.control, 25004), (self.data, 25005)):
            sock.sendto(packet, ("127.0.0.1", port))
            time.sleep(0.2)

    def play(self, note: int, *, skip: int = 0) -> None:
        """Strike a pad and let it go."""
        for commands in (bytes((0x99, note, 90)), bytes((0x89, note, 0))):
            self.sequence += 1 + skip
            skip = 0
            head = packets.MIDIPacketHeader.build({
                "rtp_header": {"flags": {"v": 2, "p": 0, "x": 0, "cc": 0, "m": 1, "pt": 0x61},
                               "sequence_number": self.sequence}, "timestamp": 0, "ssrc": self.ssrc})
            self.data.sendto(head + bytes((3,)) + commands, ("127.0.0.1", 25005))
            time.sleep(0.05)

    def sync(self) -> None:
        """Tell how long a way takes."""
        self.data.sendto(packets.AppleMIDITimestampPacket.build({
            "command": b"CK", "ssrc": self.ssrc, "count": 2, "timestamp_1": 100, "timestamp_2": 0,
            "timestamp_3": 118}), ("127.0.0.1", 25005))


def connect(desk: Path, run: Path) -> list[Peer]:
    """Open the desk to the network and let a tablet join it; `run` is the engine's runtime folder."""
    import os
    os.environ["XDG_RUNTIME_DIR"] = str(run)
    from brass_pebble.client import EngineClient, find_engine
    text = (desk / "desk.toml").read_text()
    (desk / "desk.toml").write_text(text + NETWORK + TABLET)
    time.sleep(1.5)
    with EngineClient(find_engine(desk), "pictures") as client:
        client.ask("admit", name="Gull tablet", host="127.0.0.1")
        tablet, other = Peer("Gull tablet"), Peer("Wren phone")
        tablet.invite()
        other.invite()
        time.sleep(0.6)
        for note in (36, 37, 38, 37):
            tablet.play(note)
        tablet.play(36, skip=2)
        tablet.sync()
        builder = OscMessageBuilder("/glow")
        builder.add_arg(0.7)
        tablet.control.sendto(builder.build().dgram, ("127.0.0.1", 29010))
    return [tablet, other]
