"""Where a position goes on to: a MIDI value, an OSC value, the pointer, the wheel, an axis of the virtual controller.

Also levels that keys set and step: kept as fractions, so that ten thousand steps of a ten-thousandth are exactly one.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from functools import lru_cache

from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.core.signals import midi
from brass_pebble.core.signals.midi import CHANGE, DATA, DATA_FINE, NRPN_COARSE, NRPN_FINE
from brass_pebble.core.signals.signal import (
    BEND,
    CC,
    FINE_CC,
    KEY_PRESSURE,
    NRPN,
    PRESSURE,
    family_of,
    find_signal,
    number_and_channel,
)

from .messages import Effect, midi_send, osc_send
from .pointer import PAD, REL_HWHEEL, REL_WHEEL, REL_X, REL_Y

# EV_ABS codes of linux/input-event-codes.h, and whether they rest in the middle.
PAD_AXES = {"x": (0, True), "y": (1, True), "rx": (3, True), "ry": (4, True), "z": (2, False), "rz": (5, False),
            "throttle": (6, False), "wheel": (8, True)}
PAD_FULL = 32767
# How fast a stick at its end moves the pointer (pixels a second) and turns the wheel (notches a second).
SPEED = {"pointer": 900, "scroll": 20}
RATES = {"pointer x": (REL_X, 1), "pointer y": (REL_Y, 1), "scroll": (REL_WHEEL, -1),
         "scroll sideways": (REL_HWHEEL, 1)}
_MIDI = (CC, FINE_CC, BEND, PRESSURE, KEY_PRESSURE, NRPN)
_OSC = re.compile(r"osc (/[!-~]*) to ([\w.:-]+|\[[0-9a-f:]+\]):(\d{1,5})", re.IGNORECASE)
_HINT = "Write cc 7 on 1, osc /level to 127.0.0.1:9000, pointer x, scroll, or controller x"


@dataclass(frozen=True)
class DriveTarget:
    """One thing that a position drives.  `kind` is "midi", "osc", "rate" or "controller".

    `centred` says that its values lie on both sides of a rest; `speed` is for rates: pixels or notches a second.
    """

    text: str
    kind: str
    signal: int = 0
    to: str = ""
    code: int = 0
    sign: int = 1
    speed: int = 0
    centred: bool = False
    address: str = ""

    def values(self, share: float | Fraction, *, centred: bool) -> Sequence[Effect]:
        """The effects that tell a position; `centred` if it is between -1 and 1, else between 0 and 1."""
        if self.kind == "controller":
            if not self.centred:
                return [(self.code, round(_whole(share, centred) * PAD_FULL))]
            both = share if centred else share * 2 - 1
            return [(self.code, round(both * PAD_FULL))]
        whole = _whole(share, centred)
        if self.kind == "osc":
            return [osc_send(self.to, self.address, float(whole))]
        return midi_values(self.signal, whole, self.to)


def _whole(share: float | Fraction, centred: bool) -> float | Fraction:
    return (share + 1) / 2 if centred else share


def midi_values(signal: int, share: float | Fraction, to: str) -> tuple[Effect, ...]:
    """The MIDI messages that set a control change, pair, bend, pressure or NRPN to a share of its way."""
    return midi_set(signal, round(share * (16383 if is_fine(signal) else 127)), to)


@lru_cache(maxsize=1024)
def is_fine(signal: int) -> bool:
    """Whether a signal has 14 bits instead of 7."""
    return family_of(signal) in (FINE_CC, BEND, NRPN)


@lru_cache(maxsize=16_384)
def midi_set(signal: int, value: int, to: str) -> tuple[Effect, ...]:
    """The MIDI messages that give a signal a value: 0 to 127, or 0 to 16383 for pairs, bends and NRPN."""
    family = family_of(signal)
    number, channel = number_and_channel(signal)
    change, high, low = CHANGE.status | channel, value >> 7, value & 0x7F
    if family is CC:
        rows = [(change, number, value)]
    elif family is FINE_CC:
        rows = [(change, number, high), (change, number + 32, low)]
    elif family is NRPN:
        rows = [(change, NRPN_COARSE, number >> 7), (change, NRPN_FINE, number & 0x7F), (change, DATA, high),
                (change, DATA_FINE, low)]
    elif family is BEND:
        rows = [(midi.BEND.status | channel, low, high)]
    elif family is KEY_PRESSURE:
        rows = [(midi.KEY_PRESSURE.status | channel, number, value)]
    else:
        return (midi_send(to, midi.PRESSURE.on(channel, value)),)
    return tuple(midi_send(to, bytes(row)) for row in rows)


def parse_drive(text: str) -> DriveTarget:
    """Read `cc 7 on 1 to Hearth`, `osc /level to 127.0.0.1:9000`, `pointer x at 600`, `controller rx`.

    Raises:
        ProblemError: it is none of these.
    """
    plain = " ".join(text.split())
    words, _, speed = plain.partition(" at ")
    if words in RATES and (not speed or speed.isdigit()):
        code, sign = RATES[words]
        return DriveTarget(plain, "rate", code=code, sign=sign, speed=int(speed or SPEED[words.split()[0]]),
                           centred=True)
    if plain.startswith("controller "):
        name = plain.removeprefix("controller ")
        if name not in PAD_AXES:
            raise ProblemError(f"the virtual controller has no axis “{name}”",
                               hint=nearest(name, PAD_AXES) or f"Its axes are {', '.join(PAD_AXES)}")
        code, centred = PAD_AXES[name]
        return DriveTarget(plain, "controller", code=PAD + code, centred=centred)
    if plain.lower().startswith("osc "):
        match = _OSC.fullmatch(plain)
        if not match or not 0 < int(match[3]) < 65536:
            raise ProblemError(f"“{plain}” has no destination", hint="Write osc /level to 127.0.0.1:9000")
        return DriveTarget(plain, "osc", address=match[1], to=f"{match[2]}:{match[3]}")
    signal_text, _, to = plain.partition(" to ")
    try:
        signal = find_signal(signal_text)
    except ProblemError as error:
        raise ProblemError(f"a position cannot drive “{plain}”", hint=_HINT) from error
    if family_of(signal) not in _MIDI:
        raise ProblemError(f"“{signal_text}” does not take a position", hint=_HINT)
    return DriveTarget(plain, "midi", signal, to.strip(), centred=family_of(signal) is BEND)


@dataclass(frozen=True)
class LevelChange:
    """A key's change of a level: to an exact value, or by an exact share."""

    target: DriveTarget
    amount: Fraction
    steps: bool

    @property
    def key(self) -> str:
        """What tells one level from another."""
        return self.target.text


