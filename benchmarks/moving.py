"""Eight surfaces that move at once: peers of a MIDI session that send a thousand events a second each, and get every
value back."""

from __future__ import annotations

import os
import select
import socket
import struct
import subprocess
import sys
import time
from pathlib import Path

from brass_pebble.client import EngineClient
from brass_pebble.core.rtp.packets import ACCEPT, INVITE, Exchange, read_packet
from effort import Effort
from figures import Figure, percentile
from host import measured_engine

sys.path.insert(0, str(Path(__file__).parent.parent / "tools"))

from network_peers import neighbours

PEERS = 8
A_SECOND = 1_000
# Of a hundred events so many are strokes of a pad; the others turn a knob.
STROKES = 10
HEAD = struct.Struct(">BBHII")
STRUCK, LET_GO = b"\x03\x90\x24\x64", b"\x03\x80\x24\x00"
TURNS = [bytes((3, 0xB0, 7, value)) for value in range(128)]


def write_moving_desk(folder: Path, port: int) -> Path:
    """A desk of eight surfaces, each a peer that hears its knob and its pad answered."""
    folder.mkdir(parents=True, exist_ok=True)
    text = (f'format = 1\nname = "Moving"\noutput = "stage"\n[network]\nmidi = {port}\nlisten = "127.0.0.1"\n')
    (folder / "layouts").mkdir()
    (folder / "layouts" / "one.toml").write_text(
        'name = "One knob, one pad"\ncontrol = [\n  { id = "knob", moves = ["cc 7 on 1"], x = 0, y = 0 },\n'
        '  { id = "pad", sends = "note 36 on 1", x = 1, y = 0 },\n]\n')
    for number in range(PEERS):
        text += (f'[surface.s{number}]\nname = "S{number}"\nlayout = "one"\nat = [{number * 3}, 0]\n'
                 f'device = {{ name = "Peer {number}", bus = "network MIDI" }}\n'
                 f'[surface.s{number}.layer.base]\nname = "Base"\n'
                 f'[surface.s{number}.layer.base.move]\nknob = {{ drive = "cc 8 on 1 to Peer {number}" }}\n'
                 f'[surface.s{number}.layer.base.press]\npad = {{ set = "cc 9 on 1 to Peer {number} at 100 %" }}\n')
    (folder / "desk.toml").write_text(text)
    return folder


class Peer:
    """One peer: what it sent when, and what came back when."""

    def __init__(self, number: int, port: int) -> None:
        self.name, self.source, self.port = f"Peer {number}", 1_000 + number, port
        self.control, self.data = neighbours()
        for sock in (self.control, self.data):
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
        self.sequence = self.value = self.events = 0
        self.turned: list[float] = []
        self.struck: list[float] = []
        self.answered: list[float] = []
        self.stroke_answers: list[float] = []
        self.wrong = 0
        self._next = 0

    def join(self) -> None:
        """Take part in the session."""
        for sock, port in ((self.control, self.port), (self.data, self.port + 1)):
            sock.sendto(Exchange(INVITE, 1, self.source, self.name).write(), ("127.0.0.1", port))
            assert select.select([sock], [], [], 5)[0]
            packet = read_packet(sock.recv(2048))
            assert isinstance(packet, Exchange) and packet.command == ACCEPT, packet
        self.data.connect(("127.0.0.1", self.port + 1))
        self.data.setblocking(False)

    def event(self) -> None:
        """The next event: mostly a turn, now and then a stroke.  Put together by hand: the measurer has to be quick."""
        self.sequence += 1
        self.events += 1
        place = self.events % 100
        if place < STROKES * 2:
            down = place % 2 == 0
            message = STRUCK if down else LET_GO
            if down:
                self.struck.append(time.perf_counter())
        else:
            self.value = (self.value + 1) % 128
            message = TURNS[self.value]
            self.turned.append(time.perf_counter())
        self.data.send(HEAD.pack(0x80, 0xE1, self.sequence & 0xFFFF, 0, self.source) + message)

    def take(self) -> None:
        """What came back: messages of three bytes, a zero before each but the first."""
        receive = self.data.recv
        while True:
            try:
                data = receive(4096)
            except BlockingIOError:
                return
            if data[0] != 0x80:
                # A session packet.
                continue
            now = time.perf_counter()
            for at in range(13 if data[12] < 0x80 else 14, len(data), 4):
                if data[at + 1] == 8:
                    self._next = (self._next + 1) % 128
                    self.wrong += data[at + 2] != self._next
                    self.answered.append(now)
                else:
                    self.stroke_answers.append(now)


