"""What the player plays: key events with their times from the run's start."""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Protocol

from brass_pebble.core.effects.gate import Rights
from brass_pebble.core.effects.kinds import KEY, kind_of
from brass_pebble.core.say.durations import MS
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.key_places import US, Places
from brass_pebble.core.signals.keys import Chord

from .asks import CatchUp, Laying
from .value.kinds import Given, Scope, Setter, Value

if TYPE_CHECKING:
    from brass_pebble.core.signals.keymap import Typist


DEFAULT_TAP = 40 * MS
DEFAULT_GAP = 20 * MS
MOST_EVENTS = 250_000
DEFAULT_AGAIN = "start over"


# Time, code, value, line, and whose it is.
Event = tuple[int, int, int, int, Rights | None]


@dataclass
class Timetable:
    """A timetable: event i sends key `codes[i]` down (1) or up (0) at `times[i]` ns after the start.

    From `POINTER` on a code is a motion of the pointer, and the value how far (`core/effects/pointer.py`).

    `lines[i]` is the macro's line that wrote it, 0 if none.  With `holds`, the run goes on after its last
    event until it is let go, and not before `least` ns, so that a program that looks once a frame sees it.
    """

    times: array[int] = field(default_factory=lambda: array("q"))
    # A list once one of them is a message: such a code is more than a number.
    codes: array[int] | list[int] = field(default_factory=lambda: array("l"))
    values: array[int] = field(default_factory=lambda: array("l"))
    lines: array[int] = field(default_factory=lambda: array("l"))
    length: int = 0
    holds: bool = False
    least: int = 0
    # A key that is tapped an even number of times in all, since it switches something off and on again: Caps Lock.
    switches: int = 0
    # Whether it types what nobody is to read: then its keys are told by no name.
    secret: bool = False
    # Whose what is added now is, and whose each event is; a list only where something came from somebody else.
    rights: Rights | None = None
    whose: list[Rights | None] | None = None

    def add(self, time: int, code: int, value: int, line: int = 0) -> None:
        """Append one event; times must not run backward."""
        if kind_of(code).to_receiver and isinstance(self.codes, array):
            self.codes = list(self.codes)
        self.times.append(time)
        self.codes.append(code)
        self.values.append(value)
        self.lines.append(line)
        if self.whose is not None:
            self.whose.append(self.rights)

    def belong_to(self, rights: Rights | None) -> None:
        """Whose all is that is added from now on; None for the person's own."""
        self.rights = rights
        if rights is not None and self.whose is None:
            self.whose = [None] * len(self.times)

    def take_from(self, first: int) -> list[Event]:
        """Take out all events from the place `first` on."""
        whose = self.whose[first:] if self.whose is not None else [None] * (len(self.times) - first)
        events = list(zip(self.times[first:], self.codes[first:], self.values[first:], self.lines[first:], whose,
                          strict=True))
        for column in (self.times, self.codes, self.values, self.lines, *((self.whose,) if self.whose else ())):
            del column[first:]
        return events

    def put_back(self, events: Iterable[Event]) -> None:
        """Add events that were taken out, and others, in the order of their times."""
        rights = self.rights
        for *event, self.rights in events:
            self.add(*event)
        self.rights = rights

    @cached_property
    def head(self) -> tuple[int, ...]:
        """The keys that go down at the very start, before anything goes up.  Asked for when it is complete."""
        count = 0
        while (count < len(self.times) and self.times[count] == 0 and self.values[count]
               and kind_of(self.codes[count]) is KEY and self.codes[count] not in self.codes[:count]):
            count += 1
        return tuple(self.codes[:count])

    def closest_pair(self) -> int | None:
        """Shortest time in ns between two events at different instants, or None with fewer than two."""
        steps = [b - a for a, b in zip(self.times, self.times[1:], strict=False) if b > a]
        return min(steps) if steps else None


