"""The kernel's key table with names people can say, and chords made of them.

The table is `data/keys.tsv`: codes and kernel names from linux/input-event-codes.h, with the name that
macros and desks use, how it is shown, and other names that are understood.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib.resources import files

from .problem import ProblemError, nearest

MODIFIERS = ("Ctrl", "RightCtrl", "Alt", "AltGr", "Shift", "RightShift", "Super", "RightSuper")


# KEY_MAX of linux/input-event-codes.h
HIGHEST = 0x2FF
_NUMBERED = re.compile(r"key ?([0-9]{1,3})", re.IGNORECASE)


@dataclass(frozen=True)
class Key:
    """One key of the table: its kernel `code`, the `name` to write, and the text to `show`."""

    code: int
    kernel: tuple[str, ...]
    name: str
    shown: str

    @property
    def button(self) -> bool:
        """Whether it is a button of a pointer or a controller, which a keyboard does not send."""
        return self.kernel[0].startswith("BTN_")


class KeyTable:
    """All keys, found by code or by any of their names, whatever the case."""

    def __init__(self, text: str) -> None:
        self.by_code: dict[int, Key] = {}
        self._by_name: dict[str, Key] = {}
        for line in text.splitlines():
            if not line or line.startswith("#"):
                continue
            code, kernel, name, shown, others = line.split("\t")
            key = Key(int(code), tuple(kernel.split()), name, shown)
            self.by_code[key.code] = key
            for word in (name, *others.split(), *key.kernel):
                self._by_name.setdefault(_fold(word), key)

    def find(self, word: str) -> Key:
        """The key called `word`; `Key 999` for one that the table does not hold.

        Raises:
            ProblemError: there is no such key; the hint names the nearest.
        """
        key = self._by_name.get(_fold(word))
        if key is None and (number := _NUMBERED.fullmatch(word.strip())) and int(number[1]) <= HIGHEST:
            return Key(int(number[1]), (f"KEY_{number[1]}",), word.strip(), word.strip())
        if key is None:
            raise ProblemError(f"there is no key called “{word}”", hint=nearest(word, self.names()))
        return key

    def names(self) -> list[str]:
        """The names to write, in code order."""
        return [key.name for key in self.by_code.values()]

    def name(self, code: int) -> str:
        """The name to write for a code; `Key 999` for one that the table does not hold."""
        key = self.by_code.get(code)
        return key.name if key else f"Key {code}"


def _fold(word: str) -> str:
    return word.casefold().replace("_", "").replace(" ", "")


@cache
def key_table() -> KeyTable:
    """The table, read once."""
    return KeyTable((files("brass_pebble.core") / "data" / "keys.tsv").read_text(encoding="utf-8"))


@dataclass(frozen=True)
class Chord:
    """Keys that go down together, in the order they are pressed."""

    codes: tuple[int, ...]

    def __str__(self) -> str:
        return "+".join(key_table().name(code) for code in self.codes)


@lru_cache(maxsize=4096)
def parse_chord(text: str) -> Chord:
    """Read `Ctrl+Alt+F4`.

    Raises:
        ProblemError: a name is unknown, missing or given twice; `column` is where in `text` it stands, from 1.
    """
    codes: list[int] = []
    column = 1
    for word in text.split("+"):
        name = word.strip()
        if not name:
            raise ProblemError(
                f"“{text}” lacks a key name between the plus signs", column=column,
                hint="Write chords like Ctrl+Alt+F4; the keys with a plus on them are Equal and PadPlus",
            )
        try:
            code = key_table().find(name).code
        except ProblemError as error:
            at = column + len(word) - len(word.lstrip())
            raise ProblemError(error.problem.what, column=at, hint=error.problem.hint) from None
        if key_table().by_code[code].button:
            raise ProblemError(f"“{name}” is a button of a pointer or controller, not a key", column=column,
                               hint="Chords are made of keys; pointers cannot be driven yet")
        if code in codes:
            raise ProblemError(f"“{name}” stands twice in “{text}”", column=column, hint="Name each key once")
        codes.append(code)
        column += len(word) + 1
    return Chord(tuple(codes))


@cache
def modifier_codes() -> frozenset[int]:
    """Codes of the keys that change what other keys mean."""
    return frozenset(key_table().find(name).code for name in MODIFIERS)
