"""Effects that are messages: MIDI to a port or a session, OSC to an address.

An effect is a code and a number, so that keys and messages keep their order.  The code names the receiver, the number
holds the bytes behind a leading 1.  A note that sounds is like a key that is down: its code names receiver, channel
and note, its value is the strength, and whoever ends the run lets it go.
"""

from __future__ import annotations

import struct
from typing import Any

from .pointer import MESSAGES, OSC_MESSAGES, PAD, SOUNDING
from .signal import spell_message

_receivers: dict[str, int] = {}
_names: list[str] = []
_blobs: dict[bytes, int] = {}
_by_blob: list[bytes] = []
# What fits beside the leading 1 into the 64 bits of a timetable.
SHORT = 6


def receiver_number(name: str) -> int:
    """The number of a receiver in this process; an empty name is the desk's usual one."""
    number = _receivers.get(name)
    if number is None:
        number = _receivers[name] = len(_names)
        _names.append(name)
    return number


def receiver_name(code: int) -> str:
    """The receiver that an effect's code names."""
    if code >= SOUNDING:
        return _names[(code - SOUNDING) >> 11]
    return _names[code - (OSC_MESSAGES if code >= OSC_MESSAGES else MESSAGES)]


def pack(message: bytes) -> int:
    """A message as a number that fits a timetable; long ones are kept aside."""
    if len(message) <= SHORT:
        return int.from_bytes(b"\1" + message, "big")
    number = _blobs.get(message)
    if number is None:
        number = _blobs[message] = len(_by_blob)
        _by_blob.append(message)
    return -1 - number


def unpack(value: int) -> bytes:
    """The message in a number."""
    if value < 0:
        return _by_blob[-1 - value]
    return value.to_bytes((value.bit_length() + 7) // 8, "big")[1:]


def midi_send(to: str, message: bytes) -> tuple[int, int]:
    """The effect that sends a MIDI message."""
    return MESSAGES + receiver_number(to), pack(message)


def note_code(to: str, channel: int, note: int) -> int:
    """The code of a note that sounds at a receiver; `channel` counts from 0."""
    return SOUNDING + (receiver_number(to) << 11 | channel << 7 | note)


def note_message(code: int, strength: int) -> bytes:
    """The MIDI message of a note's effect: a note-on, or with no strength a note-off."""
    channel, note = (code >> 7) & 0x0F, code & 0x7F
    return bytes((0x90 | channel, note, min(127, strength))) if strength else bytes((0x80 | channel, note, 64))


def osc_send(to: str) -> int:
    """The code of an OSC message to “host:port”."""
    return OSC_MESSAGES + receiver_number(to)


def datagram(address: str, value: float) -> int:
    """An OSC message with one float (OSC 1.0: padded address, type tag, big-endian float) as a number.

    Never kept aside: every value would be another message.
    """
    return int.from_bytes(b"\1" + _padded(address.encode()) + b",f\0\0" + struct.pack(">f", value), "big")


def _padded(text: bytes) -> bytes:
    return text + b"\0" * (4 - len(text) % 4)


# Control change, key pressure, pressure and bend: each sets something, and what was set before it in the same instant
# nobody ever sees.  Control changes that stand for a step or begin a number are kept.
_SETS = {0xB0: 2, 0xA0: 2, 0xD0: 1, 0xE0: 1}
_KEPT_CHANGES = frozenset((96, 97, 98, 99, 100, 101, 6, 38))


def merge_values(out: list[tuple[int, int, int, Any]], begin: int) -> None:
    """Of effects from `begin` on that set the same thing, keep the last: a turn of several steps sets it once."""
    last: dict[object, int] = {}
    for index in range(begin, len(out)):
        if (key := _sets(out[index][0], out[index][1])) is not None:
            last[key] = index
    out[begin:] = [effect for index, effect in enumerate(out[begin:], begin)
                   if (key := _sets(effect[0], effect[1])) is None or last[key] == index]


def _sets(code: int, value: int) -> object:
    """What an effect sets, if it sets anything: an axis of the controller, or a value of a receiver."""
    if PAD <= code < MESSAGES:
        return code
    if not MESSAGES <= code < OSC_MESSAGES:
        return None
    message = unpack(value)
    length = _SETS.get(message[0] & 0xF0, 0)
    if not length or (message[0] & 0xF0 == 0xB0 and message[1] in _KEPT_CHANGES):
        return None
    return code, message[:length]


def message_of(code: int, value: int) -> bytes:
    """The bytes that an effect sends."""
    return note_message(code, value) if code >= SOUNDING else unpack(value)


def describe(code: int, value: int) -> str:
    """What was sent, in words: `note 36 on 10, strength 100, to Kiln`."""
    to = receiver_name(code)
    behind = f" to {to}" if to else ""
    if code < SOUNDING and code >= OSC_MESSAGES:
        data = unpack(value)
        address, _, rest = data.partition(b"\0")
        number = struct.unpack(">f", data[-4:])[0] if b",f\0\0" in rest else 0.0
        return f"osc {address.decode()} {number:.3g}{behind}"
    return spell_message(message_of(code, value)) + behind