@dataclass
class Macro:
    """A macro as read: what it is called, how it behaves when started again, and its timetable.

    A macro whose events are the same for every press has them all in `timetable`.  Another one (values, windows, other
    programs) is `live`: `timetable` shows what it sends when the press is an ordinary one and every window comes at
    once, and a run lays its own events as it goes, with `score`.  `longest` bounds a run, in ns; 0 does not.
    """

    id: str
    name: str = ""
    label: str = ""
    note: str = ""
    tint: str = ""
    again: str = DEFAULT_AGAIN
    timetable: Timetable = field(default_factory=Timetable)
    source: str = ""
    longest: int = 0
    # What becomes of it when the computer stood still: "end", "go on", or as its desk says.
    overtaken: str = ""
    types_text: bool = False
    score: Score | None = None
    # Lays the timetable as it is under Caps Lock; only for macros that type a text, and only when it is asked for.
    lay_locked: Callable[[], Timetable] | None = None
    # Whether it drives the virtual controller.
    drives_controller: bool = False
    # The values that it keeps, and what they are before anybody has set them.
    keeps: dict[str, Value] = field(default_factory=dict)
    # What a live macro does beside keys, in its preview: when (ns), on which line, in words.
    marks: list[tuple[int, int, str]] = field(default_factory=list)
    _locked: Timetable | None = None

    @property
    def locked_timetable(self) -> Timetable | None:
        """What it sends under Caps Lock, if that is something else."""
        if self._locked is None and self.lay_locked is not None:
            self._locked = self.lay_locked()
        return self._locked

    @property
    def live(self) -> bool:
        """Whether its events depend on the press or on the world."""
        return self.score is not None


def chord_timetable(chord: Chord, *, holds: bool = False, tap: int = DEFAULT_TAP, places: Places = US) -> Timetable:
    """Tap a chord once for `tap` ns, or with `holds` keep it down until let go (and at least `tap`)."""
    timetable = Timetable(holds=holds, least=tap)
    codes = places.settle(chord.codes)
    for code in codes:
        timetable.add(0, code, 1)
    if not holds:
        for code in reversed(codes):
            timetable.add(tap, code, 0)
        timetable.length = tap
    return timetable


