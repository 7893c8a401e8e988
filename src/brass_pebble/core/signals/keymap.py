"""Which keys give which character, for typing text.

A table for the US layout is a file in `data/`; tables for every layout that the system knows are made from its XKB data
(kinds/outputs/xkb.py).
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from importlib.resources import files
from itertools import chain
from typing import Protocol

from brass_pebble.core.say.problem import ProblemError

from .key_places import US, Places
from .keys import Chord, modifier_codes, parse_chord

CANNOT = "Leave it out, or write paste instead of type: that goes through the clipboard"


class Typist(Protocol):
    """Knows how to type characters under one keyboard layout."""

    name: str
    places: Places

    def strokes(self, char: str, *, locked: bool = False) -> tuple[Chord, ...]:
        """The chords that type `char`, one after the other; with `locked`, while Caps Lock is on.

        Raises:
            ProblemError: the layout cannot type it.
        """

    @property
    def characters(self) -> dict[Held, str]:
        """What single chords type: modifiers that are held and a key, and the character."""


# Modifiers that are held, and the key.
Held = tuple[frozenset[int], int]


def as_held(chord: Chord) -> Held:
    """A chord as what is held and what is struck."""
    return frozenset(code for code in chord.codes[:-1] if code in modifier_codes()), chord.codes[-1]


def type_out(typist: Typist, text: str, *, locked: bool) -> Iterator[tuple[str, tuple[Chord, ...]]]:
    """The chords that type each character of a text, one after the other: a long one costs nothing beforehand.

    While Caps Lock is on (`locked`) and the layout cannot type one of them so, Caps Lock is switched off before and on
    again behind: these two have no character.

    Raises:
        ProblemError: the layout cannot type it at all; before the first of them.
    """
    characters = dict.fromkeys(text)
    if locked:
        try:
            for char in characters:
                typist.strokes(char, locked=True)
            return ((char, typist.strokes(char, locked=True)) for char in text)
        except ProblemError:
            pass
    for char in characters:
        typist.strokes(char)
    if locked:
        caps = ("", (parse_chord("CapsLock"),))
        return chain((caps,), ((char, typist.strokes(char)) for char in text), (caps,))
    return ((char, typist.strokes(char)) for char in text)


class Keymap:
    """The US layout, or one like it: one chord a character."""

    places = US

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
        self.characters: dict[Held, str] = {as_held(chord): char for char, chord in self.chords.items()}

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
