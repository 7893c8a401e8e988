"""Something that reaches outside the keyboard, told in words.  Pure."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

DRIVES_OSC, DRIVES_MIDI, DRIVES_PAD = "sends to an address", "sends MIDI", "drives the virtual controller"
TAKES_DEVICE = "takes a device or opens a microphone"
# What a position or a level does beyond the keyboard, by the kind of what it drives (core/effects/drive.py).
REACH_OF_DRIVE = {"osc": DRIVES_OSC, "midi": DRIVES_MIDI, "controller": DRIVES_PAD, "rate": ""}


@dataclass(frozen=True)
class Reach:
    """One thing that reaches outside: what it does in words, its text, and its line in a macro (0: none).

    `values` is what the text's values are set to, where it has any; `via` the macro that it plays and that does it;
    `whole` what the macro that it stands in is known by with all that it leads to.
    """

    does: str
    text: str
    line: int = 0
    values: str = ""
    via: str = ""
    whole: str = ""

    @property
    def mark(self) -> str:
        """What an approval is kept by: another text, or anything else in what it belongs to, has another one."""
        text = f"{self.does}\n{self.text}\n{self.values}\n{self.whole}"
        return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:32]
