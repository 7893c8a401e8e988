"""Something that reaches outside the keyboard, told in words.  Pure."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

DRIVES_OSC, DRIVES_MIDI = "sends to an address", "sends MIDI"


@dataclass(frozen=True)
class Reach:
    """One thing that reaches outside: what it does in words, its text, and its line in a macro (0: none).

    `values` is what the text's values are set to, where it has any; `via` the macro of the person's own by which a
    stranger's does it.
    """

    does: str
    text: str
    line: int = 0
    values: str = ""
    via: str = ""

    @property
    def mark(self) -> str:
        """What an approval is kept by: another text, or other values in it, have another one."""
        return _mark(f"{self.does}\n{self.text}" + (f"\n{self.values}" if self.values else ""))

    @property
    def words_mark(self) -> str:
        """What it is known by wherever it goes, whatever its values are."""
        return _mark(f"{self.does}\n{self.text}")


def _mark(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:32]
