"""Devices that are reached over the network: MIDI sessions (RTP-MIDI) and OSC.

Both are open only where the desk says so, and hear only whom the person has let in once.  The sockets belong to the
loop; only announcing us by DNS-SD and looking for others runs on the library's own threads.
"""

from __future__ import annotations

import contextlib
import json
import secrets
import socket
from collections.abc import Callable
from pathlib import Path
from typing import Any

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.rtp.session import CONTROL, DATA, Peer, Session
from brass_pebble.core.say.durations import SECOND
from brass_pebble.core.say.problem import Problem
from brass_pebble.engine.devices.addresses import Addresses
from brass_pebble.engine.devices.ownership import Devices
from brass_pebble.engine.logs import log
from brass_pebble.engine.loop import Worker
from brass_pebble.engine.ports import Follows, Ports
from brass_pebble.file_access import private_folder, read_text, write_text
from brass_pebble.kinds.inputs.base import Input, InputError
from brass_pebble.kinds.inputs.network import OscInput, SessionInput, peer_facts, sender_facts

# The service type that RTP-MIDI sessions are registered with.
SERVICE = "_apple-midi._udp.local."
LONGEST_DATAGRAM = 65_536
# Datagrams taken at once before anything else gets its turn.
MOST_AT_ONCE = 200
MOST_SENDERS = 16
# Bytes of messages in one packet: it fits one frame of the network.
LARGEST_BATCH = 1_200
# OSC messages a second from one sender.
MOST_OSC_A_SECOND = 4_000


class SessionReceiver:
    """A peer as a receiver of messages."""

    def __init__(self, network: Network, peer: Peer) -> None:
        self._network, self.peer = network, peer
        self.waiting: list[bytes] = []

    def send(self, message: bytes) -> None:
        """Send one message, with all others of this round of the loop."""
        if not self.waiting:
            self._network.to_flush.append(self)
        self.waiting.append(message)


class OscSender:
    """Somebody who sends OSC: when last, how much, and how much was too much."""

    def __init__(self, host: str, now: int, *, admitted: bool) -> None:
        self.host, self.admitted = host, admitted
        self.since = self.seen = now
        self.messages = self.dropped = self.malformed = 0
        self.allowance = float(MOST_OSC_A_SECOND)
        self.counted = self.since


