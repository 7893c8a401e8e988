"""How to type characters under any keyboard layout that the system knows, asked of its own XKB data.

Uses the library libxkbcommon (xkbcommon/xkbcommon.h) through ctypes.  Dead keys are composed as Unicode does
(NFC of letter and combining mark), which is what the usual compose tables do for them.
"""

from __future__ import annotations

import ctypes
import ctypes.util
import re
import unicodedata
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
# Keysyms of dead keys (xkbcommon/xkbcommon-keysyms.h): the combining mark each adds, what it gives with a space, and
# what it gives twice.
DEAD = {
    0xFE50: ("\u0300", "`", "`"), 0xFE51: ("\u0301", "'", "\u00b4"), 0xFE52: ("\u0302", "^", "^"),
    0xFE53: ("\u0303", "~", "~"), 0xFE54: ("\u0304", "\u00af", "\u00af"), 0xFE55: ("\u0306", "\u02d8", "\u02d8"),
    0xFE56: ("\u0307", "\u02d9", "\u02d9"), 0xFE57: ("\u0308", '"', "\u00a8"), 0xFE58: ("\u030a", "\u00b0", "\u00b0"),
    0xFE59: ("\u030b", "\u02dd", "\u02dd"), 0xFE5A: ("\u030c", "\u02c7", "\u02c7"),
    0xFE5B: ("\u0327", "\u00b8", "\u00b8"), 0xFE5C: ("\u0328", "\u02db", "\u02db"),
}
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
            ("xkb_keysym_to_utf32", number, [number])):
        function = getattr(library, name)
        function.restype, function.argtypes = result, arguments
    return library


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
        read = {locked: self._read(library, layout, locked) for locked in (False, True)}
        self.places = places_of({char: chords[0].codes[0] for char, chords in read[False].items()
                                 if len(chords) == 1 and len(chords[0].codes) == 1})
        self._strokes: dict[bool, dict[str, tuple[Chord, ...]]] = {
            locked: {char: tuple(Chord(tuple(self.places.name(code) for code in chord.codes)) for chord in chords)
                     for char, chords in table.items()} for locked, table in read.items()}
        library.xkb_keymap_unref(layout)
        library.xkb_context_unref(context)

    def _read(self, library: ctypes.CDLL, layout: int, locked: bool) -> dict[str, tuple[Chord, ...]]:
        table, named = key_table(), {"\n": "Enter", "\t": "Tab"}
        strokes: dict[str, tuple[Chord, ...]] = {char: (Chord((table.find(key).code,)),)
                                                 for char, key in named.items()}
        dead: dict[int, Chord] = {}
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
                if sym in DEAD:
                    dead.setdefault(sym, Chord((*held, key.code)))
                elif (code := library.xkb_keysym_to_utf32(sym)) and chr(code).isprintable():
                    strokes.setdefault(chr(code), (Chord((*held, key.code)),))
        library.xkb_state_unref(state)
        single = dict(strokes)
        for sym, chord in dead.items():
            mark, alone, twice = DEAD[sym]
            strokes.setdefault(twice, (chord, chord))
            if " " in single:
                strokes.setdefault(alone, (chord, *single[" "]))
            for char, second in single.items():
                joined = unicodedata.normalize("NFC", char + mark)
                if len(joined) == 1 and len(char) == 1 and char.isalpha():
                    strokes.setdefault(joined, (chord, *second))
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
