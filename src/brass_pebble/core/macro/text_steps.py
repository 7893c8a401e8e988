"""Steps that put texts in place: typed or pasted, in quotes, as a block of lines, or from a file of the desk."""

from __future__ import annotations

import re
from collections.abc import Generator, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

from brass_pebble.core.say.durations import write_duration
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.core.signals.keys import Chord, parse_chord

from .asks import Ask, CatchUp, Errand, GaveUp, Laying
from .steps import (
    INSIDE,
    Pieces,
    Step,
    check_typed,
    every_words,
    fill,
    lay_typed,
    read_chord,
    read_text,
    read_time,
    value_now,
)
from .text_lines import dedented
from .timetable import Timeline
from .value.kinds import TEXT, Known, Scope, tell_value
from .value.reckon import Text, check_kind, is_fixed, say

USUAL_PASTE = parse_chord("Ctrl+V")
# What clears the indentation that an editor has put before a new line: what is typed next takes its place.
CLEARS = parse_chord("Shift+Home")
_VALUE = re.compile(r"(?<!\\)\{([a-z][a-z0-9_]*)\}")
_ESCAPED = re.compile(r"\\(\{[a-z][a-z0-9_]*\})")
READ_WITHIN = 5_000_000_000
# Longer than the names of all keys that anybody can press at once.
LONGEST_CHORD = 200


def fill_lines(text: str, values: Scope) -> str:
    """A text in which {name} stands for a value that is there; every other brace stays as it is."""
    known = {*values, *values.first, "held"}
    filled = _VALUE.sub(lambda found: tell_value(values[found[1]]) if found[1] in known else found[0], text)
    return _ESCAPED.sub(r"\1", filled)


@dataclass(eq=False, repr=False)
class Lines(Step):
    """A block of lines without escapes; the last line has no Enter behind it."""

    reach: ClassVar[str] = "puts a text in place"
    lines: list[str] = field(default_factory=list)
    takes_lines: ClassVar[bool] = True
    # Whether a value stands in it.
    varies: bool = False

    @property
    def fixed(self) -> bool:
        return not self.varies

    def take_lines(self, block: Sequence[str], known: Known) -> None:
        """The lines below it.

        Raises:
            ProblemError: there are none, or a value in them is set nowhere before.
        """
        self.lines, self.lines_below = dedented(block), len(block)
        if not self.lines:
            raise ProblemError("there are no lines below it", line=self.line, hint="Write them below, indented by two "
                               "spaces")
        for number, raw in enumerate(block, 1):
            for found in _VALUE.finditer(raw):
                if found[1] not in known:
                    raise ProblemError(f"there is no value called “{found[1]}”", line=self.line + number,
                                       column=found.start() + 1, hint=nearest(found[1], known)
                                       or rf"As itself it is written \{{{found[1]}}}")
                self.varies = True
                known.late |= known[found[1]].kept

    def account(self) -> str:
        return "\n".join((self.words(), *self.lines))

    def text(self, timeline: Timeline) -> str:
        """What it comes to now."""
        return fill_lines("\n".join(self.lines), timeline.values)


@dataclass(eq=False, repr=False)
class TypeLines(Lines):
    """Type a block of lines."""

    reach: ClassVar[str] = "types a text"
    clears: bool = False
    pace: int | None = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.clears, self.pace = pieces[0] is not None, read_time(pieces[1], self.line)

    def lay(self, timeline: Timeline) -> Laying:
        try:
            yield from lay_lines(timeline, self.text(timeline), self.line, self.pace, clears=self.clears)
        except ProblemError as error:
            raise ProblemError(error.problem.what, line=self._line_of_trouble(timeline),
                               hint=error.problem.hint) from None

    def _line_of_trouble(self, timeline: Timeline) -> int:
        for number, line in enumerate(self.lines, 1):
            try:
                check_typed(timeline, line)
            except ProblemError:
                return self.line + number
        return self.line

    def words(self) -> str:
        return f"type lines{' clearing indents' if self.clears else ''}{every_words(self.pace)}"


def lay_lines(timeline: Timeline, text: str, line: int, pace: int | None, *, clears: bool) -> Laying:
    """Type a text of several lines; with `clears`, what an editor puts before each new line by itself is taken away.

    Raises:
        ProblemError: the layout cannot type it.
    """
    check_typed(timeline, text)
    if not clears:
        yield from lay_typed(timeline, text, line, pace)
        return
    parts = text.split("\n")
    for number, part in enumerate(parts):
        if number:
            yield from lay_typed(timeline, "\n", line, pace)
            timeline.lay_tap(timeline.codes_of(CLEARS), timeline.tap)
        yield from lay_typed(timeline, part, line, pace)
    if len(parts) > 1 and not parts[-1]:
        # A blank in place of what is marked, if anything is, and away with it.
        for chord in ("Space", "Backspace"):
            timeline.lay_tap(timeline.codes_of(parse_chord(chord)), timeline.tap)


@dataclass(eq=False, repr=False)
class Pastes(Step):
    """Puts a text in place through the clipboard, which afterwards holds again all that it held before."""

    reach: ClassVar[str] = "pastes a text"
    chord: Chord | None = None

    @property
    def fixed(self) -> bool:
        return False

    def _read_chord(self, piece: object | None) -> None:
        self.chord = read_chord(piece, self.line) if piece is not None else None  # type: ignore[arg-type]

    def lay_paste(self, timeline: Timeline, text: str) -> Laying:
        """Offer the text, press the chord that the receiving program pastes by, and wait until it has the text."""
        yield CatchUp(self.line)
        ready = yield Errand(self.line, "paste", (text, str(self.chord or "")), wait=True)
        if not ready:
            raise GaveUp(self.line, "the clipboard could not be used")
        chord = self.chord or (parse_chord(ready) if isinstance(ready, str) else USUAL_PASTE)
        timeline.lay_tap(timeline.codes_of(chord), timeline.tap)
        yield CatchUp(self.line)
        yield Errand(self.line, "restore", (), wait=True)

    def _with(self) -> str:
        return f" with {self.chord}" if self.chord is not None else ""