def processor_time(pid: int) -> float:
    """Seconds of processor time that a process has used."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


class Bare:
    """Beside it: a bare Python loop that sends every packet's message back with another number, and nothing else."""

    CODE = """
import select, socket, sys
port = int(sys.argv[1])
sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
sock.bind(("127.0.0.1", port))
poll = select.epoll()
poll.register(sock.fileno(), select.EPOLLIN)
sock.setblocking(False)
print("ready", flush=True)
while True:
    poll.poll()
    for _ in range(200):
        try:
            data, address = sock.recvfrom(2048)
        except BlockingIOError:
            break
        if data[13] == 0xB0:
            sock.sendto(b"\\x80" + data[1:14] + bytes((8, data[15])), address)
        elif data[13] == 0x90:
            sock.sendto(data[:13] + bytes((0xB0, 9, 127)), address)
"""


def play(peers: list[Peer], pid: int, seconds: int) -> tuple[float, float]:
    """Send everything at its time and take what comes back; seconds, and the processor time used by a process."""
    began, used = time.perf_counter(), processor_time(pid)
    sent, total = 0, seconds * A_SECOND
    while sent < total:
        due = min(total, int((time.perf_counter() - began) * A_SECOND))
        for _ in range(due - sent):
            for peer in peers:
                peer.event()
        sent = due
        for peer in peers:
            peer.take()
        time.sleep(0.0003)
    lasted, share = time.perf_counter() - began, processor_time(pid) - used
    time.sleep(1)
    for peer in peers:
        peer.take()
    return lasted, share


def times_of(peers: list[Peer]) -> list[float]:
    """Milliseconds from each event to its effect."""
    return [1000 * (there - here) for peer in peers
            for here, there in [*zip(peer.turned, peer.answered, strict=False),
                                *zip(peer.struck, peer.stroke_answers, strict=False)]]


def bare_times(port: int, seconds: int) -> list[float]:
    """The same events through the bare loop."""
    process = subprocess.Popen([sys.executable, "-c", Bare.CODE, str(port + 1)], stdout=subprocess.PIPE)
    try:
        assert process.stdout and process.stdout.readline()
        peers = [Peer(number, port) for number in range(PEERS)]
        for peer in peers:
            peer.data.connect(("127.0.0.1", port + 1))
            peer.data.setblocking(False)
        play(peers, process.pid, seconds)
        return times_of(peers)
    finally:
        process.kill()
        process.wait()


def eight_surfaces(folder: Path, effort: Effort) -> list[Figure]:
    """Eight thousand events a second: the time from each to its effect, losses, order, and the processor's share."""
    port, seconds = 26_004, effort.of(60, 1)
    desk = write_moving_desk(folder, port)
    with measured_engine(desk) as (path, pid), EngineClient(path, "bench") as client:
        peers = [Peer(number, port) for number in range(PEERS)]
        for peer in peers:
            client.ask("admit", name=peer.name, host="127.0.0.1")
            peer.join()
        end = time.monotonic() + 10
        while any(s["state"] != "taken" for s in client.ask("desk")["desk"]["surfaces"]):
            assert time.monotonic() < end
            time.sleep(0.05)
        lasted, share = play(peers, pid, seconds)
        lost = sum(len(peer.turned) + len(peer.struck) - len(peer.answered) - len(peer.stroke_answers)
                   for peer in peers)
        network = client.ask("sessions")["peers"]
    times, beside = times_of(peers), bare_times(port + 100, seconds)
    wrong = sum(peer.wrong for peer in peers)
    dropped = sum(row["lost"] + row["dropped"] for row in network)
    name = f"{PEERS} surfaces, {A_SECOND:,} events a second each, {seconds} s"
    return [Figure(f"{name}: effects missing", lost, "", None, "none", lost == 0),
            Figure(f"{name}: out of order", wrong, "", None, "none", wrong == 0),
            Figure(f"{name}: packets that the engine missed", dropped, "", None, "none", dropped == 0),
            Figure(f"{name}: event to effect, median", percentile(times, 0.5), "ms",
                   percentile(beside, 0.5)),
            Figure(f"{name}: event to effect, 99th percentile", percentile(times, 0.99), "ms",
                   percentile(beside, 0.99), "under 5 ms",
                   percentile(times, 0.99) < 5),
            Figure(f"{name}: processor cores used", share / lasted, "", None, "under 1", share / lasted < 1)]
