"""MIDI messages as they arrive, told as signals of a surface's controls.  Statuses are those of MIDI 1.0.

Presses are notes and program changes: their value is the strength, 1 to 127, and 0 for letting go.  Positions are
0 to 127, those of pairs, NRPN and bends 0 to 16383 (a bend rests at 8192).
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from . import midi
from .midi import DATA, DATA_DOWN, DATA_FINE, DATA_UP, NRPN_COARSE, NRPN_FINE, RPN_COARSE, RPN_FINE, SILENCE
from .signal import BEND, CC, FINE_CC, KEY_PRESSURE, NOTE, NRPN, PRESSURE, PROGRAM

Event = tuple[int, int, int]  # signal, value, ns
FULL_STRENGTH = 127
NO_NUMBER = 0x3FFF
# How a knob without ends writes its turns into control changes.
COUNTS = {
    "from 0": lambda value: value if value < 64 else value - 128,
    "from 64": lambda value: value - 64,
    "sign bit": lambda value: -(value & 63) if value & 64 else value,
}


class MidiDecoder:
    """Decodes the messages of one device.

    `wanted` are the signals of its surface's controls: a pair of control changes is one only if a control is bound to
    it.  With `never_lets_go` the device sends no note-offs: each note is let go at once.
    """

    def __init__(self, wanted: Collection[int] = (), *, never_lets_go: bool = False) -> None:
        self.never_lets_go = never_lets_go
        self.sounding: set[int] = set()
        self._wanted = frozenset(wanted)
        self._fine = {signal for signal in self._wanted if FINE_CC.first <= signal <= FINE_CC.last}
        self._nrpn = {signal for signal in self._wanted if NRPN.first <= signal <= NRPN.last}
        self._pairs: dict[int, list[int]] = {}
        self._number = [NO_NUMBER] * 16
        self._data: dict[int, int] = {}

    def decode(self, message: Sequence[int], at: int, out: list[Event]) -> None:
        """Append what a whole message (status and data bytes) means; what is cut short or unknown means nothing."""
        kind = midi.kind_of(message[0]) if message else None
        if kind is None or kind.data is None or len(message) <= kind.data:
            return
        channel = message[0] & 0x0F
        if kind is midi.NOTE_ON:
            self._note(NOTE.first + (channel << 7) + message[1], message[2], at, out)
        elif kind is midi.NOTE_OFF:
            self._note(NOTE.first + (channel << 7) + message[1], 0, at, out)
        elif kind is midi.CHANGE:
            self._change(channel, message[1], message[2], at, out)
        elif kind is midi.BEND:
            out.append((BEND.first + channel, message[1] | message[2] << 7, at))
        elif kind is midi.PRESSURE:
            out.append((PRESSURE.first + channel, message[1], at))
        elif kind is midi.KEY_PRESSURE:
            out.append((KEY_PRESSURE.first + (channel << 7) + message[1], message[2], at))
        elif kind is midi.PROGRAM:
            signal = PROGRAM.first + (channel << 7) + message[1]
            out.extend(((signal, FULL_STRENGTH, at), (signal, 0, at)))

    def _note(self, signal: int, strength: int, at: int, out: list[Event]) -> None:
        if not strength:
            if signal in self.sounding:
                self.sounding.discard(signal)
                out.append((signal, 0, at))
            return
        if signal in self.sounding:
            # Struck again without having been let go: its note-off was lost, or it never sends one.
            out.append((signal, 0, at))
        out.append((signal, strength, at))
        if self.never_lets_go:
            out.append((signal, 0, at))
        else:
            self.sounding.add(signal)

    def _change(self, channel: int, number: int, value: int, at: int, out: list[Event]) -> None:
        if number in SILENCE and CC.first + (channel << 7) + number not in self._wanted:
            self.silence(at, out, channel)
            return
        if self._nrpn and self._numbered(channel, number, value, at, out):
            return
        if self._fine and number < 64:
            signal = FINE_CC.first + channel * FINE_CC.span + number % 32
            if signal in self._fine:
                pair = self._pairs.setdefault(signal, [0, 0])
                pair[number >= 32] = value
                if number < 32:
                    # A new coarse value begins with a fine one of 0 (MIDI 1.0, control changes 0 to 31).
                    pair[1] = 0
                out.append((signal, pair[0] << 7 | pair[1], at))
                return
        out.append((CC.first + (channel << 7) + number, value, at))

    def _numbered(self, channel: int, number: int, value: int, at: int, out: list[Event]) -> bool:
        """A part of an NRPN: true if it was one."""
        now = self._number[channel]
        if number == NRPN_COARSE:
            self._number[channel] = value << 7 | now & 0x7F
        elif number == NRPN_FINE:
            self._number[channel] = now & 0x3F80 | value
        elif number in (RPN_FINE, RPN_COARSE):
            self._number[channel] = NO_NUMBER
        elif number in (DATA, DATA_FINE, DATA_UP, DATA_DOWN) and now != NO_NUMBER:
            signal = NRPN.first + channel * NRPN.span + now
            before = self._data.get(signal, 0)
            after = {DATA: value << 7, DATA_FINE: before & 0x3F80 | value, DATA_UP: before + 1,
                     DATA_DOWN: before - 1}[number]
            self._data[signal] = after = min(0x3FFF, max(0, after))
            if signal in self._nrpn:
                out.append((signal, after, at))
        else:
            return False
        return True

    def silence(self, at: int, out: list[Event], channel: int | None = None) -> None:
        """Let go every note that sounds (of a channel)."""
        for signal in sorted(self.sounding):
            if channel is None or (signal - NOTE.first) >> 7 == channel:
                self.sounding.discard(signal)
                out.append((signal, 0, at))
