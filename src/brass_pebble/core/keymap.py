"""Which keys give which character, for typing text.

A table for the US layout is a file in `data/`; tables for every layout that the system knows are made from its XKB data
(outputs/xkb.py).
"""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from typing import Protocol

from .keys import Chord, parse_chord
from .problem import ProblemError

CANNOT = "Leave it out, or write paste instead of type: that goes through the clipboard"


class Typist(Protocol):
    """Knows how to type characters under one keyboard layout."""

    name: str

    def strokes(self, char: str, *, locked: bool = False) -> tuple[Chord, ...]:
        """The chords that type `char`, one after the other; with `locked`, while Caps Lock is on.

        Raises:
            ProblemError: the layout cannot type it.
        """


class Keymap:
    """The US layout, or one like it: one chord a character."""

    def __init__(self, name: str, text: str) -> None:
        self.name = name
        self.chords: dict[str, Chord] = {" ": parse_chord("Space"), "\n": parse_chord("Enter"),
                                         "\t": parse_chord("Tab")}
        for line in text.splitlines():
            if not line or line.startswith("# "):
                continue
            plain, shifted, key = line.split("\t")
            self.chords[plain] = parse_chord(key)
            self.chords[shifted] = parse_chord(f"Shift+{key}")
        self.characters = {chord.codes: char for char, chord in self.chords.items()}

    def strokes(self, char: str, *, locked: bool = False) -> tuple[Chord, ...]:
        if locked and char.isalpha():
            char = char.swapcase()
        try:
            return (self.chords[char],)
        except KeyError:
            raise cannot_type(self.name, char) from None


def cannot_type(layout: str, char: str) -> ProblemError:
    """What to say of a character that a layout does not have."""
    return ProblemError(f"the {layout} layout cannot type “{char}”", hint=CANNOT)


@cache
def keymap(name: str = "us") -> Keymap:
    """The layout called `name`; `us` is the one that ships."""
    return Keymap(name, (files("brass_pebble.core") / "data" / f"keymap-{name}.tsv").read_text(encoding="utf-8"))
