"""The recovery journal of RFC 6295 (section 5 and appendix A): what a packet says of those before it that got lost.

Every packet carries the state that was set since the last packet which the receiver has acknowledged: notes that sound
and notes that are over (chapter N), control changes (C), programs (P), bends (W), pressure (T, A).  What the receiver
has acknowledged is left out.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from brass_pebble.core.signals.midi import CHANGE, KEY_PRESSURE, NOTE_OFF, NOTE_ON, PRESSURE, PROGRAM, SILENCE, kind_of

# A journal stays so small that packet and journal fit into one Ethernet frame, in bytes.
LARGEST = 900
_ALL_LOGS = 128


@dataclass
class _Channel:
    """What was set on a channel: for each thing the number of the packet that set it, and to what."""

    notes: dict[int, tuple[int, int]] = field(default_factory=dict)  # strength, 0 for a note that is over
    changes: dict[int, tuple[int, int]] = field(default_factory=dict)
    keys: dict[int, tuple[int, int]] = field(default_factory=dict)
    program: tuple[int, int] | None = None
    bend: tuple[int, int] | None = None
    pressure: tuple[int, int] | None = None

    def forget(self, packet: int) -> None:
        """What packets up to this one set has arrived."""
        for table in (self.notes, self.changes, self.keys):
            for key in [key for key, (at, _) in table.items() if at <= packet]:
                del table[key]
        for name in ("program", "bend", "pressure"):
            value = getattr(self, name)
            if value is not None and value[0] <= packet:
                setattr(self, name, None)

    @property
    def empty(self) -> bool:
        """Whether there is nothing to tell."""
        return not (self.notes or self.changes or self.keys or self.program or self.bend or self.pressure)

    def write(self, channel: int) -> bytes:
        """The channel's journal."""
        chapters, body = 0, b""
        if self.program is not None:
            chapters, body = chapters | 0x80, body + bytes((self.program[1], 0, 0))
        if self.changes:
            chapters |= 0x40
            body += bytes((len(self.changes) - 1,)) + _pairs(self.changes)
        if self.bend is not None:
            chapters, body = chapters | 0x10, body + bytes((self.bend[1] & 0x7F, self.bend[1] >> 7))
        if self.notes:
            chapters, body = chapters | 0x08, body + self._notes()
        if self.pressure is not None:
            chapters, body = chapters | 0x02, body + bytes((self.pressure[1],))
        if self.keys:
            chapters |= 0x01
            body += bytes((len(self.keys) - 1,)) + _pairs(self.keys)
        length = len(body) + 3
        return bytes((channel << 3 | length >> 8, length & 0xFF, chapters)) + body

    def _notes(self) -> bytes:
        sounding = {note: (at, strength) for note, (at, strength) in self.notes.items() if strength}
        over = sorted(note for note, (_, strength) in self.notes.items() if not strength)
        low, high = (over[0] >> 3, over[-1] >> 3) if over else (15, 0)
        bits = bytearray(high - low + 1 if over else 0)
        for note in over:
            bits[(note >> 3) - low] |= 0x80 >> (note & 7)
        # The highest bit of a strength recommends to play the note even now; it is too late for that.
        count = min(len(sounding), _ALL_LOGS - 1)
        logs = _pairs(dict(list(sounding.items())[:count]))
        if count == _ALL_LOGS - 1 and not over:
            high = 1
        return bytes((count, low << 4 | high)) + logs + bytes(bits)


def _pairs(table: dict[int, tuple[int, int]]) -> bytes:
    return b"".join(bytes((key, value)) for key, (_, value) in sorted(table.items()))


class Journal:
    """What one receiver may have missed.  Packets are numbered from 1 on, without end."""

    def __init__(self) -> None:
        self._channels: dict[int, _Channel] = {}
        self._checkpoint = 1

    def note(self, packet: int, messages: list[bytes]) -> None:
        """A packet with these messages was sent."""
        for message in messages:
            kind, number = kind_of(message[0]), message[0] & 0x0F
            if kind is None or not kind.channel or len(message) < 2:
                continue
            channel = self._channels.setdefault(number, _Channel())
            if kind in (NOTE_OFF, NOTE_ON):
                channel.notes[message[1]] = packet, message[2] if kind is NOTE_ON else 0
            elif kind is KEY_PRESSURE:
                channel.keys[message[1]] = packet, message[2]
            elif kind is CHANGE:
                if message[1] in SILENCE:
                    # Everything was let go at once.
                    for note in channel.notes:
                        channel.notes[note] = packet, 0
                channel.changes[message[1]] = packet, message[2]
            elif kind is PROGRAM:
                channel.program = packet, message[1]
            elif kind is PRESSURE:
                channel.pressure = packet, message[1]
            else:
                channel.bend = packet, message[1] | message[2] << 7

    def arrived(self, packet: int) -> None:
        """The receiver has everything up to this packet."""
        if packet < self._checkpoint:
            return
        self._checkpoint = packet + 1
        for number, channel in list(self._channels.items()):
            channel.forget(packet)
            if channel.empty:
                del self._channels[number]

    def write(self, packet: int) -> bytes:
        """The journal for a packet; empty if there is nothing to tell."""
        while True:
            parts = [channel.write(number) for number, channel in sorted(self._channels.items())]
            if not parts:
                return b""
            if sum(map(len, parts)) <= LARGEST:
                break
            # Too much has gone unacknowledged: what is oldest is given up.
            self.arrived(min((self._checkpoint + packet) // 2 + 1, packet - 1) if packet - self._checkpoint > 1
                         else packet)
        head = bytes((0x20 | len(parts) - 1, self._checkpoint >> 8 & 0xFF, self._checkpoint & 0xFF))
        return head + b"".join(parts)


def read_ended(data: bytes) -> Iterator[tuple[int, int]]:
    """The notes (channel, note) that a journal says were let go.  One that cannot be read says nothing more."""
    try:
        flags, at = data[0], 3
        if flags & 0x40:
            at += (data[at] & 0x03) << 8 | data[at + 1]
        for _ in range((flags & 0x0F) + 1 if flags & 0x20 else 0):
            channel, length = data[at] >> 3 & 0x0F, (data[at] & 0x03) << 8 | data[at + 1]
            if length < 3 or at + length > len(data):
                return
            yield from ((channel, note) for note in _read_offs(data[at + 2], data[at + 3:at + length]))
            at += length
    except IndexError:
        return


def _read_offs(chapters: int, data: bytes) -> Iterator[int]:
    """The OFFBITS of chapter N, behind the chapters P, C, M and W (appendix A of RFC 6295)."""
    at = 3 if chapters & 0x80 else 0
    if chapters & 0x40:
        at += 1 + ((data[at] & 0x7F) + 1) * 2
    if chapters & 0x20:
        at += (data[at] & 0x03) << 8 | data[at + 1]
    if chapters & 0x10:
        at += 2
    if not chapters & 0x08:
        return
    count, low, high = data[at] & 0x7F, data[at + 1] >> 4, data[at + 1] & 0x0F
    logs = _ALL_LOGS if count == 127 and (low, high) == (15, 0) else count
    at += 2 + logs * 2
    for place in range(low, high + 1):
        bits = data[at + place - low]
        yield from (place * 8 + bit for bit in range(8) if bits & 0x80 >> bit)
