"""What can be sent out: one table of kinds.

An effect is a code, a value, its planned time and its run.  The code tells the kind, by the range that it lies in, and
carries whatever the effect needs besides (a receiver, a message: `core/signals/carrying.py`).  So one list keeps the
order of keys, motions and messages.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable
from dataclasses import dataclass

from brass_pebble.core.signals.keys import key_table

from .drive import PAD_AXES
from .messages import describe
from .pad_buttons import say_button
from .pointer import HIDDEN, MESSAGES, NAMES, OSC_MESSAGES, PAD, PAD_BUTTON, POINTER, SOUNDING
from .reach import DRIVES_MIDI, DRIVES_OSC, DRIVES_PAD

_PAD_NAMES = {code: name for name, (code, _) in PAD_AXES.items()}


@dataclass(frozen=True, eq=False)
class EffectKind:
    """Codes from `first` on, to the next kind.  What `holds` goes down with a value and up with 0.

    `leaves` is what it does beyond the keyboard, in words; nothing for keys and motions, which the gate looks at one
    by one (`core/effects/gate.py`).  With `to_receiver`, the code names who is to get it.  `words(code, value)` tell
    what was sent.
    """

    name: str
    first: int
    leaves: str
    holds: bool
    to_receiver: bool
    words: Callable[[int, int], str]


def _say_axis(code: int, value: int) -> str:
    return f"controller {_PAD_NAMES.get(code - PAD, code - PAD)} {value}"


SECRET = EffectKind("secret key", HIDDEN, "types a secret", True, False, lambda code, value: "a secret key")
KEY = EffectKind("key", 0, "", True, False, lambda code, value: key_table().name(code))
MOTION = EffectKind("motion", POINTER, "", False, False, lambda code, value: f"{NAMES.get(code, 'pointer')} {value}")
AXIS = EffectKind("axis", PAD, DRIVES_PAD, False, False, _say_axis)
MIDI = EffectKind("midi", MESSAGES, DRIVES_MIDI, False, True, describe)
OSC = EffectKind("osc", OSC_MESSAGES, DRIVES_OSC, False, True, describe)
NOTE = EffectKind("note", SOUNDING, DRIVES_MIDI, True, True, describe)
BUTTON = EffectKind("button", PAD_BUTTON, DRIVES_PAD, True, False, say_button)
KINDS = (SECRET, KEY, MOTION, AXIS, MIDI, OSC, NOTE, BUTTON)
_FIRSTS = [kind.first for kind in KINDS]
# Between these lie all that are over at once; for where each test counts, since a press waits for it.
MOMENTARY_FROM, MOMENTARY_TO = MOTION.first, NOTE.first
# From here on an effect is no key and no motion of the pointer, which most outputs are all that they take.
BEYOND_POINTER = AXIS.first


def kind_of(code: int) -> EffectKind:
    """The kind of an effect."""
    return KINDS[bisect_right(_FIRSTS, code) - 1]


def tell(code: int, value: int) -> str:
    """What was sent, in words: a key's name, a motion and how far, a message."""
    return kind_of(code).words(code, value)
