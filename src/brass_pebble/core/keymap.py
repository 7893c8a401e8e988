"""Which keys give which character, for typing text.  The table of a layout is a file in `data/`."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from .keys import Chord, parse_chord
from .problem import ProblemError


class Keymap:
    """Characters to chords under one keyboard layout."""

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

    def chord(self, char: str) -> Chord:
        """The chord that types `char`.

        Raises:
            ProblemError: the layout has no key for it.
        """
        try:
            return self.chords[char]
        except KeyError:
            raise ProblemError(f"the {self.name} layout cannot type “{char}”",
                               hint="Leave the character out or write another one") from None


@cache
def keymap(name: str = "us") -> Keymap:
    """The layout called `name`; `us` is the one there is."""
    return Keymap(name, (files("brass_pebble.core") / "data" / f"keymap-{name}.tsv").read_text(encoding="utf-8"))
