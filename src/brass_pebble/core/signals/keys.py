"""The kernel's key table with names people can say, and chords made of them.

The table is `data/keys.tsv`: codes and kernel names from linux/input-event-codes.h, with the name that
macros and desks use, how it is shown, and other names that are understood.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib.resources import files

from brass_pebble.core.say.problem import ProblemError, nearest

MODIFIERS = ("Ctrl", "RightCtrl", "Alt", "AltGr", "Shift", "RightShift", "Super", "RightSuper")


# KEY_MAX of linux/input-event-codes.h
HIGHEST = 0x2FF
# A key that is meant by its place on a US keyboard has this and the place's code (see core/signals/key_places.py).
PLACED = 0x1000
_PLACE = "place"
_NUMBERED = re.compile(r"key ?([0-9]{1,3})", re.IGNORECASE)


# Buttons by the ranges of linux/input-event-codes.h: BTN_MISC to BTN_GEAR_UP and beyond, BTN_DPAD_UP to
# BTN_DPAD_RIGHT, BTN_TRIGGER_HAPPY.
_BUTTON_RANGES = (range(0x100, 0x160), range(0x220, 0x224), range(0x2C0, 0x2E8))
# BTN_LEFT to BTN_TASK
POINTER_BUTTONS = range(0x110, 0x118)


def is_button(code: int) -> bool:
    """Whether a kernel code is a button of a pointer, a controller or a tablet, and no key."""
    return any(code in codes for codes in _BUTTON_RANGES)


def is_sendable(code: int) -> bool:
    """Whether one of the virtual devices can send a code: the keyboard every key, the pointer its eight buttons."""
    return PLACED < code <= PLACED + HIGHEST or (0 < code <= HIGHEST and not is_button(code)) or code in POINTER_BUTTONS


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
        return self.code < PLACED and is_button(self.code)

    @property
    def sendable(self) -> bool:
        """Whether it can be sent: keys and the buttons of a pointer can."""
        return is_sendable(self.code)


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
        """The key called `word`; `Key 999` for one that the table does not hold; `PlaceZ` for the key at the place
        where a US keyboard has Z.

        Raises:
            ProblemError: there is no such key; the hint names the nearest.
        """
        key = self._by_name.get(_fold(word))
        if key is None and (meant := self._by_name.get(_fold(word).removeprefix(_PLACE))) is not None:
            key = self.placed(meant.code)
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
        key = self.by_code.get(code) or (self.placed(code - PLACED) if code >= PLACED else None)
        return key.name if key else f"Key {code}"

    def placed(self, code: int) -> Key | None:
        """A key meant by its place; None for keys that are not called by what they type."""
        key = self.by_code.get(code)
        if key is None or code not in lettered_keys().values():
            return None
        return Key(code + PLACED, key.kernel, f"Place{key.name}", f"place {key.shown}")


def _fold(word: str) -> str:
    return word.casefold().replace("_", "").replace(" ", "")


@cache
def key_table() -> KeyTable:
    """The table, read once."""
    return KeyTable((files("brass_pebble.core") / "data" / "keys.tsv").read_text(encoding="utf-8"))


@cache
def lettered_keys() -> dict[str, int]:
    """The keys that are called by what they type on a US keyboard: character → code."""
    text = (files("brass_pebble.core") / "data" / "keymap-us.tsv").read_text(encoding="utf-8")
    rows = [line.split("\t") for line in text.splitlines() if line and not line.startswith("# ")]
    return {plain: key_table().find(key).code for plain, _, key in rows}


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
            key = key_table().find(name)
        except ProblemError as error:
            at = column + len(word) - len(word.lstrip())
            raise ProblemError(error.problem.what, column=at, hint=error.problem.hint) from None
        if not key.sendable:
            raise ProblemError(f"“{name}” cannot be sent: it is a button of a controller or tablet", column=column,
                               hint="Name a key, or a button of a pointer such as PointerLeft or ButtonSide")
        if key.code in codes:
            raise ProblemError(f"“{name}” stands twice in “{text}”", column=column, hint="Name each key once")
        codes.append(key.code)
        column += len(word) + 1
    return Chord(tuple(codes))


@cache
def modifier_codes() -> frozenset[int]:
    """Codes of the keys that change what other keys mean."""
    return frozenset(key_table().find(name).code for name in MODIFIERS)
