"""What a device sends for one of its controls: a key, a note, an axis; each has a number and a name to write.

Keys and buttons have the kernel's codes.  The other families lie behind them, each a row of `FAMILIES`; from `MOVING`
on a signal is a position or a motion and no press.  Numbers of notes, control changes, programs (0 to 127), of 14-bit
pairs (0 to 31), of NRPN (0 to 16383) and channels (1 to 16) are those of MIDI 1.0; axes and wheels are EV_ABS and
EV_REL of linux/input-event-codes.h.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

from brass_pebble.core.say.problem import ProblemError, nearest

from .carrying import Carrying
from .keys import key_table
from .midi import BY_WORD

STRUCK, PART, MOVING = 0x10_0000, 0x20_0000, 0x40_0000
# EV_ABS and EV_REL codes and what people call them.
AXES = {0: "x", 1: "y", 2: "z", 3: "rx", 4: "ry", 5: "rz", 6: "throttle", 7: "rudder", 8: "wheel", 9: "gas",
        10: "brake", **{16 + n: f"hat {n // 2}{'xy'[n % 2]}" for n in range(8)}, 32: "volume", 40: "misc"}
WHEELS = {0: "x", 1: "y", 2: "z", 6: "sideways", 7: "dial", 8: "wheel"}
HAT_WAYS = ("left", "right", "up", "down")


@dataclass(frozen=True)
class Family:
    """Signals of one kind: `first` + channel × `span` + number.

    `word` is how they are written ("note 36 on 10"); without `channels` there is none, with `span` 1 no number.
    """

    word: str
    first: int
    span: int = 128
    channels: bool = True
    names: tuple[tuple[int, str], ...] = ()

    @property
    def last(self) -> int:
        """The highest signal."""
        return self.first + self.span * (16 if self.channels else 1) - 1

    def write(self, signal: int) -> str:
        """The name to write for a signal of this family."""
        channel, number = divmod(signal - self.first, self.span)
        text = self.word
        if self.span > 1:
            text += f" {dict(self.names).get(number, number)}"
        return f"{text} on {channel + 1}" if self.channels else text


NOTE = Family("note", STRUCK)
PROGRAM = Family("program", STRUCK + 0x1000)
HAT = Family("hat", STRUCK + 0x2000, 16, False,
             tuple((hat * 4 + way, f"{hat + 1} {HAT_WAYS[way]}" if hat else HAT_WAYS[way])
                   for hat in range(4) for way in range(4)))
OSC_KEY = Family("osc press", STRUCK + 0x1_0000, 1, False)
AXIS = Family("axis", MOVING, 64, False, tuple(AXES.items()))
WHEEL = Family("turn", MOVING + 0x1000, 16, False, tuple(WHEELS.items()))
CC = Family("cc", MOVING + 0x2000)
FINE_CC = Family("fine cc", MOVING + 0x3000, 32)
BEND = Family("bend", MOVING + 0x4000, 1)
PRESSURE = Family("pressure", MOVING + 0x4100, 1)
KEY_PRESSURE = Family("key pressure", MOVING + 0x5000)
NRPN = Family("nrpn", MOVING + 0x1_0000, 16384)
OSC = Family("osc", MOVING + 0x10_0000, 1, False)
PHRASE = Family("phrase", STRUCK + 0x1_0001, 1, False)
FAMILIES = (NOTE, PROGRAM, HAT, OSC_KEY, PHRASE, AXIS, WHEEL, CC, FINE_CC, BEND, PRESSURE, KEY_PRESSURE, NRPN, OSC)
MIDI_FAMILIES = (NOTE, PROGRAM, CC, FINE_CC, BEND, PRESSURE, KEY_PRESSURE, NRPN)
# Those whose signals carry a name: an address of OSC, the id of a phrase.
_NAMED = {OSC_KEY: r"/[!-~]*", OSC: r"/[!-~]*", PHRASE: r"[a-z0-9][a-z0-9-]*"}
_CARRIED = {family: re.compile(rf"{family.word}\s+({name})", re.IGNORECASE) for family, name in _NAMED.items()}
_NUMBERED = re.compile(r"(.*?)(?:\s*\bon\s+(\d+))?")


def osc_signal(family: Family, address: str) -> int:
    """The signal of an OSC address: a press (`OSC_KEY`) or a position (`OSC`)."""
    return Carrying(family.first, address)


class Spoken(Carrying):
    """The signal of a phrase that was said, with what was said for its slots: `values` of the press, and `answers` to
    what its macro asks, by name."""

    values: Mapping[str, int | str] = {}
    answers: Mapping[str, str] = {}


def phrase_signal(phrase: str, values: Mapping[str, int | str] | None = None,
                  answers: Mapping[str, str] | None = None) -> Spoken:
    """The signal of a phrase, by its id."""
    signal = Spoken(PHRASE.first, phrase)
    signal.values, signal.answers = values or {}, answers or {}
    return signal


def part_signal(control: str, gesture: str) -> int:
    """The signal that stands for a gesture of a moving control, like “turn right” of “knob”.

    What such a control does in parts (turned right, pushed up, in a zone) is pressed and let go like a key.
    """
    return Carrying(PART, control, gesture)


def wire(signal: int) -> int | str:
    """A signal for another process: its number, or its name where a number alone does not tell it."""
    return signal_name(signal) if isinstance(signal, Carrying) else signal


def from_wire(value: int | str) -> int:
    """A signal that another process told.

    Raises:
        ProblemError: it names none.
    """
    return find_signal(value) if isinstance(value, str) else int(value)


def part_of(signal: int) -> tuple[str, str] | None:
    """Control and gesture of a part's signal; None for other signals."""
    if isinstance(signal, Carrying) and int(signal) == PART:
        return signal.what[0], signal.what[1]
    return None