def parse_level(text: str, *, steps: bool) -> LevelChange:
    """Read `controller x at 50 %` or, for steps, `controller x by -1/8`.

    Raises:
        ProblemError: no target, or no number.
    """
    word = "by" if steps else "at"
    head, found, tail = " ".join(text.split()).rpartition(f" {word} ")
    example = f"controller x {word} {'1/100' if steps else '50 %'}"
    if not found:
        raise ProblemError(f"“{text}” does not say {word} how much", hint=f"Write {example}")
    per_cent = tail.endswith("%")
    try:
        amount = Fraction(tail.removesuffix("%").strip()) / (100 if per_cent else 1)
    except (ValueError, ZeroDivisionError):
        raise ProblemError(f"“{tail}” is not a share", hint=f"Write {example}") from None
    target = parse_drive(head)
    if target.kind == "rate":
        raise ProblemError(f"“{head}” is a movement and has no level", hint=f"Write {example}")
    if abs(amount) > 1 or (not steps and amount < 0 and not target.centred):
        raise ProblemError(f"{tail} lies outside of what “{head}” can be",
                           hint="A level is between 0 and 100 %, or -100 and 100 % where it rests in the middle")
    return LevelChange(target, amount, steps)


@dataclass
class Levels:
    """Where the levels are that keys set and step."""

    at: dict[str, Fraction] = field(default_factory=dict)

    def change(self, change: LevelChange) -> Fraction:
        """Carry a change out; the level is exact, and stays between its ends."""
        low = Fraction(-1 if change.target.centred else 0)
        level = self.at.get(change.key, Fraction(0)) + change.amount if change.steps else change.amount
        self.at[change.key] = level = min(Fraction(1), max(low, level))
        return level
