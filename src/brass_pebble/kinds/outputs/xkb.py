"""How to type characters under any keyboard layout that the system knows, asked of its own XKB data.

Uses the library libxkbcommon (xkbcommon/xkbcommon.h) through ctypes.  What dead keys make of the key behind them is
asked of the same library, which reads the compose table of the person's language as programs do.
"""

from __future__ import annotations

import ctypes
import ctypes.util
import os
import re
from functools import cache
from pathlib import Path

from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.key_places import places_of
from brass_pebble.core.signals.keymap import Held, Typist, as_held, cannot_type, keymap
from brass_pebble.core.signals.keys import Chord, key_table

# XKB keycodes are the kernel's key codes and 8 more.
_OFFSET = 8
_LAYOUT = re.compile(r"([a-z_]{2,20})(?:\(([\w-]{0,30})\))?")
SYSTEM = Path("/etc/default/keyboard")
# Dead keys (xkbcommon/xkbcommon-keysyms.h): XKB_KEY_dead_grave to XKB_KEY_dead_greek and those after it.
_DEAD = range(0xFE50, 0xFE94)
# enum xkb_compose_status (xkbcommon/xkbcommon-compose.h)
_COMPOSED = 2
# Whose rules of composition count where the person's language has none of its own.
_USUAL_LOCALE = "en_US.UTF-8"
_LEVEL3 = 0xFE03


class _Names(ctypes.Structure):
    _fields_ = tuple((name, ctypes.c_char_p) for name in ("rules", "model", "layout", "variant", "options"))


@cache
def _library() -> ctypes.CDLL:
    """The library, with the types of the calls used here.

    Raises:
        OSError: it is not installed.
    """
    library = ctypes.CDLL("libxkbcommon.so.0")
    pointer, number = ctypes.c_void_p, ctypes.c_uint32
    for name, result, arguments in (
            ("xkb_context_new", pointer, [ctypes.c_int]),
            ("xkb_context_set_log_level", None, [pointer, ctypes.c_int]),
            ("xkb_keymap_new_from_names", pointer, [pointer, ctypes.POINTER(_Names), ctypes.c_int]),
            ("xkb_keymap_mod_get_index", number, [pointer, ctypes.c_char_p]),
            ("xkb_keymap_unref", None, [pointer]), ("xkb_context_unref", None, [pointer]),
            ("xkb_state_new", pointer, [pointer]), ("xkb_state_unref", None, [pointer]),
            ("xkb_state_update_mask", ctypes.c_int, [pointer, *[number] * 6]),
            ("xkb_state_key_get_one_sym", number, [pointer, number]),
            ("xkb_keysym_to_utf32", number, [number]),
            ("xkb_compose_table_new_from_locale", pointer, [pointer, ctypes.c_char_p, ctypes.c_int]),
            ("xkb_compose_table_unref", None, [pointer]), ("xkb_compose_state_new", pointer, [pointer, ctypes.c_int]),
            ("xkb_compose_state_unref", None, [pointer]), ("xkb_compose_state_reset", None, [pointer]),
            ("xkb_compose_state_feed", ctypes.c_int, [pointer, number]),
            ("xkb_compose_state_get_status", ctypes.c_int, [pointer]),
            ("xkb_compose_state_get_one_sym", number, [pointer])):
        function = getattr(library, name)
        function.restype, function.argtypes = result, arguments
    return library


class _Composing:
    """What pairs of keys come to, by the compose table of the person's language."""

    def __init__(self, library: ctypes.CDLL, context: int) -> None:
        self._library = library
        self._table = self._state = None
        for locale in (next(filter(None, map(os.environ.get, ("LC_ALL", "LC_CTYPE", "LANG"))), ""), _USUAL_LOCALE):
            self._table = library.xkb_compose_table_new_from_locale(context, locale.encode(), 0) if locale else None
            if self._table:
                self._state = library.xkb_compose_state_new(self._table, 0)
                break

    @cache  # noqa: B019  (it lives for as long as one layout is read)
    def join(self, first: int, second: int) -> str:
        """The character that two keysyms after one another give; empty if they give none."""
        library, state = self._library, self._state
        if not state:
            return ""
        library.xkb_compose_state_reset(state)
        library.xkb_compose_state_feed(state, first)
        library.xkb_compose_state_feed(state, second)
        if library.xkb_compose_state_get_status(state) != _COMPOSED:
            return ""
        code = library.xkb_keysym_to_utf32(library.xkb_compose_state_get_one_sym(state))
        return chr(code) if code and chr(code).isprintable() else ""

    def close(self) -> None:
        """Give the table back."""
        if self._table:
            self._library.xkb_compose_state_unref(self._state)
            self._library.xkb_compose_table_unref(self._table)
            self._table = self._state = None