@dataclass(eq=False, repr=False)
class Paste(Pastes):
    """Paste a text in quotes."""

    reach: ClassVar[str] = "pastes a text"
    text: Text = field(default_factory=lambda: Text('""', []))

    def read(self, pieces: Pieces, known: Known) -> None:
        self.text = read_text(pieces[0], self.line, known)
        self._read_chord(pieces[1])

    def lay(self, timeline: Timeline) -> Laying:
        yield from self.lay_paste(timeline, fill(self.text, timeline))

    def words(self) -> str:
        return f"paste {self.text.source}{self._with()}"


@dataclass(eq=False, repr=False)
class PasteLines(Lines, Pastes):
    """Paste a block of lines."""

    reach: ClassVar[str] = "pastes a text"
    @property
    def fixed(self) -> bool:
        return False

    def read(self, pieces: Pieces, known: Known) -> None:
        self._read_chord(pieces[0])

    def lay(self, timeline: Timeline) -> Laying:
        yield from self.lay_paste(timeline, self.text(timeline))

    def words(self) -> str:
        return f"paste lines{self._with()}"


@dataclass(eq=False, repr=False)
class FileText(Step):
    """The text of a file, with places for values; it is read when its moment has come."""

    reach: ClassVar[str] = "reads a file"
    file: Text = field(default_factory=lambda: Text('""', []))

    @property
    def fixed(self) -> bool:
        return False

    def text_of_file(self, timeline: Timeline) -> Generator[Ask, Any, str]:
        """A generator that returns the text, without the line's end behind the last one."""
        yield CatchUp(self.line)
        name = fill(self.file, timeline)
        text = yield Errand(self.line, "read file", (name, "0"), wait=True, limit=READ_WITHIN)
        if text is True:
            # Only looked at, or rehearsed.
            return name
        if not isinstance(text, str):
            raise GaveUp(self.line, f"the file {self.file.source} could not be read")
        return fill_lines(text.removesuffix("\n"), timeline.values)


@dataclass(eq=False, repr=False)
class TypeFile(FileText):
    """Type a file."""

    reach: ClassVar[str] = "types a file"
    clears: bool = False
    pace: int | None = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.file = read_text(pieces[0], self.line, known)
        self.clears, self.pace = pieces[1] is not None, read_time(pieces[2], self.line)

    def lay(self, timeline: Timeline) -> Laying:
        text = yield from self.text_of_file(timeline)
        try:
            yield from lay_lines(timeline, text, self.line, self.pace, clears=self.clears)
        except ProblemError as error:
            raise GaveUp(self.line, f"the file {self.file.source}: {error.problem.what}") from None

    def words(self) -> str:
        return f"type file {self.file.source}{' clearing indents' if self.clears else ''}{every_words(self.pace)}"


@dataclass(eq=False, repr=False)
class PasteFile(FileText, Pastes):
    """Paste a file."""

    reach: ClassVar[str] = "pastes a file"
    @property
    def fixed(self) -> bool:
        return False

    def read(self, pieces: Pieces, known: Known) -> None:
        self.file = read_text(pieces[0], self.line, known)
        self._read_chord(pieces[1])

    def lay(self, timeline: Timeline) -> Laying:
        text = yield from self.text_of_file(timeline)
        yield from self.lay_paste(timeline, text)

    def words(self) -> str:
        return f"paste file {self.file.source}{self._with()}"


@dataclass(eq=False, repr=False)
class TapValue(Step):
    """Down and up, of the key or chord that a value names."""

    reach: ClassVar[str] = INSIDE
    which: object = None
    length: int | None = None

    def does(self) -> str:
        return super().does() if self.fixed else "taps a key that is known only then"

    @property
    def fixed(self) -> bool:
        return is_fixed(self.which)

    def read(self, pieces: Pieces, known: Known) -> None:
        self.which = pieces[0]
        if check_kind(self.which, known, self.line) != TEXT:
            raise ProblemError("a key is named by a text", line=self.line, column=1,
                               hint='Write tap chord said, or tap chord "Ctrl+1"')
        self.length = read_time(pieces[1], self.line)

    def lay(self, timeline: Timeline) -> Laying:
        text = value_now(self.which, timeline, self.line)
        if text == "":
            # Nothing was said: a key without words plays it, or it is looked at before anything was.
            return
        if len(str(text)) > LONGEST_CHORD:
            raise ProblemError(f"a text of {len(str(text)):,} characters is not a chord", line=self.line,
                               hint='Write tap chord said, or tap chord "Ctrl+1"')
        try:
            chord = parse_chord(str(text))
        except ProblemError as error:
            raise ProblemError(f"“{text}” cannot be tapped: {error.problem.what}", line=self.line,
                               hint=error.problem.hint) from None
        timeline.lay_tap(timeline.codes_of(chord), timeline.tap if self.length is None else self.length)
        yield from ()

    def words(self) -> str:
        return f"tap chord {say(self.which)}" + (
            f" for {write_duration(self.length)}" if self.length is not None else "")


TEXT_STEPS: dict[str, type[Step]] = {
    "tap_value": TapValue,
    "type_lines": TypeLines, "paste_lines": PasteLines, "type_file": TypeFile, "paste_file": PasteFile, "paste": Paste,
}
