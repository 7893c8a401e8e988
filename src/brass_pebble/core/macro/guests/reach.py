"""Steps that reach outside the keyboard, and how those of a stranger's macro sleep until they are approved.  Pure.

This is for telling, and for asking: what a step says of itself is looked up here before anything is played.  What
really leaves is decided by the gate (core/effects/gate.py), which knows nothing of steps.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass
from typing import ClassVar

from brass_pebble.core.effects.gate import LEAST_TEXT, TYPES, Opening, comes_to
from brass_pebble.core.effects.kinds import KEY, kind_of
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.macro.asks import CatchUp, Errand, Laying
from brass_pebble.core.macro.midi_steps import SendNote, SendValue
from brass_pebble.core.macro.steps import INSIDE, Down, Keep, Repeat, RepeatWhile, Step, Tap, Type
from brass_pebble.core.macro.text_steps import Paste, TypeLines
from brass_pebble.core.macro.timetable import Timeline, Timetable
from brass_pebble.core.macro.world_steps import Errands, Play
from brass_pebble.core.signals.keymap import Typist
from brass_pebble.core.signals.keys import MODIFIERS, Chord, key_table, modifier_codes

KEYS = "taps keys that come to a text"
_SIGNS = {"\n": "⏎", "\t": "⇥", "\b": "⌫"}
# So much of what keys come to is told.
MOST_TOLD = 400
MOST_TOLD_OF_PLAYS = 4_000

# Whether a mark is approved.
Approves = Callable[[str], bool]


@dataclass(frozen=True)
class Guest:
    """A macro that came from somebody else: from whom, what tells whether a mark is approved, and what it is known by
    with all that it leads to (closure.py); `opening` are chords that open something on this computer."""

    origin: str
    approves: Approves
    whole: str = ""
    opening: Opening = frozenset()


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


def reach_of(step: Step, values: str = "", whole: str = "") -> Reach | None:
    """What a step does outside the keyboard, if anything.  `values` are those of its macro, `whole` what that leads
    to."""
    does = step.does()
    if not does:
        return None
    words = step.account()
    varies = "{" in words or step.keeps or (isinstance(step, SendNote | SendValue) and not step.fixed)
    return Reach(does, words, step.line, values if varies else "", whole=whole)


@dataclass(eq=False, repr=False)
class Asleep(Errands):
    """Stands for a step that is not approved: it only says so."""

    reach: ClassVar[str] = INSIDE
    inner: Step | None = None
    says: str = ""

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        yield Errand(self.line, "asleep", (self.says or self.words(),))

    def words(self) -> str:
        return self.inner.words() if self.inner is not None else self.says


def reaches(steps: list[Step], *, through_plays: bool = False, whole: str = "") -> Iterator[Reach]:
    """Everything in a macro that reaches outside, in the order of the text; with `through_plays`, also what it plays,
    as one for each play."""
    yield from _reaches(steps, values_of(steps), through_plays, whole)


def _reaches(steps: Iterable[Step], values: str, through_plays: bool, whole: str) -> Iterator[Reach]:
    for one in steps:
        step = one.inner if isinstance(one, Asleep) and one.inner else one
        if found := reach_of(step, values, whole):
            yield found
        if isinstance(step, Play):
            if through_plays and (found := play_reach(step, whole)):
                yield found
        else:
            yield from _reaches(step.body, values, through_plays, whole)
        if step.otherwise is not None:
            yield from _reaches(step.otherwise.body, values, through_plays, whole)


def play_reach(step: Play, whole: str = "") -> Reach | None:
    """What comes of a play outside the keyboard: all that the other macro does, with those that it plays."""
    return reach_of_playing(step.written, step.name, step.words(), step.line, whole)


def reach_of_playing(steps: list[Step], name: str, words: str, line: int = 0, whole: str = "") -> Reach | None:
    """What a macro does outside the keyboard, with those that it plays, as one thing; None if it does nothing there."""
    found = list(_all_played(steps, set()))
    if not found:
        return None
    told = "\n".join(dict.fromkeys(reach.text for reach in found))
    return Reach(", ".join(dict.fromkeys(reach.does for reach in found)), words, line, told[:MOST_TOLD_OF_PLAYS], name,
                 whole)


def _all_played(steps: list[Step], seen: set[int]) -> Iterator[Reach]:
    if id(steps) in seen:
        return
    seen.add(id(steps))
    yield from _reaches(steps, "", False, "")
    for one in _walk(steps):
        if isinstance(one, Play):
            yield from _all_played(one.written, seen)


def put_to_sleep(steps: list[Step], guest: Guest, values: str | None = None) -> int:
    """Exchange every step that reaches outside and is not approved (by its mark), and mark those that are.  Returns how
    many sleep.  What it plays is looked at when that is known (`lulled_play`)."""
    values = values_of(steps) if values is None else values
    count = 0
    for index, step in enumerate(steps):
        found = reach_of(step, values, guest.whole)
        if found is not None and not guest.approves(found.mark):
            steps[index] = Asleep(step.line, inner=step)
            count += 1
            continue
        step.approved = found.mark if found is not None else ""
        count += put_to_sleep(step.body, guest, values)
        if step.otherwise is not None:
            count += put_to_sleep(step.otherwise.body, guest, values)
    return count


def lulled_play(step: Play, guest: Guest) -> Step:
    """A stranger's play of another macro: asleep as long as anything that comes of it outside is not approved."""
    found = play_reach(step, guest.whole)
    if found is not None and not guest.approves(found.mark):
        return Asleep(step.line, inner=step)
    step.approved = found.mark if found is not None else ""
    return step


