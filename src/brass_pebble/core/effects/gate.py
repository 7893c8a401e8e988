"""The gate: the one way out of a run.  Pure.

Whatever a run sends or asks of the world passes it.  What is the person's own has no `Rights` and goes through.  What
came from somebody else goes through if it was approved, or if it cannot matter: motions of the pointer, and keys that
neither come to a text nor open a place for one.  The gate knows kinds by what they are, never steps by their names.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass, replace
from functools import cache, lru_cache

from brass_pebble.core.say.data_table import read_table
from brass_pebble.core.say.durations import SECOND
from brass_pebble.core.signals.key_places import US, Places
from brass_pebble.core.signals.keys import PLACED, is_button, key_table, modifier_codes, parse_chord

from .kinds import KEY, MOTION, kind_of

# So many characters of one run are a text; fewer are, too, when Enter follows.
LEAST_TEXT, LEAST_LINE = 4, 2
# Characters of several runs belong together unless nothing was typed for so long, in ns.
BURST = 2 * SECOND
CLICKS, OPENS, TYPES = "clicks", "opens a place for text or commands", "types text"
SYSTEM = "presses a key that programs are opened with"
# From KEY_1 to KEY_SLASH, without what lies between; KEY_SPACE; the keypad; keys that other countries have beside.
_TYPING = frozenset((*range(2, 14), *range(16, 28), *range(30, 42), 43, *range(44, 54), 55, 57, *range(71, 84), 86, 89,
                     95, 98, 117, 118, 121, 124, 179, 180))
# KEY_ENTER, KEY_KPENTER, KEY_LINEFEED
_ENTER = frozenset((28, 96, 101))
_LEFT_OF = {97: 29, 54: 42, 126: 125, 100: 100}
_CTRL, _ALT, _SUPER = 29, 56, 125
# What terminals take for Enter when Ctrl is down: J, M and O (ASCII's LF and CR, and what shells accept a line by).
_CTRL_ENTER = frozenset((36, 50, 24))


# Chords by their modifiers (left for right) and their key.
Opening = frozenset[tuple[frozenset[int], int]]


@dataclass(frozen=True, eq=False)
class Rights:
    """Whose it is, in words, and what was approved: that its keys come to a text, and that it reaches outside; then by
    which mark.  What is `locked` no approval opens: a value that nobody knows is used in it.  `opening` are further
    chords that open a place for text or commands here (core/desk/shortcuts.py, `opening_chords`)."""

    whose: str
    types: bool = False
    reaches: bool = False
    mark: str = ""
    locked: bool = False
    opening: Opening = frozenset()

    def granted(self, mark: str) -> Rights:
        """The same with everything approved."""
        return self if self.locked else replace(self, types=True, reaches=True, mark=mark)


@cache
def _free() -> frozenset[int]:
    return frozenset(key_table().find(name).code for name, in read_table("free-keys.tsv"))


@cache
def _guarded() -> dict[int, list[tuple[frozenset[int], str]]]:
    found: dict[int, list[tuple[frozenset[int], str]]] = {}
    for written, does in read_table("guarded-chords.tsv"):
        for chord in [written.replace("*", str(number)) for number in range(1, 25)] if "*" in written else [written]:
            *held, struck = parse_chord(chord).codes
            found.setdefault(struck, []).append((frozenset(held), does))
    return found


def _plain(code: int) -> int:
    code = code - PLACED if code >= PLACED else code
    return _LEFT_OF.get(code, code)


def weigh(held: frozenset[int], struck: int, places: Places = US, opening: Opening = frozenset()) -> tuple[str, str]:
    """What a key comes to while others are down: what needs approval in words, or else what it types: a character's
    key, "Enter", or nothing."""
    if opening and (frozenset(map(_plain, held)) & modifier_codes(), _plain(struck)) in opening:
        return OPENS, ""
    return _weigh(held, struck, places.place(struck))


@lru_cache(maxsize=4096)
def _weigh(held: frozenset[int], struck: int, place: int) -> tuple[str, str]:
    if is_button(struck):
        return CLICKS, ""
    modifiers = frozenset(map(_plain, held)) & modifier_codes()
    # The keys that are called so, and the keys that lie there on a US keyboard: whichever a program goes by.
    for code in (_plain(struck), _plain(place)):
        if code in modifier_codes():
            if code == _SUPER:
                return OPENS, ""
            continue
        if _SUPER in modifiers:
            return OPENS, ""
        # With a further modifier it may be the same chord to a program.
        if does := next((does for wanted, does in _guarded().get(code, ()) if wanted <= modifiers), ""):
            return does, ""
        if code not in _TYPING and code not in _ENTER and code not in _free():
            return SYSTEM, ""
    code = _plain(place)
    if code in modifier_codes() or code in _free():
        return "", ""
    if code in _ENTER or (_CTRL in modifiers and code in _CTRL_ENTER):
        return "", "Enter"
    if modifiers & {_CTRL, _ALT}:
        return "", ""
    return "", key_table().name(struck)


class Typed:
    """What the keys of one run have come to so far."""

    def __init__(self) -> None:
        self.count = 0
        self._last = ""

    def add(self, typed: str) -> bool:
        """Count a key that types; whether it comes to a text.  One that is tapped again and again counts once."""
        if typed == "Enter":
            line, self._last = self.count >= LEAST_LINE, ""
            return line
        if typed and typed != self._last:
            self._last = typed
            self.count += 1
        return self.count >= LEAST_TEXT


def comes_to(strokes: Iterable[tuple[frozenset[int], int]], places: Places = US,
             opening: Opening = frozenset()) -> tuple[str, ...]:
    """What keys need approval for, one after the other with what is held meanwhile: in words, each once."""
    typed, found = Typed(), dict[str, None]()
    for held, struck in strokes:
        does, character = weigh(held, struck, places, opening)
        if does:
            found[does] = None
        elif character and typed.add(character):
            found[TYPES] = None
    return tuple(found)


class Gate:
    """Decides for all runs, and counts what those of strangers type together."""

    def __init__(self) -> None:
        # Where the keys are on the keyboard of the programs that receive.
        self.places: Places = US
        self._at = 0
        self._typed = self._begun = 0

    def shut(self, rights: Rights, code: int, typed: Typed, down: Collection[int], now: int) -> str:
        """Why an effect may not leave, in words; nothing if it may.  `down` is what all runs hold, `typed` what this
        run has come to; `now` in ns."""
        kind = kind_of(code)
        if rights.reaches:
            return ""
        if kind.leaves:
            return kind.leaves
        if kind is MOTION or rights.types:
            return ""
        assert kind is KEY
        does, character = weigh(frozenset(one for one in down if kind_of(one) is KEY and one != code), code,
                                self.places, rights.opening)
        if does or not character:
            return does
        return TYPES if typed.add(character) or self._too_many(character, now) else ""

    def _too_many(self, character: str, now: int) -> bool:
        """Many short runs come to a text as one long one does; what a person presses is counted off."""
        if now - self._at > BURST:
            self._typed = self._begun = 0
        self._at = now
        if character == "Enter":
            return self._typed >= LEAST_LINE and self._typed > self._begun
        self._typed += 1
        return self._typed - self._begun >= LEAST_TEXT - 1

    def begun(self, now: int) -> None:
        """A person has pressed something that began a stranger's run: one character belongs to it."""
        if now - self._at > BURST:
            self._typed = self._begun = 0
        self._at = now
        self._begun = min(self._begun + 1, self._typed + 1)
