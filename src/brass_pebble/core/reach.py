"""Something that reaches outside the keyboard, told in words.  Pure."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

DRIVES_OSC, DRIVES_MIDI = "sends to an address", "sends MIDI"


@dataclass(frozen=True)
class Reach:
    """One thing that reaches outside: what it does in words, its text, and its line in a macro (0: none)."""

    does: str
    text: str
    line: int = 0

    @property
    def mark(self) -> str:
        """What an approval is kept by: another text has another one."""
        return hashlib.sha256(f"{self.does}\n{self.text}".encode()).hexdigest()[:32]