class XkbTypist:
    """A layout of the system, such as `de` or `us(dvorak)`."""

    def __init__(self, name: str) -> None:
        """Read the layout.

        Raises:
            ProblemError: there is no such layout, or no XKB data.
        """
        self.name = name
        match = _LAYOUT.fullmatch(name)
        if match is None:
            raise ProblemError(f"“{name}” is not the name of a keyboard layout", hint="Write de, or us(dvorak)")
        try:
            library = _library()
        except OSError:
            raise ProblemError(f"the layout {name} cannot be read: libxkbcommon is not here",
                               hint="Install libxkbcommon0 and xkb-data, or write keyboard = \"us\"") from None
        context = library.xkb_context_new(0)
        library.xkb_context_set_log_level(context, 10)
        names = _Names(b"evdev", b"pc105", match[1].encode(), (match[2] or "").encode(), b"")
        layout = library.xkb_keymap_new_from_names(context, ctypes.byref(names), 0)
        if not layout:
            library.xkb_context_unref(context)
            raise ProblemError(f"there is no keyboard layout “{name}” on this system",
                               hint="Layouts are named as in /usr/share/X11/xkb/symbols, with a variant in parentheses")
        # As the kernel counts keys, and then as they are called.
        composing = _Composing(library, context)
        read = {locked: self._read(library, layout, composing, locked) for locked in (False, True)}
        composing.close()
        self.places = places_of({char: chords[0].codes[0] for char, chords in read[False].items()
                                 if len(chords) == 1 and len(chords[0].codes) == 1})
        self._strokes: dict[bool, dict[str, tuple[Chord, ...]]] = {
            locked: {char: tuple(Chord(tuple(self.places.name(code) for code in chord.codes)) for chord in chords)
                     for char, chords in table.items()} for locked, table in read.items()}
        library.xkb_keymap_unref(layout)
        library.xkb_context_unref(context)

    def _read(self, library: ctypes.CDLL, layout: int, composing: _Composing,
              locked: bool) -> dict[str, tuple[Chord, ...]]:
        table, named = key_table(), {"\n": "Enter", "\t": "Tab"}
        strokes: dict[str, tuple[Chord, ...]] = {char: (Chord((table.find(key).code,)),)
                                                 for char, key in named.items()}
        dead: dict[int, Chord] = {}
        plain: dict[int, Chord] = {}
        state = library.xkb_state_new(layout)
        masks = {name: 1 << library.xkb_keymap_mod_get_index(layout, name.encode()) for name in ("Shift", "Lock")}
        shift, altgr = table.find("Shift").code, table.find("AltGr").code
        # Which modifier the key beside the space bar gives, if it gives the third level at all.
        third = 0
        if library.xkb_state_key_get_one_sym(state, altgr + _OFFSET) == _LEVEL3:
            index = library.xkb_keymap_mod_get_index(layout, b"Mod5")
            third = 1 << index if index < 32 else 0
        ways = [((), 0), ((shift,), masks["Shift"])]
        ways += [((altgr,), third), ((shift, altgr), masks["Shift"] | third)] if third else []
        for held, mask in ways:
            library.xkb_state_update_mask(state, mask, 0, masks["Lock"] if locked else 0, 0, 0, 0)
            for key in table.by_code.values():
                if key.button or key.code + _OFFSET > 255:
                    continue
                sym = library.xkb_state_key_get_one_sym(state, key.code + _OFFSET)
                chord = Chord((*held, key.code))
                if sym in _DEAD:
                    dead.setdefault(sym, chord)
                elif (code := library.xkb_keysym_to_utf32(sym)) and chr(code).isprintable():
                    strokes.setdefault(chr(code), (chord,))
                    plain.setdefault(sym, chord)
        library.xkb_state_unref(state)
        for first, chord in dead.items():
            for second, behind in (*plain.items(), *dead.items()):
                if char := composing.join(first, second):
                    strokes.setdefault(char, (chord, behind))
        return strokes

    @property
    def typable(self) -> list[str]:
        """Every character that the layout can type."""
        return list(self._strokes[False])

    @property
    def characters(self) -> dict[Held, str]:
        """What single chords type."""
        return {as_held(chords[0]): char for char, chords in self._strokes[False].items() if len(chords) == 1}

    def strokes(self, char: str, *, locked: bool = False) -> tuple[Chord, ...]:
        try:
            return self._strokes[locked][char]
        except KeyError:
            raise cannot_type(self.name, char) from None


@cache
def typist(name: str) -> Typist:
    """The layout called `name`: as XKB calls it, or `system` for the one in /etc/default/keyboard.

    Raises:
        ProblemError: there is no such layout, or no XKB data; `us` is always there.
    """
    if name == "system":
        name = _system_layout()
    # The usual one ships as a table, and costs an engine nothing at its start.
    return keymap() if name == "us" else XkbTypist(name)


def _system_layout() -> str:
    settings: dict[str, str] = {}
    if SYSTEM.is_file():
        for line in SYSTEM.read_text(errors="replace").splitlines():
            key, equals, value = line.partition("=")
            if equals:
                settings[key.strip()] = value.strip().strip('"')
    layout, variant = settings.get("XKBLAYOUT", "us").split(",")[0], settings.get("XKBVARIANT", "").split(",")[0]
    return f"{layout}({variant})" if variant else layout or "us"
