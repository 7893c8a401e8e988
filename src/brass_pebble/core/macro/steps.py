"""The steps of the language: each knows how to lay itself on a timeline.

`STEPS` and `SETTINGS` are found by the name of the grammar's rule.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from ..durations import parse_duration, say_duration
from ..keymap import keymap
from ..keys import Chord, parse_chord
from ..problem import ProblemError, nearest
from .program import Macro, Timeline


@dataclass(frozen=True)
class Piece:
    """A word of the source: its `kind` (the grammar's terminal), text, and column from 1."""

    kind: str
    text: str
    column: int


Pieces = Sequence["Piece | None"]


@dataclass
class Step:
    """A line of the macro.  Subclasses read their pieces in `read` and write events in `lay`."""

    line: int
    body: list[Step] = field(default_factory=list)
    takes_body = False

    def read(self, pieces: Pieces) -> None:
        """Take over what the line says."""

    def lay(self, timeline: Timeline) -> None:
        """Write the step's events, and move the time on to its end."""


def at(piece: Piece, line: int, error: ProblemError) -> ProblemError:
    """`error`, moved to where `piece` stands."""
    found = error.problem
    return ProblemError(found.what, line=line, column=piece.column + max(0, found.column - 1), hint=found.hint)


def read_chord(piece: Piece | None, line: int) -> Chord:
    """The chord that a piece spells."""
    assert piece is not None
    try:
        return parse_chord(piece.text)
    except ProblemError as error:
        raise at(piece, line, error) from None


def read_time(piece: Piece | None, line: int) -> int | None:
    """Nanoseconds of an optional duration."""
    if piece is None:
        return None
    try:
        return parse_duration(piece.text)
    except ProblemError as error:
        raise at(piece, line, error) from None


_ESCAPES = {"n": "\n", "t": "\t", '"': '"', "\\": "\\"}


def read_text(piece: Piece | None, line: int) -> str:
    """The text between quotes, with \\n, \\t, \\" and \\\\ read."""
    assert piece is not None
    out: list[str] = []
    chars = iter(enumerate(piece.text[1:-1]))
    for _, char in chars:
        if char == "\\":
            index, escaped = next(chars)
            if escaped not in _ESCAPES:
                raise ProblemError(f"“\\{escaped}” is not an escape", line=line, column=piece.column + index,
                                   hint=r'Known are \n, \t, \" and \\')
            out.append(_ESCAPES[escaped])
        else:
            out.append(char)
    return "".join(out)


@dataclass
class Tap(Step):
    """Down and up."""

    chord: Chord = Chord(())
    length: int | None = None

    def read(self, pieces: Pieces) -> None:
        self.chord = read_chord(pieces[0], self.line)
        self.length = read_time(pieces[1], self.line)

    def lay(self, timeline: Timeline) -> None:
        timeline.lay_tap(self.chord.codes, timeline.tap if self.length is None else self.length)


@dataclass
class Down(Step):
    """Down, until an `up` or the macro's end."""

    chord: Chord = Chord(())
    column: int = 0

    def read(self, pieces: Pieces) -> None:
        self.chord = read_chord(pieces[0], self.line)
        self.column = pieces[0].column if pieces[0] else 0

    def lay(self, timeline: Timeline) -> None:
        for code in self.chord.codes:
            if code in timeline.down:
                raise ProblemError(f"{Chord((code,))} is already down since line {timeline.down[code]}",
                                   line=self.line, column=self.column, hint="Write an up for it in between")
        timeline.press(self.chord.codes)


@dataclass
class Up(Down):
    """Up again; of a chord, the key named last goes up first."""

    def lay(self, timeline: Timeline) -> None:
        for code in self.chord.codes:
            if code not in timeline.down:
                raise ProblemError(f"{Chord((code,))} is not down here", line=self.line, column=self.column,
                                   hint="Write a down for it before, or leave this line out")
        timeline.release(self.chord.codes)


@dataclass
class Wait(Step):
    """Let time go by."""

    length: int = 0

    def read(self, pieces: Pieces) -> None:
        self.length = read_time(pieces[0], self.line) or 0

    def lay(self, timeline: Timeline) -> None:
        timeline.pass_time(self.length)


@dataclass
class Type(Step):
    """Type a text, one character after the other."""

    strokes: list[Chord] = field(default_factory=list)
    pace: int | None = None

    def read(self, pieces: Pieces) -> None:
        text = read_text(pieces[0], self.line)
        layout = keymap()
        for char in text:
            try:
                self.strokes.append(layout.chord(char))
            except ProblemError as error:
                piece = pieces[0]
                assert piece is not None
                column = piece.column + max(0, piece.text.find(char))
                raise ProblemError(error.problem.what, line=self.line, column=column,
                                   hint=error.problem.hint) from None
        self.pace = read_time(pieces[1], self.line)

    def lay(self, timeline: Timeline) -> None:
        for stroke in self.strokes:
            timeline.begin(self.line)
            if self.pace is None:
                timeline.lay_tap(stroke.codes, timeline.tap)
            else:
                length = min(timeline.tap, self.pace // 2)
                timeline.lay_tap(stroke.codes, length, gap=self.pace - length)


@dataclass
class Repeat(Step):
    """The block, several times, each after the last or at a steady interval."""

    count: int = 1
    every: int | None = None
    takes_body = True

    def read(self, pieces: Pieces) -> None:
        count = pieces[0]
        assert count is not None
        if not count.text.isdigit():
            raise ProblemError(f"“{count.text}” is not a whole number of times", line=self.line,
                               column=count.column, hint="Write repeat 3, or repeat 3 every 250ms")
        self.count = int(count.text)
        if self.count == 0:
            raise ProblemError("a repeat of 0 does nothing", line=self.line, column=count.column,
                               hint="Repeat once or more, or put a # before the block")
        self.every = read_time(pieces[-1], self.line)

    def lay(self, timeline: Timeline) -> None:
        start = timeline.now
        for turn in range(self.count):
            timeline.begin(self.line)
            if self.every is not None:
                planned = start + turn * self.every
                if timeline.now > planned:
                    raise ProblemError(
                        f"the block takes {say_duration(timeline.now - planned + self.every)}, "
                        f"longer than the {say_duration(self.every)} it has", line=self.line,
                        hint="Give it more time, or shorten its taps and waits")
                timeline.go_to(planned)
            lay_all(self.body, timeline)


@dataclass
class Keep(Step):
    """A chord stays down while the block plays."""

    chord: Chord = Chord(())
    takes_body = True

    def read(self, pieces: Pieces) -> None:
        self.chord = read_chord(pieces[0], self.line)

    def lay(self, timeline: Timeline) -> None:
        fresh = timeline.press(self.chord.codes)
        lay_all(self.body, timeline)
        timeline.line = self.line
        timeline.release(tuple(code for code in fresh if code in timeline.down))


def lay_all(steps: list[Step], timeline: Timeline) -> None:
    """Lay steps one after the other."""
    for step in steps:
        timeline.begin(step.line)
        step.lay(timeline)


STEPS: dict[str, type[Step]] = {
    "tap": Tap, "down": Down, "up": Up, "wait": Wait, "type": Type, "repeat": Repeat, "keep": Keep,
}

LONGEST_LABEL = 12
TINTS = ("clay", "wheat", "moss", "lagoon", "sky", "iris", "rose", "chalk")


def _set_text(field_name: str, most: int) -> Callable[[Macro, dict[str, int], Piece, int], None]:
    def put(macro: Macro, times: dict[str, int], piece: Piece, line: int) -> None:
        text = read_text(piece, line)
        if len(text) > most:
            raise ProblemError(f"a {field_name} has at most {most} characters, this one has {len(text)}",
                               line=line, column=piece.column, hint="Shorten it")
        setattr(macro, field_name, text)
    return put


def _set_tint(macro: Macro, times: dict[str, int], piece: Piece, line: int) -> None:
    if piece.text not in TINTS:
        raise ProblemError(f"there is no tint called “{piece.text}”", line=line, column=piece.column,
                           hint=nearest(piece.text, TINTS) or f"The tints are {', '.join(TINTS)}")
    macro.tint = piece.text


def _set_again(macro: Macro, times: dict[str, int], piece: Piece, line: int) -> None:
    macro.again = " ".join(piece.text.split())


def _set_time(which: str) -> Callable[[Macro, dict[str, int], Piece, int], None]:
    def put(macro: Macro, times: dict[str, int], piece: Piece, line: int) -> None:
        times[which] = read_time(piece, line) or 0
    return put


SETTINGS: dict[str, Callable[[Macro, dict[str, int], Piece, int], None]] = {
    "name": _set_text("name", 60), "label": _set_text("label", LONGEST_LABEL), "note": _set_text("note", 2000),
    "tint": _set_tint, "again": _set_again, "taps": _set_time("taps"), "gaps": _set_time("gaps"),
}