@lru_cache(maxsize=8192)
def family_of(signal: int) -> Family | None:
    """The family of a signal; None for keys and buttons."""
    return next((family for family in FAMILIES if family.first <= signal <= family.last), None)


def make(family: Family, number: int = 0, channel: int = 0) -> int:
    """A signal; `channel` counts from 0 here."""
    return family.first + channel * family.span + number


@lru_cache(maxsize=8192)
def number_and_channel(signal: int) -> tuple[int, int]:
    """Number and channel (from 0) of a signal of a family."""
    family = family_of(signal)
    assert family is not None
    channel, number = divmod(signal - family.first, family.span)
    return number, channel


def signal_name(signal: int) -> str:
    """The name to write for a signal: `KP5`, `note 36 on 10`, `axis x`."""
    family = family_of(signal) if signal >= STRUCK else None
    if family is None:
        return key_table().name(signal)
    if family in _NAMED:
        return f"{family.word} {signal.what[0] if isinstance(signal, Carrying) else ''}".rstrip()
    return family.write(signal)


def find_signal(word: str) -> int:
    """The signal called `word`.

    Raises:
        ProblemError: there is none; the hint says what could be meant.
    """
    text = " ".join(word.split())
    for family, shape in _CARRIED.items():
        if match := shape.fullmatch(text):
            return phrase_signal(match[1]) if family is PHRASE else osc_signal(family, match[1])
    for family in FAMILIES:
        if family not in _NAMED and text.lower().startswith(family.word):
            match = _NUMBERED.fullmatch(text.lower().removeprefix(family.word))
            if match and (found := _read(family, match[1].strip(), match[2], word)) is not None:
                return found
    try:
        return key_table().find(word).code
    except ProblemError as error:
        words = [family.word for family in FAMILIES]
        first = text.partition(" ")[0].lower()
        hint = error.problem.hint or nearest(first, words)
        raise ProblemError(f"there is no key or signal called “{word}”", hint=hint or
                           "Write a key’s name, or note 36 on 10, cc 7 on 1, axis x") from None


def _read(family: Family, number: str, channel: str | None, word: str) -> int | None:
    if family.channels != (channel is not None) or (family.span > 1) != bool(number):
        return None
    index = 0
    if family.span > 1:
        named = next((at for at, text in family.names if text == number), None)
        if named is None and not number.isdigit():
            return None
        index = named if named is not None else int(number)
        if index >= family.span:
            raise ProblemError(f"“{word}”: {family.word} has numbers from 0 to {family.span - 1}",
                               hint=f"Write {family.word} {family.span - 1}")
    if channel is not None and not 1 <= int(channel) <= 16:
        raise ProblemError(f"“{word}”: MIDI has channels from 1 to 16", hint=f"Write {family.word} … on 1")
    return make(family, index, int(channel or 1) - 1)


_TONES = ("C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "G♯", "A", "B♭", "B")


def tone(note: int, middle_c: int = 4) -> str:
    """The musical name of a note (0 to 127); `middle_c` is the octave that note 60 is said to be in."""
    return f"{_TONES[note % 12]}{note // 12 - 5 + middle_c}"


def spell(signal: int, middle_c: int = 4) -> str:
    """A signal for people: the musical name beside the number, the raw bytes behind it.

    `note 36 on 10 · C2 · 99 24`; keys as they are called.
    """
    family = family_of(signal)
    if family is None or family not in MIDI_FAMILIES:
        return signal_name(signal)
    number, channel = number_and_channel(signal)
    kind = BY_WORD.get(family.word)
    raw = f"{kind.status | channel:02X}" + (f" {number:02X}" if family.span == 128 else "") if kind else ""
    said = [signal_name(signal), tone(number, middle_c) if family in (NOTE, KEY_PRESSURE) else "", raw]
    return " · ".join(part for part in said if part)
