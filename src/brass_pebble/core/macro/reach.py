"""Steps that reach outside the keyboard, and how those of a stranger's macro sleep until they are approved.  Pure.

Judged by what they do: keys that are tapped one after the other and come to a text, or that open a command line, are
a text; and what a stranger's macro has one of the person's own do, the stranger does.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass, replace

from brass_pebble.core.effects.kinds import KEY, kind_of
from brass_pebble.core.effects.reach import DRIVES_MIDI, DRIVES_OSC, Reach
from brass_pebble.core.signals.keymap import Typist
from brass_pebble.core.signals.keys import MODIFIERS, Chord, key_table, modifier_codes, parse_chord

from .asking_steps import ReadValue
from .asks import CatchUp, Errand, Laying
from .desktop_steps import CloseProgram, CloseWindow, OpenProgram
from .midi_steps import SendBytes, SendCommand, SendNote, SendValue
from .network_steps import Request, SendMessage
from .steps import Down, Let, Step, Tap, Type
from .text_steps import Paste, PasteFile, PasteLines, TypeFile, TypeLines
from .timetable import Timeline, Timetable
from .world_steps import Errands, Osc, Play, Run, Speak, Start, TypeSecret

# What a step does outside, in words, by its kind.
REACHES: dict[type[Step], str | Callable[[Step], str]] = {
    # What another macro types may be made of it.
    Let: lambda step: "sets a kept value" if isinstance(step, Let) and step.keeps else "",
    ReadValue: lambda step: step.reaches if isinstance(step, ReadValue) else "",
    Run: "runs a program", Start: "starts a program", OpenProgram: "starts a program", CloseProgram: "ends a program",
    CloseWindow: "closes a window", Request: "calls an address", SendMessage: "sends a message", Osc: DRIVES_OSC,
    Paste: "pastes a text", Type: "types a text", TypeLines: "types a text", PasteLines: "pastes a text",
    TypeFile: "types a file", PasteFile: "pastes a file", Speak: "speaks", TypeSecret: "types a secret",
    SendNote: DRIVES_MIDI, SendValue: DRIVES_MIDI,
    SendBytes: DRIVES_MIDI, SendCommand: DRIVES_MIDI,
}
KEYS, OPENS = "taps keys that type text", "taps keys that open a command line"
KEYS_AND_OPENS = "taps keys that open a command line and type text"
# So many characters in a row are a text; fewer are, too, when Enter follows.
LEAST_TEXT, LEAST_LINE = 4, 2
# What opens a place for commands on many desktops.
COMMAND_LINES = tuple(frozenset(parse_chord(text).codes) for text in (
    "Alt+F2", "Super+R", "Super+T", "Super+Enter", "Ctrl+Alt+T", "Super", "Super+Space", "Alt+Space"))
_OPENING = re.compile("«.*?»")
_SIGNS = {"\n": "⏎", "\t": "⇥", "\b": "⌫"}
# So much of what keys come to is told.
MOST_TOLD = 400

# Whether a mark is approved.
Approves = Callable[[str], bool]


def values_of(steps: Iterable[Step]) -> str:
    """What the values of a macro are set to, in the order of the text."""
    return "\n".join(step.account() for step in _walk(steps) if step.sets)


def _walk(steps: Iterable[Step]) -> Iterator[Step]:
    for one in steps:
        step = one.inner if isinstance(one, Asleep) and one.inner else one
        yield step
        yield from _walk(step.body)
        if step.otherwise is not None:
            yield from _walk((step.otherwise,))


def reach_of(step: Step, values: str = "") -> Reach | None:
    """What a step does outside the keyboard, if anything.  `values` are those of its macro."""
    does = REACHES.get(type(step))
    if does is None:
        return None
    does = does if isinstance(does, str) else does(step)
    if not does:
        return None
    words = step.account()
    varies = "{" in words or (isinstance(step, SendNote | SendValue) and not step.fixed)
    return Reach(does, words, step.line, values if varies else "")


@dataclass(eq=False, repr=False)
class Asleep(Errands):
    """Stands for a step that is not approved: it only says so."""

    inner: Step | None = None
    says: str = ""

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        yield Errand(self.line, "asleep", (self.says or self.words(),))

    def words(self) -> str:
        return self.inner.words() if self.inner is not None else self.says


def reaches(steps: list[Step], *, through_plays: bool = False) -> Iterator[Reach]:
    """Everything in a macro that reaches outside, in the order of the text; with `through_plays`, also what those do
    that it plays, once each."""
    yield from _reaches(steps, values_of(steps), through_plays, set(), "")


def _reaches(steps: Iterable[Step], values: str, through_plays: bool, seen: set[int], via: str) -> Iterator[Reach]:
    for step in steps:
        if found := reach_of(step.inner if isinstance(step, Asleep) and step.inner else step, values):
            yield replace(found, via=via)
        if not isinstance(step, Play):
            yield from _reaches(step.body, values, through_plays, seen, via)
        elif through_plays and id(step.target) not in seen:
            seen.add(id(step.target))
            yield from _reaches(step.target, values_of(step.target), True, seen, via or step.name)
        if step.otherwise is not None:
            yield from _reaches(step.otherwise.body, values, through_plays, seen, via)


def put_to_sleep(steps: list[Step], approved: Approves, values: str | None = None) -> int:
    """Exchange every step that reaches outside and is not approved (by its mark).  Returns how many sleep."""
    values = values_of(steps) if values is None else values
    count = 0
    for index, step in enumerate(steps):
        found = reach_of(step, values)
        if found is not None and not approved(found.mark):
            steps[index] = Asleep(step.line, inner=step)
            count += 1
            continue
        count += put_to_sleep(step.body, approved, values)
        if step.otherwise is not None:
            count += put_to_sleep(step.otherwise.body, approved, values)
    return count


def fingerprint(steps: Iterable[Step]) -> str:
    """What a macro is known by under another name: all its steps, without its settings."""
    text = "\n".join(step.account() for step in _walk(steps))
    return hashlib.sha256(f"steps\n{text}".encode("utf-8", "surrogateescape")).hexdigest()[:32]


def keys_reach(steps: list[Step], timetable: Timetable, typist: Typist) -> Reach | None:
    """What the keys of a macro come to, if that is a text or opens a command line: as they are played in the ordinary
    case, and as they stand in its text, whichever way it takes."""
    told = []
    # What a step types by itself is told as that.
    others = {step.line for step in _walk(steps) if isinstance(step, Type | Paste | TypeLines)}
    played = _spell(_strokes_of(timetable, others), typist)
    written = _spell(_strokes_in(steps), typist)
    for spelt in (played, written):
        if _is_text(spelt) and spelt not in told:
            told.append(spelt)
    if not told:
        return None
    opens, types = any("«" in spelt for spelt in told), any(_types(_OPENING.sub("\0", spelt)) for spelt in told)
    does = (KEYS_AND_OPENS if types else OPENS) if opens else KEYS
    return Reach(does, _say(" / ".join(told))[:MOST_TOLD])


Stroke = tuple[frozenset[int], int]


def _strokes_of(timetable: Timetable, without: Collection[int]) -> Iterator[Stroke]:
    """Every key that goes down, with the modifiers that are held then; but for those of some lines."""
    modifiers, held = modifier_codes(), set[int]()
    last = 0
    for code, value, line in zip(timetable.codes, timetable.values, timetable.lines, strict=True):
        if kind_of(code) is not KEY or line in without:
            continue
        if code in modifiers:
            if value:
                held.add(code)
                last = code
            else:
                held.discard(code)
                if last == code:
                    # Tapped alone, it may open a menu of its own.
                    yield frozenset(held), code
        elif value:
            last = 0
            yield frozenset(held), code


def _strokes_in(steps: Iterable[Step]) -> Iterator[Stroke]:
    for step in _walk(steps):
        if isinstance(step, Tap | Down) and step.chord.codes:
            chord: Chord = step.chord
            yield frozenset(chord.codes[:-1]), chord.codes[-1]


def _spell(strokes: Iterable[Stroke], typist: Typist) -> str:
    """Strokes as what they type: characters as they are, a place for commands as its chord in guillemets."""
    characters = typist.characters
    spelt = []
    shifts = frozenset(parse_chord("Shift").codes) | frozenset(parse_chord("RightShift").codes)
    lines = {frozenset(typist.places.settle(tuple(line))) for line in COMMAND_LINES}
    for held, struck in strokes:
        settled = frozenset(typist.places.settle(tuple(held)))
        code = typist.places.settle((struck,))[0]
        if frozenset((*settled, code)) in lines:
            spelt.append(f"«{Chord((*sorted(held, key=_place_in_chord), struck))}»")
            continue
        found = characters.get((settled, code))
        if found is None and settled <= shifts:
            found = characters.get((frozenset(), code))
        if found is None:
            # A chord, or a key that moves about: what was typed before ends here.
            spelt.append("\0")
        else:
            spelt.append(found)
    return "".join(spelt)


def _place_in_chord(code: int) -> int:
    names = [key_table().find(name).code for name in MODIFIERS]
    return names.index(code) if code in names else len(names)


def _is_text(spelt: str) -> bool:
    return "«" in spelt or _types(spelt)


def _types(spelt: str) -> bool:
    for part in spelt.split("\0"):
        lines = part.split("\n")
        if any(len(line.strip()) >= LEAST_TEXT for line in lines) or any(
                len(line.strip()) >= LEAST_LINE for line in lines[:-1]):
            return True
    return False


def _say(spelt: str) -> str:
    return "".join(_SIGNS.get(char, "·" if char == "\0" else char) for char in spelt).strip("·")