def keys_reach(steps: list[Step], timetable: Timetable, typist: Typist, whole: str = "",
               opening: Opening = frozenset()) -> Reach | None:
    """What the keys of a macro come to, if that needs approval: as they are played in the ordinary case, and as they
    stand in its text and in what it plays, whichever way it takes."""
    # What a step types by itself is told as that.
    others = {step.line for step in _walk(steps) if isinstance(step, Type | Paste | TypeLines)
              or (isinstance(step, Play) and play_reach(step) is not None)}
    played, written = [*_strokes_of(timetable, others)], [*_strokes_in(steps, frozenset(), Counter())]
    does = dict.fromkeys((*comes_to(played, typist.places, opening), *comes_to(written, typist.places, opening)))
    if not does:
        return None
    told = dict.fromkeys(_spell(strokes, typist, opening) for strokes in (played, written)
                         if comes_to(strokes, typist.places, opening))
    what = ", ".join(KEYS if one == TYPES else f"taps keys: {one}" for one in does)
    return Reach(what, _say(" / ".join(told))[:MOST_TOLD], whole=whole)


Stroke = tuple[frozenset[int], int]


def _strokes_of(timetable: Timetable, without: Collection[int]) -> Iterator[Stroke]:
    """Every key that goes down, with the modifiers that are held then; but for those of some lines."""
    modifiers, held = modifier_codes(), set[int]()
    for code, value, line in zip(timetable.codes, timetable.values, timetable.lines, strict=True):
        if kind_of(code) is not KEY or line in without:
            continue
        if value:
            yield frozenset(held), code
        if code in modifiers:
            (held.add if value else held.discard)(code)


def _strokes_in(steps: Iterable[Step], kept: frozenset[int], seen: Counter[int], depth: int = 0) -> Iterator[Stroke]:
    """Every key of a text, whichever way it takes; what may be repeated, or is played again, comes twice."""
    for one in steps:
        step = one.inner if isinstance(one, Asleep) and one.inner else one
        if isinstance(step, Tap | Down):
            for index, code in enumerate(step.chord.codes):
                yield kept | frozenset(step.chord.codes[:index]), code
        below = kept
        if isinstance(step, Keep):
            for index, code in enumerate(step.chord.codes):
                yield kept | frozenset(step.chord.codes[:index]), code
            below = kept | frozenset(step.chord.codes)
        body = step.body
        if isinstance(step, Play):
            seen[id(step.target)] += 1
            body = step.target if seen[id(step.target)] <= LEAST_TEXT else []
        for _ in range(2 if isinstance(step, Repeat | RepeatWhile) and depth < 2 else 1):
            yield from _strokes_in(body, below, seen, depth + isinstance(step, Repeat | RepeatWhile))
        if step.otherwise is not None:
            yield from _strokes_in(step.otherwise.body, kept, seen, depth)


def _spell(strokes: Iterable[Stroke], typist: Typist, opening: Opening) -> str:
    """Strokes as what they type: characters as they are, whatever needs approval by itself as its chord in
    guillemets."""
    characters, modifiers = typist.characters, modifier_codes()
    spelt = []
    for held, struck in strokes:
        if comes_to([(held, struck)], typist.places, opening):
            spelt.append(f"«{Chord((*sorted(held, key=_place_in_chord), struck))}»")
            continue
        if struck in modifiers:
            continue
        settled = frozenset(typist.places.settle(tuple(held & modifiers)))
        code = typist.places.settle((struck,))[0]
        found = characters.get((settled, code)) or (
            characters.get((frozenset(), code)) if settled <= _SHIFTS else None)
        # A chord, or a key that moves about.
        spelt.append(found or "\0")
    return "".join(spelt)


_SHIFTS = frozenset(key_table().find(name).code for name in ("Shift", "RightShift"))


def _place_in_chord(code: int) -> int:
    names = [key_table().find(name).code for name in MODIFIERS]
    return names.index(code) if code in names else len(names)


def _say(spelt: str) -> str:
    while "\0\0" in spelt:
        spelt = spelt.replace("\0\0", "\0")
    return "".join(_SIGNS.get(char, "·" if char == "\0" else char) for char in spelt).strip("·")