class Timeline:
    """Steps are laid on it one after the other; it knows the time, and what is down."""

    def __init__(self, *, tap: int, gap: int, keymap: Typist | None = None, locked: bool = False,
                 given: Given | None = None) -> None:
        self.now = 0
        self.tap = tap
        self.gap = gap
        self.keymap = keymap
        self.locked = locked
        self.given = given or Given()
        self.values = Scope(self.given, None, lambda: self.now)
        self.timetable = Timetable()
        self.given.strange = self._use_strange
        self._scope: Rights | None = None
        self.down: dict[int, int] = {}
        # Where the pointer was, if somebody wanted to know.
        self.place: tuple[int, int] | None = None
        self.line = 0
        # The line of a play step, whose macro's steps count as that line.
        self.stands_for = 0
        self.laid = 0
        # Whether what is laid is put into another order before it is sent; and what was laid when it was asked last.
        self.whole = False
        self._told = 0
        self._after_tap = False

    @property
    def scope(self) -> Rights | None:
        """Whose the steps are that are laid now; None for the person's own."""
        return self._scope

    @scope.setter
    def scope(self, rights: Rights | None) -> None:
        if rights is not self._scope:
            self._scope = rights
            self.belong_to(rights)

    @property
    def rights(self) -> Rights | None:
        """Whose the very step is: that of the scope, with what was approved of it."""
        return self.timetable.rights

    def belong_to(self, rights: Rights | None) -> None:
        """Whose all is that is laid from now on."""
        self.timetable.belong_to(rights)
        self.given.rights = rights

    def _use_strange(self, setter: Setter) -> None:
        """The run uses a value that somebody else has set: from now on it is theirs.  An approval of a stranger's own
        macro is for the values that came with it, too."""
        if self._scope is None or not setter.came:
            self.scope = Rights(setter.whose, locked=True)

    def begin(self, line: int) -> None:
        """Start a step written on `line`.

        Raises:
            ProblemError: the macro has become too long.
        """
        self.line = self.stands_for or line
        self.laid += 1
        if self.laid > MOST_EVENTS or len(self.timetable.times) > MOST_EVENTS:
            raise ProblemError(f"the macro has more than {MOST_EVENTS:,} events", line=line,
                               hint="Repeat fewer times, or split it into several macros")

    def has_laid(self, strokes: int) -> bool:
        """Whether so many strokes were laid since this was true last; never while the whole has to be laid at once."""
        if self.whole or self.laid - self._told < strokes:
            return False
        self._told = self.laid
        return True

    def codes_of(self, chord: Chord) -> tuple[int, ...]:
        """A chord's keys, each by the one code that it has on the receiving layout."""
        return (self.keymap.places if self.keymap is not None else US).settle(chord.codes)

    def press(self, codes: tuple[int, ...]) -> tuple[int, ...]:
        """Send down those of `codes` that are not down yet, and return them."""
        fresh = tuple(code for code in codes if code not in self.down)
        for code in fresh:
            self.down[code] = self.line
            self.timetable.add(self.now, code, 1, self.line)
        return fresh

    def release(self, codes: tuple[int, ...]) -> None:
        """Send `codes` up in the reverse order."""
        for code in reversed(codes):
            del self.down[code]
            self.timetable.add(self.now, code, 0, self.line)
        self._after_tap = False

    def lay_tap(self, codes: tuple[int, ...], length: int, *, gap: int | None = None) -> None:
        """Down and up again after `length`; a gap keeps it apart from a tap just before."""
        if self._after_tap:
            self.now += self.gap if gap is None else gap
        fresh = self.press(codes)
        self.now += length
        self.release(fresh)
        self._after_tap = True

    def move(self, code: int, value: int) -> None:
        """Move the pointer or turn its wheel: no key, and nothing to release."""
        self.timetable.add(self.now, code, value, self.line)
        self._after_tap = False

    def pass_time(self, ns: int) -> None:
        """Let `ns` go by."""
        self.now += ns
        self._after_tap = False

    def go_to(self, time: int) -> None:
        """Go on at `time`, which must not lie in the past."""
        self.now = time
        self._after_tap = False

    def finish(self) -> Timetable:
        """Release what is still down, and hand over the timetable."""
        self.release(tuple(self.down))
        self.timetable.length = self.now
        return self.timetable


class Layable(Protocol):
    """What can be laid on a timeline: a step, with the line it stands in."""

    line: int
    late: bool
    approved: str

    def lay(self, timeline: Timeline) -> Laying:
        """Write events, and stop at what has to be asked of the world."""


@dataclass
class Score:
    """The steps of a live macro, to be laid again for every run."""

    steps: Sequence[Layable]
    tap: int
    gap: int
    keymap: Typist | None = None
    # Whose it is; None for the person's own.
    rights: Rights | None = None

    def start(self, given: Given, *, locked: bool = False, rights: Rights | None = None) -> tuple[Timeline, Laying]:
        """A fresh timeline, and the generator that lays events on it and stops at each question.  `rights` are those of
        a stranger's press, which counts for a macro of the person's own."""
        timeline = Timeline(tap=self.tap, gap=self.gap, keymap=self.keymap, locked=locked, given=given)
        timeline.scope = self.rights or rights
        return timeline, lay_all(self.steps, timeline)


def lay_all(steps: Iterable[Layable], timeline: Timeline) -> Laying:
    """Lay steps one after the other.  Of a stranger's steps each is judged by itself, whatever block it stands in."""
    before = timeline.rights
    for step in steps:
        timeline.begin(step.line)
        if step.late:
            yield CatchUp(step.line)
        if (scope := timeline.scope) is not None:
            timeline.belong_to(scope.granted(step.approved) if step.approved else scope)
        yield from step.lay(timeline)
    if timeline.scope is not None and before is not None:
        timeline.belong_to(before)
