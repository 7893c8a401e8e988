"""MIDI in RTP packets (RFC 6295), and the session protocol around them: reading and writing.  Pure.

Session packets begin with two bytes FF and two letters: IN, OK, NO, BY, CK (clock), RS (receiver feedback).  Times in
them are in units of 100 µs.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from typing import NamedTuple

from brass_pebble.core.signals.midi import END, EXCLUSIVE, REAL_TIME, kind_of

from .journal import read_ended

PREAMBLE = b"\xff\xff"
INVITE, ACCEPT, REFUSE, LEAVE, CLOCK, FEEDBACK = b"IN", b"OK", b"NO", b"BY", b"CK", b"RS"
VERSION = 2
PAYLOAD = 0x61
LONGEST_NAME = 200
# RTP header: version and flags, marker and payload type, sequence number, time, source.
_RTP = struct.Struct(">BBHII")
_EXCHANGE = struct.Struct(">III")
_CLOCK = struct.Struct(">IB3xQQQ")
# How many data bytes follow a status (MIDI 1.0); by the upper half for channel messages, whole for system messages.
# Ends a part of an exclusive message that is not to be (RFC 6295, section 3.2).
_CANCEL = 0xF4


class MalformedError(ValueError):
    """A packet that is not what it should be; the text says where."""


@dataclass(frozen=True)
class Exchange:
    """IN, OK, NO or BY: `token` belongs to an invitation, `source` (SSRC) names who sends."""

    command: bytes
    token: int
    source: int
    name: str = ""

    def write(self) -> bytes:
        """The packet."""
        packet = PREAMBLE + self.command + _EXCHANGE.pack(VERSION, self.token, self.source)
        return packet + self.name.encode()[:LONGEST_NAME] + b"\0" if self.command in (INVITE, ACCEPT) else packet


@dataclass(frozen=True)
class Clock:
    """One of three clock packets: `count` 0 asks, 1 answers, 2 ends; times in 100 µs."""

    source: int
    count: int
    times: tuple[int, int, int]

    def write(self) -> bytes:
        """The packet."""
        return PREAMBLE + CLOCK + _CLOCK.pack(self.source, self.count, *self.times)


@dataclass(frozen=True)
class Feedback:
    """What has arrived, up to a sequence number."""

    source: int
    sequence: int

    def write(self) -> bytes:
        """The packet."""
        return PREAMBLE + FEEDBACK + struct.pack(">IHH", self.source, self.sequence, 0)


class Payload(NamedTuple):
    """An RTP packet with MIDI: the messages in their order; `ended` are notes (channel, note) that the journal says
    were let go lately."""

    sequence: int
    source: int
    messages: tuple[bytes, ...]
    ended: tuple[tuple[int, int], ...] = ()
    has_journal: bool = False


Packet = Exchange | Clock | Feedback | Payload


def read_packet(data: bytes) -> Packet | None:
    """Read a datagram; None for a session packet of a kind that need not be known.

    Raises:
        MalformedError: it is cut short, or not what its first bytes say.
    """
    if data[:2] == PREAMBLE:
        return _read_session(data)
    if len(data) < _RTP.size + 1:
        raise MalformedError("too short for a packet with MIDI")
    flags, kind, sequence, _, source = _RTP.unpack_from(data)
    if flags >> 6 != 2 or kind & 0x7F != PAYLOAD:
        raise MalformedError("no RTP packet with MIDI")
    # Contributing sources may stand behind the header.
    at = _RTP.size + 4 * (flags & 0x0F)
    messages, end, has_journal = _read_commands(data, at)
    return Payload(sequence, source, tuple(messages), tuple(read_ended(data[end:])) if has_journal else (), has_journal)


def _read_session(data: bytes) -> Packet | None:
    command, rest = data[2:4], data[4:]
    try:
        if command in (INVITE, ACCEPT, REFUSE, LEAVE):
            version, token, source = _EXCHANGE.unpack_from(rest)
            if version != VERSION:
                raise MalformedError(f"session protocol {version} instead of {VERSION}")
            name = rest[_EXCHANGE.size:].partition(b"\0")[0][:LONGEST_NAME].decode(errors="replace")
            return Exchange(command, token, source, "".join(c if c.isprintable() else "�" for c in name))
        if command == CLOCK:
            source, count, *times = _CLOCK.unpack_from(rest)
            if count > 2:
                raise MalformedError(f"clock packet {count}")
            return Clock(source, count, (times[0], times[1], times[2]))
        if command == FEEDBACK:
            source, sequence = struct.unpack_from(">IH", rest)
            return Feedback(source, sequence)
    except struct.error:
        raise MalformedError(f"a packet {command.decode(errors='replace')} that is cut short") from None
    return None


def _read_commands(data: bytes, at: int) -> tuple[list[bytes], int, bool]:
    """The MIDI command section: its messages, where it ends, whether a journal follows."""
    if at >= len(data):
        raise MalformedError("no command section")
    flags = data[at]
    length, at = flags & 0x0F, at + 1
    if flags & 0x80:
        if at >= len(data):
            raise MalformedError("the length is cut short")
        length, at = length << 8 | data[at], at + 1
    end = at + length
    if end > len(data):
        raise MalformedError("the command section is longer than the packet")
    messages: list[bytes] = []
    status, first = 0, True
    while at < end:
        if not first or flags & 0x20:
            at = _skip_delta(data, at, end)
            if at >= end:
                # A time without a command may stand at the end.
                break
        first = False
        message, at, status = _read_command(data, at, end, status)
        if message:
            messages.append(message)
    return messages, end, bool(flags & 0x40)


def _skip_delta(data: bytes, at: int, end: int) -> int:
    """A time of one to four bytes; it is not needed, since messages are played when they come."""
    for _ in range(4):
        if at >= end:
            raise MalformedError("a time is cut short")
        at += 1
        if not data[at - 1] & 0x80:
            return at
    raise MalformedError("a time of more than four bytes")


def _read_command(data: bytes, at: int, end: int, status: int) -> tuple[bytes, int, int]:
    """One message, where the next begins, and the running status."""
    byte = data[at]
    if byte in (EXCLUSIVE.status, END):
        # A whole exclusive message or a part of one: controls have no use for it, but must not stumble over it.
        for place in range(at + 1, end):
            if data[place] & 0x80:
                if data[place] in (EXCLUSIVE.status, _CANCEL, END):
                    return b"", place + 1, 0
                if data[place] < REAL_TIME:
                    raise MalformedError("an exclusive message with a status in it")
        raise MalformedError("an exclusive message without an end")
    if byte & 0x80:
        at += 1
        if byte < EXCLUSIVE.status:
            status = byte
        elif byte < REAL_TIME:
            status = 0
    else:
        byte = status
    kind = kind_of(byte)
    count = kind.data if kind is not None else None
    if count is None:
        raise MalformedError(f"status {byte:02X} is none" if byte else "data without a status")
    body = data[at:at + count]
    if at + count > end or any(value & 0x80 for value in body):
        raise MalformedError("a message is cut short")
    return bytes((byte,)) + body, at + count, status


def write_payload(sequence: int, time: int, source: int, messages: list[bytes], journal: bytes = b"") -> bytes:
    """An RTP packet with MIDI messages, and a recovery journal if there is one; `time` in 100 µs."""
    body = b"".join((b"\0" if index else b"") + message for index, message in enumerate(messages))
    flag = 0x40 if journal else 0
    head = bytes((flag | len(body),)) if len(body) < 16 else bytes((0x80 | flag | len(body) >> 8, len(body) & 0xFF))
    return _RTP.pack(0x80, 0x80 | PAYLOAD, sequence & 0xFFFF, time & 0xFFFFFFFF, source) + head + body + journal