class Network:
    """What is connected over the network."""

    devices: Devices
    messages: Follows
    addresses: Addresses

    def __init__(self, ports: Ports, known: Path | None) -> None:
        self._ports, self._known = ports, known
        self._admitted: set[tuple[str, str]] = set()
        self._session: Session | None = None
        self._sockets: dict[str, socket.socket] = {}
        self._inputs: dict[str, SessionInput | OscInput] = {}
        self._senders: dict[str, OscSender] = {}
        self._settings: tuple[object, ...] = ()
        self._zeroconf: Any = None
        self._found: dict[str, tuple[str, int]] = {}
        self.to_flush: list[SessionReceiver] = []
        # By name in lower case, and inputs by the peer's number: looked up for every message.
        self._receivers: dict[str, SessionReceiver] = {}
        self._by_source: dict[int, SessionInput] = {}
        # Announcing takes seconds, and the engine's own worker has the desk to save.
        self._helper = Worker(self._ports.loop)
        self._read_admitted()

    # Whom the person has let in.

    @property
    def _file(self) -> Any:
        known = self._known
        return known.with_name(known.stem + "-peers.json") if known else None

    def _read_admitted(self) -> None:
        if self._file is not None and self._file.is_file():
            try:
                rows = json.loads(read_text(self._file))
                self._admitted = {(str(name), str(host)) for name, host in rows}
            except (OSError, ValueError, TypeError) as error:
                log.warning("who was let in cannot be read: %s", error)

    def admits(self, name: str, host: str) -> bool:
        """Whether somebody has been let in."""
        return (name, host) in self._admitted

    def admit(self, name: str, host: str, *, yes: bool) -> None:
        """Let somebody in from now on, or no longer; OSC senders have no name."""
        (self._admitted.add if yes else self._admitted.discard)((name, host))
        if host in self._senders and not name:
            self._senders[host].admitted = yes
            if not yes:
                self._pull_out(sender_facts(host).id)
        if self._session is not None:
            for peer in [*self._session.peers.values(), *self._session.asking.values()]:
                if (peer.name, peer.address[0]) == (name, host):
                    self._session.asking.pop((name, host), None)
                    if not yes:
                        self._session.dismiss(peer)
            self._session.changed = True
        if self._file is not None:
            text, file = json.dumps(sorted(self._admitted), ensure_ascii=False), self._file

            def write() -> None:
                private_folder(file.parent)
                write_text(file, text)
            self._ports.worker.do(write, lambda result: None)
        self._after()
        self.devices.look_again()

    # Opening and closing.

    def follow(self) -> None:
        """Open and close what the desk wants."""
        desk = self._ports.desk
        settings = (desk.network.midi, desk.network.osc, desk.network.listen, desk.network.name or desk.name)
        if settings == self._settings:
            return
        self.shut(then=lambda close: self._helper.do(close, lambda result: None))
        self._settings = settings
        midi, osc, listen, name = settings
        if midi:
            self._open_session(str(name), str(listen), int(str(midi)))
        if osc:
            self._bind("osc", str(listen), int(str(osc)), self._osc_ready)
        self.tell()

    def _bind(self, what: str, host: str, port: int, ready: Any) -> bool:
        listening = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        listening.setblocking(False)
        with contextlib.suppress(OSError):
            listening.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
        try:
            listening.bind((host, port))
        except OSError as error:
            listening.close()
            self._ports.problems.add(Problem(
                f"port {port} of {host} cannot be opened for {what}: {error.strerror}",
                "desk.toml", hint="Another program has it, or another desk: choose another port under [network]"))
            return False
        self._sockets[what] = listening
        self._ports.loop.watch(listening.fileno(), ready)
        return True

    def _open_session(self, name: str, host: str, port: int) -> None:
        def ready_for(which: str) -> Any:
            return lambda events: self._session_ready(which)
        if not (self._bind(CONTROL, host, port, ready_for(CONTROL))
                and self._bind(DATA, host, port + 1, ready_for(DATA))):
            return
        self._session = Session(name, secrets.randbits(32), self.admits)
        self._helper.do(lambda: self._announce(name, host, port), self._announced)

    def _announce(self, name: str, listen: str, port: int) -> Any:
        """Tell the local network of us, and look for others; takes some seconds, on a thread of its own."""
        from zeroconf import ServiceBrowser, ServiceInfo, ServiceStateChange, Zeroconf
        everywhere = listen == "0.0.0.0"
        if listen.startswith("127."):
            # Nobody else could come, so nobody else is told, and nothing else is listened to.
            return None
        zeroconf = Zeroconf() if everywhere else Zeroconf(interfaces=[listen])
        host = socket.gethostname().partition(".")[0] or "brass-pebble"
        label = name.replace(".", " ")[:60]
        info = ServiceInfo(SERVICE, f"{label}.{SERVICE}", port=port, server=f"{host}.local.",
                           parsed_addresses=_own_addresses() if everywhere else [listen])
        zeroconf.register_service(info, allow_name_change=True)

        def changed(zeroconf: Any, service_type: str, name: str, state_change: Any) -> None:
            shown = name.removesuffix("." + SERVICE)
            if state_change is ServiceStateChange.Removed:
                self._found.pop(shown, None)
            elif shown != label and (found := zeroconf.get_service_info(service_type, name, 1000)):
                addresses = found.parsed_addresses()
                if addresses:
                    self._found[shown] = (addresses[0], found.port)
        ServiceBrowser(zeroconf, SERVICE, handlers=[changed])
        return zeroconf

    def _announced(self, result: object) -> None:
        if isinstance(result, Exception):
            self._ports.problems.add(Problem(f"the local network cannot be told of this session: {result}",
                                             hint="Others can still invite it by its address"))
        elif result is None:
            return
        elif self._session is None:
            self._helper.do(result.close, lambda _: None)  # type: ignore[attr-defined]
        else:
            self._zeroconf = result

    # What arrives.

    def _session_ready(self, which: str) -> None:
        listening, session = self._sockets.get(which), self._session
        if listening is None or session is None:
            return
        for _ in range(MOST_AT_ONCE):
            try:
                data, address = listening.recvfrom(LONGEST_DATAGRAM)
            except (BlockingIOError, ConnectionError):
                break
            session.receive(which, data, address, self._ports.now())
        self._after()

    def _after(self) -> None:
        """Send what the session wants to say, hand on what it heard, set the next alarm."""
        session = self._session
        if session is None:
            self.tell()
            return
        out, session.out = session.out, []
        for which, address, data in out:
            if (sending := self._sockets.get(which)) is not None:
                with contextlib.suppress(OSError):
                    sending.sendto(data, address)
        heard, session.heard = session.heard, []
        now = self._ports.now()
        touched: dict[SessionInput, None] = {}
        for peer, message in heard:
            source = self._by_source.get(peer.source)
            if source is not None:
                source.note(message, now)
                touched[source] = None
        # They are read at once: the way over a descriptor would be longer than all the rest.
        for source in touched:
            if not self._ports.loop.serve(source.filenos()[0]):
                source.arrived(b"", now)
        if session.changed:
            session.changed = False
            self._receivers = {}
            for peer in session.connected():
                self._receivers.setdefault(peer.name.casefold(), SessionReceiver(self, peer))
            here = {facts.id for facts in [*self.peers(), *self.senders()]}
            for name in [name for name in self._inputs if name not in here]:
                self._pull_out(name)
            self.devices.look_again()
            self.messages.follow()
            session.news = True
        if session.news:
            session.news = False
            self.tell()
        due = session.next_deadline()
        if due is not None:
            self._ports.alarms.at("session", due, self._advance)

    def _advance(self, now: int) -> None:
        if self._session is not None:
            self._session.advance(now)
            self._after()

    def _osc_ready(self, events: int) -> None:
        listening = self._sockets.get("osc")
        if listening is None:
            return
        for _ in range(MOST_AT_ONCE):
            try:
                data, address = listening.recvfrom(LONGEST_DATAGRAM)
            except (BlockingIOError, ConnectionError):
                break
            self._take_osc(data, address[0])

    def _take_osc(self, data: bytes, host: str) -> None:
        from pythonosc.osc_packet import OscPacket
        sender, now = self._senders.get(host), self._ports.now()
        if sender is None:
            admitted = self.admits("", host)
            if len(self._senders) >= MOST_SENDERS and not self._make_room():
                return
            sender = self._senders[host] = OscSender(host, self._ports.now(), admitted=admitted)
            if admitted:
                self.devices.look_again()
            self.tell()
        sender.seen = now
        grown = (now - sender.counted) * MOST_OSC_A_SECOND / SECOND
        sender.allowance = min(MOST_OSC_A_SECOND, sender.allowance + grown)
        sender.counted = now
        if sender.allowance < 1:
            sender.dropped += 1
            return
        sender.allowance -= 1
        if not sender.admitted:
            return
        try:
            messages = OscPacket(data).messages
        except Exception:
            # Whatever the parser meets in what somebody sent (bundles nested without end, too) concerns that sender.
            sender.malformed += 1
            return
        source = self._inputs.get(sender_facts(host).id)
        for timed in messages:
            sender.messages += 1
            value = next(iter(timed.message.params), 1.0)
            if isinstance(source, OscInput) and isinstance(value, int | float):
                source.take(timed.message.address, float(value), now)

    def _make_room(self) -> bool:
        """Forget a stranger, so that nobody who was let in is kept out by many who were not; false if there is none."""
        stranger = min((sender for sender in self._senders.values() if not sender.admitted),
                       key=lambda sender: sender.seen, default=None)
        if stranger is not None:
            del self._senders[stranger.host]
        return stranger is not None

    # What the engine asks.

    def peers(self) -> list[DeviceFacts]:
        """Those of the session that are connected."""
        return [peer_facts(peer.name, peer.where) for peer in (self._session.connected() if self._session else ())]

    def senders(self) -> list[DeviceFacts]:
        """Those who send OSC, and were let in."""
        return [sender_facts(sender.host) for sender in list(self._senders.values()) if sender.admitted]

    def open_peer(self, facts: DeviceFacts) -> Input:
        """The input of a peer.

        Raises:
            InputError: it has left.
        """
        peer = next((p for p in (self._session.connected() if self._session else ())
                     if peer_facts(p.name, p.where).id == facts.id), None)
        if peer is None:
            raise InputError(f"“{facts.shown}” has left the session")
        source = SessionInput(facts, SessionReceiver(self, peer).send)
        self._inputs[facts.id] = self._by_source[peer.source] = source
        return source

    def open_sender(self, facts: DeviceFacts) -> Input:
        """The input of one who sends OSC."""
        source = self._inputs[facts.id] = OscInput(facts)
        return source

    def _pull_out(self, device: str) -> None:
        source = self._inputs.pop(device, None)
        if source is not None:
            self._by_source = {number: other for number, other in self._by_source.items() if other is not source}
            source.pull_out()

    def session(self, name: str) -> SessionReceiver | None:
        """The peer called `name` (in any case) as a receiver, or None."""
        return self._receivers.get(name) or self._receivers.get(name.casefold()) if name and self._receivers else None

    def flush(self) -> None:
        """At the end of each round of the loop: send what waits, in one packet for each peer, or few."""
        receivers, self.to_flush = self.to_flush, []
        session, sending = self._session, self._sockets.get(DATA)
        for receiver in receivers:
            waiting, receiver.waiting = receiver.waiting, []
            if session is None or sending is None:
                continue
            now, size = self._ports.now(), 0
            batch: list[bytes] = []
            for message in waiting:
                if batch and size + len(message) > LARGEST_BATCH:
                    session.send(receiver.peer, batch, now)
                    batch, size = [], 0
                batch.append(message)
                size += len(message) + 1
            session.send(receiver.peer, batch, now)
            out, session.out = session.out, []
            for which, address, data in out:
                with contextlib.suppress(OSError):
                    self._sockets[which].sendto(data, address)

    def invite(self, host: str, port: int, name: str = "") -> None:
        """Ask another computer to take part; whom we ask is let in."""
        if self._session is None:
            raise InputError("this desk takes part in no session")

        def found(address: str, wrong: str) -> None:
            if not address:
                self._ports.problems.add(Problem(f"{host} was not invited: {wrong}",
                                                 hint="Write its address in numbers, like 192.168.1.20"))
            elif self._session is not None:
                self._session.invite((address, port), secrets.randbits(32), self._ports.now(), name)
                self._after()
        self.addresses.look(host, found)

    def dismiss(self, name: str, host: str) -> bool:
        """End a peer's part; false if there is none."""
        if self._session is None:
            return False
        found = [peer for peer in [*self._session.peers.values(), *self._session.invited()]
                 if (peer.name, peer.address[0]) == (name, host)]
        for peer in found:
            self._session.dismiss(peer)
        self._after()
        return bool(found)

    # The state, for clients.

    def state(self) -> dict[str, Any]:
        """Who is connected, since when, how well; who asks; what is open."""
        now, session = self._ports.now(), self._session
        rows = []
        for peer in [*session.peers.values(), *session.invited(), *session.asking.values()] if session else []:
            facts = peer_facts(peer.name, peer.where)
            rows.append({
                "kind": "midi", "name": peer.name, "host": peer.address[0], "port": peer.address[1],
                "state": peer.state, "for_ms": (now - peer.since) // 1_000_000, "latency_ms": peer.latency / 1e6,
                "lost": peer.lost, "late": peer.late, "dropped": peer.dropped, "messages": peer.messages,
                "malformed": peer.malformed, "surface": self.devices.owner(facts.id)})
        for sender in self._senders.values():
            rows.append({
                "kind": "osc", "name": "", "host": sender.host, "port": 0,
                "state": "connected" if sender.admitted else "asks", "for_ms": (now - sender.since) // 1_000_000,
                "latency_ms": 0, "lost": 0, "late": 0, "dropped": sender.dropped, "messages": sender.messages,
                "malformed": sender.malformed, "surface": self.devices.owner(sender_facts(sender.host).id)})
        network = self._ports.desk.network
        return {"midi": network.midi if session else 0, "osc": network.osc if "osc" in self._sockets else 0,
                "name": session.name if session else "", "listen": network.listen, "peers": rows,
                "found": [{"name": name, "host": host, "port": port}
                          for name, (host, port) in list(self._found.items())],
                "admitted": [{"name": name, "host": host} for name, host in sorted(self._admitted)]}

    def tell(self) -> None:
        """Tell clients."""
        if self._ports.publisher.wanted("sessions"):
            self._ports.publisher.publish("sessions", self.state())

    def close(self) -> None:
        """End everything, for good."""
        self.shut(then=lambda close: close())
        self._helper.close()

    def shut(self, then: Callable[[Callable[[], None]], object]) -> None:
        """Close what is open; what takes its time is handed to `then`."""
        self.flush()
        if self._session is not None:
            self._session.leave()
            for which, address, data in self._session.out:
                if (sending := self._sockets.get(which)) is not None:
                    with contextlib.suppress(OSError):
                        sending.sendto(data, address)
        for name in list(self._inputs):
            self._pull_out(name)
        self._session, self._settings = None, ()
        for listening in self._sockets.values():
            self._ports.loop.forget(listening.fileno())
            listening.close()
        self._sockets, self._senders = {}, {}
        self._ports.alarms.cancel("session")
        if self._zeroconf is not None:
            then(self._zeroconf.close)
            self._zeroconf = None


def _own_addresses() -> list[str]:
    """The addresses that others can reach us at."""
    import ifaddr
    return [str(ip.ip) for adapter in ifaddr.get_adapters() for ip in adapter.ips
            if isinstance(ip.ip, str) and not ip.ip.startswith("127.")] or ["127.0.0.1"]
