"""Who takes part in our MIDI session: invitations, clocks, what got lost.  Pure: the time is an argument.

Datagrams to send pile up in `out`, messages that arrived in `heard`; the caller takes both.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from brass_pebble.core.say.durations import SECOND
from brass_pebble.core.signals.midi import NOTE_OFF, NOTE_ON, kind_of, lets_go

from .journal import Journal
from .packets import (
    ACCEPT,
    INVITE,
    LEAVE,
    REFUSE,
    Clock,
    Exchange,
    Feedback,
    MalformedError,
    Payload,
    read_packet,
    write_payload,
)

MOST_PEERS = 8
MOST_ASKING = 16
# Messages a second that one peer may send; a full second may come at once.
MOST_A_SECOND = 4_000
SYNC_EVERY, FEEDBACK_EVERY, VANISHED_AFTER = 10 * SECOND, SECOND, 35 * SECOND
# One of the same name and address that was silent for so long is the same one, started again.
RESTARTED_AFTER = 12 * SECOND
# Until an invitation is accepted it is sent again, some times.
INVITE_EVERY, MOST_INVITES = SECOND, 8
# How far a packet may lie ahead or behind before it is believed only with the one that follows it (RFC 3550, A.1), and
# how many in a row show that an earlier one ahead of them was not the peer's.
MOST_DROPOUT, MOST_MISORDER, IN_A_ROW = 3_000, 100, 3
# A note whose release may have been lost ends so long after the loss, if no journal tells.  One that is held goes on
# for as long as its peer is there, however little it says: it may be somebody's push to talk.
LOST_ENDS = 5 * SECOND
TICK = 100_000
CONTROL, DATA = "control", "data"
Address = tuple[str, int]


@dataclass
class Peer:
    """Another computer or tablet.  `address` is that of its control port; its data port is the next one.

    Its state is "asks" (not admitted), "invited" (by us), "joining", or "connected".  Times in ns; `latency` is half a
    round trip; `lost` packets never came, `late` ones came behind a newer one, `dropped` messages were too many.
    """

    name: str
    address: Address
    source: int
    state: str
    token: int = 0
    since: int = 0
    seen: int = 0
    latency: int = 0
    lost: int = 0
    late: int = 0
    dropped: int = 0
    messages: int = 0
    malformed: int = 0
    data_address: Address | None = None
    sequence: int | None = None
    own_sequence: int = 1
    told: int = 0
    acknowledged: int = -1
    synced: int = 0
    invites: int = 0
    ours: bool = False
    allowance: float = MOST_A_SECOND
    counted: int = 0
    sounding: set[tuple[int, int]] = field(default_factory=set)
    # The packet that would show that a jump was no forgery, and how many came in a row.
    expected: int = -1
    in_a_row: int = 0
    # When a packet with MIDI came last; and when what sounded at a loss is let go, if it sounds still.
    doubted: set[tuple[int, int]] = field(default_factory=set)
    doubted_until: int = 0
    journal: Journal = field(default_factory=Journal)
    place: int = 1

    @property
    def where(self) -> str:
        """Its address; with a number behind it where two of the same name share it."""
        return self.address[0] if self.place == 1 else f"{self.address[0]} #{self.place}"


class Session:
    """Our end of the sessions.  `admits(name, host)` tells whether the person has allowed somebody."""

    def __init__(self, name: str, source: int, admits: Callable[[str, str], bool]) -> None:
        self.name, self.source = name, source
        self.peers: dict[int, Peer] = {}
        self.asking: dict[tuple[str, str], Peer] = {}
        self.out: list[tuple[str, Address, bytes]] = []
        self.heard: list[tuple[Peer, bytes]] = []
        # Somebody came or went; somebody asks, or is measured anew.
        self.changed = True
        self.news = True
        self.malformed = 0
        self._admits = admits
        self._invited: dict[int, Peer] = {}

    def connected(self) -> list[Peer]:
        """Those who take part."""
        # A copy is made in one go: others than the loop may ask.
        return [peer for peer in list(self.peers.values()) if peer.state == "connected"]

    # Arrivals.

    def receive(self, port: str, data: bytes, address: Address, now: int) -> None:
        """A datagram arrived at our control or data port."""
        try:
            packet = read_packet(data)
        except MalformedError:
            self.malformed += 1
            peer = next((peer for peer in self.peers.values() if address in (peer.address, peer.data_address)), None)
            if peer is not None:
                peer.malformed += 1
            return
        if isinstance(packet, Exchange):
            {INVITE: self._invitation, ACCEPT: self._accepted, REFUSE: self._refused, LEAVE: self._left}[
                packet.command](port, packet, address, now)
        elif isinstance(packet, Clock):
            self._clock(packet, address, now)
        elif isinstance(packet, Payload):
            self._payload(packet, address, now)
        elif isinstance(packet, Feedback):
            self._acknowledged(packet, address)

    def _invitation(self, port: str, packet: Exchange, address: Address, now: int) -> None:
        known = self.peers.get(packet.source)
        if known is not None and known.address[0] != address[0]:
            # Somebody else's number: whoever has it keeps it.
            self._send(port, address, Exchange(REFUSE, packet.token, self.source))
            return
        if port == DATA:
            if known is None or known.state not in ("joining", "connected") or packet.token != known.token or (
                    address[1] != known.address[1] + 1):
                self._send(port, address, Exchange(REFUSE, packet.token, self.source))
                return
            known.data_address, known.seen = address, now
            if known.state != "connected":
                known.state, known.since, self.changed = "connected", now, True
            self._send(port, address, Exchange(ACCEPT, packet.token, self.source, self.name))
            return
        if not self._admits(packet.name, address[0]):
            self._ask(packet, address, now)
            self._send(port, address, Exchange(REFUSE, packet.token, self.source))
            return
        if known is None and len(self.peers) >= MOST_PEERS:
            self._send(port, address, Exchange(REFUSE, packet.token, self.source))
            return
        if known is not None and packet.token == known.token and address == known.address:
            # The answer got lost.
            known.seen = now
            self._send(port, address, Exchange(ACCEPT, packet.token, self.source, self.name))
            return
        if known is not None and known.state == "connected" and now - known.seen < RESTARTED_AFTER:
            # Whoever takes part is not thrown out by somebody who only knows its number.
            self._send(port, address, Exchange(REFUSE, packet.token, self.source))
            return
        if known is not None:
            # It was restarted, and begins to count anew.
            self._let_go(known)
        self.peers.pop(packet.source, None)
        self.peers[packet.source] = peer = Peer(packet.name, address, packet.source, "joining", packet.token, now, now)
        peer.place = self._place_for(peer, now)
        self.asking.pop((packet.name, address[0]), None)
        self.changed = True
        self._send(port, address, Exchange(ACCEPT, packet.token, self.source, self.name))

    def _place_for(self, peer: Peer, now: int) -> int:
        """One that was started again takes the place of its silent forerunner; two at once are numbered."""
        others = [other for other in self.peers.values() if other is not peer
                  and (other.name, other.address[0]) == (peer.name, peer.address[0])]
        for other in others:
            if now - other.seen >= RESTARTED_AFTER:
                self._drop(other)
        taken = {other.place for other in others if other.source in self.peers}
        return next(place for place in range(1, MOST_PEERS + 2) if place not in taken)

    def _ask(self, packet: Exchange, address: Address, now: int) -> None:
        key = (packet.name, address[0])
        if key not in self.asking and len(self.asking) >= MOST_ASKING:
            del self.asking[next(iter(self.asking))]
        self.news |= key not in self.asking
        self.asking[key] = Peer(packet.name, address, packet.source, "asks", packet.token, now, now)

    def _accepted(self, port: str, packet: Exchange, address: Address, now: int) -> None:
        peer = self._invited.get(packet.token)
        if peer is None or peer.address[0] != address[0]:
            return
        peer.seen = now
        if port == CONTROL and peer.state == "invited":
            peer.source, peer.name, peer.state = packet.source, packet.name or peer.name, "joining"
            peer.data_address = (address[0], address[1] + 1)
            peer.invites = 0
            self._send(DATA, peer.data_address, Exchange(INVITE, peer.token, self.source, self.name))
        elif port == DATA and peer.state == "joining":
            peer.state, peer.since = "connected", now
            self.peers[peer.source] = peer
            del self._invited[packet.token]
            self._sync(peer, now)
        self.changed = True

    def _refused(self, port: str, packet: Exchange, address: Address, now: int) -> None:
        peer = self._invited.get(packet.token)
        if peer is not None and peer.address[0] == address[0]:
            del self._invited[packet.token]
            self.changed = True

    def _left(self, port: str, packet: Exchange, address: Address, now: int) -> None:
        peer = self.peers.get(packet.source)
        if peer is not None and address in (peer.address, peer.data_address) and packet.token == peer.token:
            self._drop(peer)

    def _clock(self, packet: Clock, address: Address, now: int) -> None:
        peer = self.peers.get(packet.source)
        if peer is None or peer.data_address != address:
            return
        peer.seen = now
        first, second, third = packet.times
        if packet.count == 0:
            self._send(DATA, address, Clock(self.source, 1, (first, now // TICK, 0)))
        elif packet.count == 1:
            here = now // TICK
            peer.latency = max(0, here - first) * TICK // 2
            self._send(DATA, address, Clock(self.source, 2, (first, second, here)))
            self.news = True
        else:
            peer.latency = max(0, third - first) * TICK // 2
            self.news = True

    def _payload(self, packet: Payload, address: Address, now: int) -> None:
        peer = self.peers.get(packet.source)
        if peer is None or peer.state != "connected" or peer.data_address != address:
            return
        peer.seen = now
        if not self._believes(peer, packet, now):
            peer.late += 1
            return
        peer.sequence = packet.sequence
        peer.allowance = min(MOST_A_SECOND, peer.allowance + (now - peer.counted) * MOST_A_SECOND / SECOND)
        peer.counted = now
        for message in packet.messages:
            if peer.allowance < 1 and not lets_go(message):
                # A flood loses presses, but never what ends one.
                peer.dropped += 1
                continue
            peer.allowance -= 1
            peer.messages += 1
            self._note(peer, message)
            self.heard.append((peer, message))

    def _believes(self, peer: Peer, packet: Payload, now: int) -> bool:
        """Whether a packet is the peer's next one, or stands behind a loss.

        One far ahead or behind is on probation: a single forged packet would make the peer's own look old.
        """
        if peer.sequence is None:
            return True
        ahead = (packet.sequence - peer.sequence) & 0xFFFF
        if 0 < ahead <= MOST_DROPOUT:
            peer.in_a_row, peer.expected = 0, -1
            if ahead > 1:
                peer.lost += ahead - 1
                self._recover(peer, packet, now)
            return True
        peer.in_a_row = peer.in_a_row + 1 if packet.sequence == peer.expected else 1
        peer.expected = (packet.sequence + 1) & 0xFFFF
        # Twice, or a little behind a newer one, is ordinary.
        ordinary = ahead == 0 or ahead >= 0x1_0000 - MOST_MISORDER
        if peer.in_a_row < (IN_A_ROW if ordinary else 2):
            return False
        peer.in_a_row, peer.expected = 0, -1
        self._recover(peer, packet, now)
        return True

    def _recover(self, peer: Peer, packet: Payload, now: int) -> None:
        """Packets are missing: notes that the journal says are over are let go; without one, after a while."""
        for channel, note in packet.ended:
            if (channel, note) in peer.sounding:
                self._end(peer, channel, note)
        if not packet.has_journal and peer.sounding:
            peer.doubted |= peer.sounding
            peer.doubted_until = now + LOST_ENDS

    def _end(self, peer: Peer, channel: int, note: int) -> None:
        peer.sounding.discard((channel, note))
        peer.doubted.discard((channel, note))
        self.heard.append((peer, NOTE_OFF.on(channel, note, 64)))

    def _acknowledged(self, packet: Feedback, address: Address) -> None:
        peer = self.peers.get(packet.source)
        if peer is None or address not in (peer.address, peer.data_address):
            return
        # The whole number, from its lower half: it lies behind what was sent last.
        behind = (peer.own_sequence - 1 - packet.sequence) & 0xFFFF
        if behind < 0x8000:
            peer.journal.arrived(peer.own_sequence - 1 - behind)

    def _note(self, peer: Peer, message: bytes) -> None:
        kind, channel = kind_of(message[0]), message[0] & 0x0F
        if kind is NOTE_ON and message[2]:
            peer.sounding.add((channel, message[1]))
            peer.doubted.discard((channel, message[1]))
        elif kind in (NOTE_OFF, NOTE_ON):
            peer.sounding.discard((channel, message[1]))
            peer.doubted.discard((channel, message[1]))

    # What we do.

    def invite(self, address: Address, token: int, now: int, name: str = "") -> None:
        """Ask another computer, at its control port, to take part."""
        peer = Peer(name or address[0], address, 0, "invited", token, now, now, ours=True)
        self._invited[token] = peer
        self._invite_again(peer, now)
        self.changed = True

    def _invite_again(self, peer: Peer, now: int) -> None:
        peer.invites += 1
        peer.synced = now
        port, address = (CONTROL, peer.address) if peer.state == "invited" else (DATA, peer.data_address)
        assert address is not None
        self._send(port, address, Exchange(INVITE, peer.token, self.source, self.name))

    def send(self, peer: Peer, messages: list[bytes], now: int) -> None:
        """Send MIDI messages to a peer, in one packet, with what it may have missed."""
        if peer.data_address is not None and peer.state == "connected":
            number = peer.own_sequence
            self.out.append((DATA, peer.data_address, write_payload(
                number, now // TICK, self.source, messages, peer.journal.write(number))))
            peer.journal.note(number, messages)
            peer.own_sequence += 1

    def dismiss(self, peer: Peer) -> None:
        """Tell a peer that it takes part no longer."""
        self._send(CONTROL, peer.address, Exchange(LEAVE, peer.token, self.source))
        if peer.source in self.peers:
            self._drop(peer)
        self._invited.pop(peer.token, None)
        self.asking.pop((peer.name, peer.address[0]), None)
        self.changed = True

    def leave(self) -> None:
        """Tell everybody that we go."""
        for peer in list(self.peers.values()):
            self.dismiss(peer)

    def invited(self) -> list[Peer]:
        """Whom we asked and who has not answered yet."""
        return list(self._invited.values())

    def _was_outlived(self, peer: Peer, now: int) -> bool:
        """Whether it was started again: it is silent, and another one of its name and place came since and is not."""
        return now - peer.seen >= RESTARTED_AFTER and any(
            other.since >= peer.seen and now - other.seen < RESTARTED_AFTER for other in self._namesakes(peer))

    def _namesakes(self, peer: Peer) -> list[Peer]:
        return [other for other in self.peers.values() if other is not peer and other.state == "connected"
                and (other.name, other.address[0]) == (peer.name, peer.address[0])]

    def _drop(self, peer: Peer) -> None:
        self._let_go(peer)
        del self.peers[peer.source]
        self.changed = True

    def _let_go(self, peer: Peer) -> None:
        for channel, note in sorted(peer.sounding):
            self.heard.append((peer, NOTE_OFF.on(channel, note, 64)))
        peer.sounding.clear()
        peer.doubted.clear()

    def _send(self, port: str, address: Address, packet: Exchange | Clock | Feedback) -> None:
        self.out.append((port, address, packet.write()))

    def _sync(self, peer: Peer, now: int) -> None:
        peer.synced = now
        assert peer.data_address is not None
        self._send(DATA, peer.data_address, Clock(self.source, 0, (now // TICK, 0, 0)))

    def advance(self, now: int) -> None:
        """What is due: clocks, feedback, invitations sent again, peers that have vanished."""
        for peer in list(self.peers.values()):
            if now - peer.seen >= VANISHED_AFTER or self._was_outlived(peer, now):
                self._drop(peer)
                continue
            if peer.state != "connected":
                continue
            if peer.doubted and now >= peer.doubted_until:
                for channel, note in sorted(peer.doubted):
                    self._end(peer, channel, note)
            if peer.ours and now - peer.synced >= SYNC_EVERY:
                self._sync(peer, now)
            if peer.sequence is not None and peer.sequence != peer.acknowledged and now - peer.told >= FEEDBACK_EVERY:
                peer.told, peer.acknowledged = now, peer.sequence
                self._send(CONTROL, peer.address, Feedback(self.source, peer.sequence))
        for token, peer in list(self._invited.items()):
            if now - peer.synced >= INVITE_EVERY:
                if peer.invites >= MOST_INVITES:
                    del self._invited[token]
                    self.changed = True
                else:
                    self._invite_again(peer, now)

    def next_deadline(self) -> int | None:
        """When `advance` has to be called next, in ns, or None."""
        dues = [peer.synced + INVITE_EVERY for peer in self._invited.values()]
        for peer in self.peers.values():
            dues.append(peer.seen + VANISHED_AFTER)
            if self._namesakes(peer):
                dues.append(peer.seen + RESTARTED_AFTER)
            if peer.doubted:
                dues.append(peer.doubted_until)
            if peer.ours and peer.state == "connected":
                dues.append(peer.synced + SYNC_EVERY)
            if peer.sequence is not None and peer.sequence != peer.acknowledged:
                dues.append(peer.told + FEEDBACK_EVERY)
        return min(dues) if dues else None

