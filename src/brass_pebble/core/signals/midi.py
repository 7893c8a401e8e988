"""The messages of MIDI 1.0: one table, which decoding, sending, words, packets of the network and lights read.

Status bytes and lengths are those of the MIDI 1.0 specification; numbers of control changes, too.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from brass_pebble.core.say.counts import say_count

Data = bytes


@dataclass(frozen=True, eq=False)
class MidiKind:
    """One kind of message.  `data` is how many bytes follow its status; None: as many as come, up to `END`.

    What has a `channel` has it in the lower half of its status.  `sets` is how much of a message, with its status, says
    what it sets, so that of several only the last counts; 0 if it sets nothing.  `words(data, channel)` tell it, with
    channels from 1.
    """

    word: str
    status: int
    data: int | None
    channel: bool = False
    sets: int = 0
    words: Callable[[Data, int], str] | None = None

    def on(self, channel: int, *data: int) -> bytes:
        """A message of this kind; channels count from 0."""
        return bytes((self.status | channel, *data))


NOTE_OFF = MidiKind("note off", 0x80, 2, True, words=lambda data, on: f"note {data[0]} on {on} off")
NOTE_ON = MidiKind("note", 0x90, 2, True, words=lambda data, on: f"note {data[0]} on {on}, strength {data[1]}"
                   if data[1] else f"note {data[0]} on {on} off")
KEY_PRESSURE = MidiKind("key pressure", 0xA0, 2, True, 2)
CHANGE = MidiKind("cc", 0xB0, 2, True, 2, lambda data, on: f"cc {data[0]} on {on} = {data[1]}")
PROGRAM = MidiKind("program", 0xC0, 1, True, words=lambda data, on: f"program {data[0]} on {on}")
PRESSURE = MidiKind("pressure", 0xD0, 1, True, 1, lambda data, on: f"pressure {data[0]} on {on}")
BEND = MidiKind("bend", 0xE0, 2, True, 1, lambda data, on: f"bend on {on} = {data[0] | data[1] << 7}")
EXCLUSIVE = MidiKind("exclusive", 0xF0, None)
CLOCK, START, CONTINUE, STOP = (MidiKind(word, status, 0, words=lambda data, on, word=word: word)  # type: ignore[misc]
                                for word, status in (("clock", 0xF8), ("start", 0xFA), ("continue", 0xFB),
                                                     ("stop", 0xFC)))
KINDS = (NOTE_OFF, NOTE_ON, KEY_PRESSURE, CHANGE, PROGRAM, PRESSURE, BEND, EXCLUSIVE,
         MidiKind("quarter frame", 0xF1, 1), MidiKind("song position", 0xF2, 2), MidiKind("song", 0xF3, 1),
         MidiKind("tune request", 0xF6, 0), CLOCK, START, CONTINUE, STOP, MidiKind("sensing", 0xFE, 0),
         MidiKind("reset", 0xFF, 0))
# Ends an exclusive message; from `REAL_TIME` on a message may stand within another.
END, REAL_TIME = 0xF7, 0xF8
_BY_STATUS = {status: kind for kind in KINDS
              for status in range(kind.status, kind.status + (16 if kind.channel else 1))}
BY_WORD = {kind.word: kind for kind in KINDS}
# Control changes with a meaning of their own.
DATA, DATA_FINE, DATA_UP, DATA_DOWN = 6, 38, 96, 97
NRPN_FINE, NRPN_COARSE, RPN_FINE, RPN_COARSE = 98, 99, 100, 101
ALL_SOUND_OFF, ALL_NOTES_OFF = 120, 123
SILENCE = (ALL_SOUND_OFF, ALL_NOTES_OFF)
# Those that stand for a step or begin a number: none of them may be left out.
KEPT_CHANGES = frozenset((DATA, DATA_FINE, DATA_UP, DATA_DOWN, NRPN_FINE, NRPN_COARSE, RPN_FINE, RPN_COARSE))


def kind_of(status: int) -> MidiKind | None:
    """The kind of message that a status byte begins; None if there is none."""
    return _BY_STATUS.get(status)


def whole_messages(data: bytes) -> Iterator[bytes]:
    """The messages of which some bytes consist, each with its status.

    Raises:
        ValueError: they are no whole messages.
    """
    at = 0
    while at < len(data):
        kind = kind_of(data[at])
        if kind is None:
            raise ValueError(f"{data[at]:02X} begins no message")
        end = data.index(END, at) + 1 if kind.data is None else at + 1 + kind.data
        body = data[at + 1:end - (kind.data is None)]
        if end > len(data) or any(byte & 0x80 for byte in body):
            raise ValueError("a message is cut short")
        yield data[at:end]
        at = end


def sets(message: bytes) -> bytes:
    """What of a message says what it sets; empty if it sets nothing, or must not be left out."""
    kind = kind_of(message[0])
    if kind is None or not kind.sets or (kind is CHANGE and message[1] in KEPT_CHANGES):
        return b""
    return message[:kind.sets]


def lets_go(message: bytes) -> bool:
    """Whether a message ends notes."""
    kind = kind_of(message[0])
    return kind is NOTE_OFF or (kind is NOTE_ON and not message[2]) or (kind is CHANGE and message[1] in SILENCE)


def spell_message(message: bytes) -> str:
    """A message in words: `cc 7 on 1 = 64`, `note 36 on 10, strength 100`, `clock`, or its bytes."""
    if not message:
        return "nothing"
    kind = kind_of(message[0])
    if kind is not None and kind.words is not None and len(message) == 1 + (kind.data or 0):
        return kind.words(message[1:], (message[0] & 0x0F) + 1)
    shown = message[:8].hex(" ").upper()
    return f"bytes {shown}" + (f" … ({say_count(len(message), 'byte')})" if len(message) > 8 else "")
