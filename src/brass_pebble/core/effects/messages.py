"""Effects that are messages: MIDI to a port or a session, OSC to an address.

The code of such an effect carries the receiver and the message (see `carrying`), so that keys and messages keep their
order, and a timetable means the same in every process.  A note that sounds is like a key that is down: its code
carries the receiver, and is numbered by channel and note; its value is the strength, and whoever ends the run lets it
go.
"""

from __future__ import annotations

import struct
from functools import lru_cache
from typing import Any

from brass_pebble.core.signals.carrying import Carrying
from brass_pebble.core.signals.midi import NOTE_OFF, NOTE_ON, sets, spell_message

from .pointer import MESSAGES, OSC_MESSAGES, PAD, SOUNDING

Effect = tuple[int, int]  # code, value


def receiver_name(code: int) -> str:
    """The receiver that an effect's code names; an empty name is the desk's usual one."""
    return str(code.what[0]) if isinstance(code, Carrying) else ""


def midi_send(to: str, message: bytes) -> Effect:
    """The effect that sends a MIDI message."""
    return Carrying(MESSAGES, to, message), 0


def note_code(to: str, channel: int, note: int) -> int:
    """The code of a note that sounds at a receiver; `channel` counts from 0."""
    return Carrying(SOUNDING + (channel << 7 | note), to)


def note_message(code: int, strength: int) -> bytes:
    """The MIDI message of a note's effect: a note-on, or with no strength a note-off."""
    channel, note = (code >> 7) & 0x0F, code & 0x7F
    return NOTE_ON.on(channel, note, min(127, strength)) if strength else NOTE_OFF.on(channel, note, 64)


def osc_send(to: str, address: str, value: float) -> Effect:
    """The effect that sends an OSC message with one float to “host:port” (OSC 1.0: padded address, type tag, a
    big-endian float)."""
    return Carrying(OSC_MESSAGES, to, _head(address) + struct.pack(">f", value)), 0


@lru_cache(maxsize=1024)
def _head(address: str) -> bytes:
    text = address.encode()
    return text + b"\0" * (4 - len(text) % 4) + b",f\0\0"


def merge_values(out: list[tuple[int, int, int, Any]], begin: int) -> None:
    """Of effects from `begin` on that set the same thing, keep the last: a turn of several steps sets it once."""
    last: dict[object, int] = {}
    for index in range(begin, len(out)):
        if (key := _sets(out[index][0])) is not None:
            last[key] = index
    out[begin:] = [effect for index, effect in enumerate(out[begin:], begin)
                   if (key := _sets(effect[0])) is None or last[key] == index]


def _sets(code: int) -> object:
    """What an effect sets, if it sets anything: an axis of the controller, or a value of a receiver."""
    if PAD <= code < MESSAGES:
        return code
    if not (MESSAGES <= code < OSC_MESSAGES and isinstance(code, Carrying)):
        return None
    to, message = code.what
    what = sets(message)
    # What was set before it in the same instant nobody ever sees.
    return (to, what) if what else None


def message_of(code: int, value: int) -> bytes:
    """The bytes that an effect sends."""
    if code >= SOUNDING:
        return note_message(code, value)
    return bytes(code.what[1]) if isinstance(code, Carrying) else b""


def describe(code: int, value: int) -> str:
    """What was sent, in words: `note 36 on 10, strength 100, to Kiln`."""
    to = receiver_name(code)
    behind = f" to {to}" if to else ""
    data = message_of(code, value)
    if OSC_MESSAGES <= code < SOUNDING:
        address, _, rest = data.partition(b"\0")
        number = struct.unpack(">f", data[-4:])[0] if b",f\0\0" in rest else 0.0
        return f"osc {address.decode()} {number:.3g}{behind}"
    return spell_message(data) + behind
