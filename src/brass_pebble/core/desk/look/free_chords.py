"""Proposes chords that nothing known takes, the easiest to remember first; alone or as a whole family.  Pure."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import NamedTuple

from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.shortcuts import ProgramTable, Shape, shape_of
from brass_pebble.core.signals.keys import Chord, key_table, parse_chord

from .clashes import Survey

# In the order in which they are easy to press and seldom taken.
MODIFIERS = ("Ctrl+Alt", "Ctrl+Shift", "Alt+Shift", "Ctrl+Alt+Shift", "Ctrl+Super", "Ctrl+Alt+Super")
# Keys that lie next to each other.
ROWS = (
    tuple(f"F{number}" for number in range(13, 25)),
    ("1", "2", "3", "4", "5", "6", "7", "8", "9", "0"),
    tuple("QWERTYUIOP"), tuple("ASDFGHJKL"), tuple("ZXCVBNM"),
    tuple(f"F{number}" for number in range(1, 13)),
)
_EXTENDED = ROWS[0]


def taken_shapes(desk: Desk, programs: Iterable[ProgramTable]) -> set[Shape]:
    """Every chord that the desk sends or a known program takes."""
    programs = list(programs)
    found = {sending.shape for sending in Survey(desk, programs).sendings}
    return found | {shortcut.shape for program in programs for shortcut in program.shortcuts}


def free_chords(label: str, taken: Collection[Shape]) -> Iterator[Chord]:
    """Free chords: with the label's first letter, its other letters, F13 to F24, then whatever there is."""
    letters = dict.fromkeys(char for char in label.upper() if char.isascii() and char.isalnum())
    names = [f"{modifiers}+{letter}" for letter in list(letters)[:1] for modifiers in MODIFIERS]
    names += [f"{modifiers}+{letter}" for letter in list(letters)[1:4] for modifiers in MODIFIERS[:3]]
    names += _EXTENDED
    names += [f"{modifiers}+{key}" for modifiers in MODIFIERS for row in (*ROWS[1:5], ROWS[0]) for key in row]
    seen = set()
    for name in names:
        chord = parse_chord(name)
        shape = shape_of(chord.codes)
        if shape not in taken and shape not in seen:
            seen.add(shape)
            yield chord


def free_family(count: int, taken: Collection[Shape]) -> list[Chord]:
    """`count` free chords that lie next to each other: one row of keys with the same modifiers.

    Rows that are free from end to end come first; where none is long enough, the rows of one set of modifiers go
    together.  Fewer than `count` come back only if nothing has so many.
    """
    best: list[Chord] = []
    for together in (False, True):
        for modifiers in ("", *MODIFIERS):
            rows = [_EXTENDED] if not modifiers else list(ROWS[:5])
            names = [[f"{modifiers}+{key}" if modifiers else key for key in row] for row in rows]
            for row in ([[name for part in names for name in part]] if together else names):
                run = _longest_run([parse_chord(name) for name in row], taken, gaps=together)
                if len(run) >= count:
                    return run[:count]
                best = max(best, run, key=len)
    return best


class OwnChords(NamedTuple):
    """The own keys of several controls with the same modifiers, and those of them that are taken: the chord, and what
    it does, in words."""

    modifiers: str
    chords: list[str]
    taken: list[tuple[str, str]]


def own_chords(desk: Desk, programs: Iterable[ProgramTable],
               places: Sequence[tuple[str, str, str]]) -> list[OwnChords]:
    """Each control's own key with modifiers, for controls at places (surface, layer, control); the freest first.

    What the places themselves send now does not count as taken.  Nothing comes back if one of them, such as a pad, is
    no key that can be sent.
    """
    programs = list(programs)
    keys = [name for surface, _, control in places if (name := _own_key(desk, surface, control))]
    if len(keys) < len(places):
        return []
    survey = Survey(desk, programs)
    sent = {sending.shape: sending for sending in survey.sendings
            if (sending.where.surface, sending.where.layer, sending.where.control) not in set(places)}
    rows = []
    for modifiers in MODIFIERS:
        chords = [parse_chord(f"{modifiers}+{key}") for key in keys]
        taken = []
        for chord in chords:
            shape = shape_of(chord.codes)
            does = [f"“{shortcut.does}” in {program.name}" for program in programs
                    if (shortcut := program.takes(shape))]
            does += [survey.say(sent[shape].where)] if shape in sent else []
            taken += [(str(chord), ", ".join(does))] if does else []
        rows.append(OwnChords(modifiers, [str(chord) for chord in chords], taken))
    return sorted(rows, key=lambda row: len(row.taken))


def _own_key(desk: Desk, surface: str, control: str) -> str:
    code = desk.surfaces[surface].code_of(control)
    key = key_table().by_code.get(code) if code is not None else None
    return key.name if key is not None and key.sendable and not key.button else ""


def _longest_run(chords: list[Chord], taken: Collection[Shape], *, gaps: bool) -> list[Chord]:
    best: list[Chord] = []
    run: list[Chord] = []
    for chord in chords:
        if shape_of(chord.codes) in taken:
            if not gaps:
                best, run = max(best, run, key=len), []
            continue
        run.append(chord)
    return max(best, run, key=len)


