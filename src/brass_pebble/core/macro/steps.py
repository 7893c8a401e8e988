"""The steps of the language: keys, time, text, repetition, choices.  Each knows how to lay itself on a timeline.

`lay` is a generator: it writes events, and stops (yields an `Ask`) only where it needs the world.  A step that is
`fixed` never does, and writes the same for every press.  `STEPS` and `SETTINGS` are found by the name of the grammar's
rule; steps that reach beyond the keyboard are in world_steps.py.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import ClassVar

from lark import Token, Tree

from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import MS, parse_duration, say_duration, write_duration
from brass_pebble.core.say.limits import LONGEST_LABEL, label_length
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.core.say.tints import TINTS
from brass_pebble.core.signals.keymap import Typist, type_out
from brass_pebble.core.signals.keys import Chord, parse_chord

from .asks import NOTHING_ASKED, CatchUp, Deciding, Laying, Unforeseen
from .timetable import Macro, Timeline, lay_all
from .value.kinds import Given, Known, Scope, Value
from .value.reckon import (
    Reckoning,
    Text,
    check_condition,
    check_kind,
    check_whole,
    compute,
    decide,
    is_fixed,
    looks_outside,
    read_template,
    say,
    unquote,
)

Piece = Token | Tree[Token]
Pieces = Sequence["Piece | None"]
DEFAULT_TURNS = 1_000
# So many strokes of a text are laid at once.
TYPED_AT_ONCE = 100
# What a step reaches that only plays keys, takes time or decides: nothing beyond the keyboard.
INSIDE = ""
SETS_KEPT, LOOKS = "sets a kept value", "looks at windows, programs or the screen"


@dataclass(eq=False, repr=False)
class Step:
    """A line of the macro: `read` takes its pieces, `lay` writes its events, `words` is the line in its usual form.

    Each class says in its own body what it `reach`es beyond the keyboard, in words, or that it stays `INSIDE`.
    """

    reach: ClassVar[str]
    line: int
    body: list[Step] = field(default_factory=list)
    # What is played instead when it does not come to what it waits for.
    otherwise: Step | None = None
    # Whether it needs something that is known only when its moment has come.
    late: bool = False
    takes_body: ClassVar[bool] = False
    takes_otherwise: ClassVar[bool] = False
    # Whether the lines below it are text, and how many there are.
    takes_lines: ClassVar[bool] = False
    lines_below: int = 0
    # Whether it gives a value a name, and whether that outlives the run, for every macro of the desk.
    sets: ClassVar[bool] = False
    keeps: bool = False
    # The mark by which what it reaches was approved, where it came from somebody else.
    approved: str = ""

    def __init_subclass__(cls) -> None:
        super().__init_subclass__()
        if not isinstance(cls.__dict__.get("reach"), str):
            raise TypeError(f"{cls.__name__} has to say what it reaches beyond the keyboard: reach = INSIDE, or words")

    def does(self) -> str:
        """What it reaches beyond the keyboard as it is written, in words; nothing if it stays inside."""
        return self.reach or (SETS_KEPT if self.keeps else INSIDE)

    def read(self, pieces: Pieces, known: Known) -> None:
        """Take over what the line says; `known` are the values set so far."""

    def take_lines(self, block: Sequence[str], known: Known) -> None:
        """Take over the lines of text below it."""

    def lay(self, timeline: Timeline) -> Laying:
        """Write the step's events, and move the time on to its end."""
        yield from ()

    def parts(self) -> Iterable[Step]:
        """The steps that belong to it: its block, its other way, those of a macro that it plays."""
        return (*self.body, *((self.otherwise,) if self.otherwise is not None else ()))

    @property
    def drives_controller(self) -> bool:
        """Whether it sets an axis or presses a button of the virtual controller."""
        return False

    @property
    def fixed(self) -> bool:
        """Whether it writes the same events for every press."""
        return all(step.fixed for step in self.body)

    def words(self) -> str:
        """The line as the formatter writes it."""
        raise AssertionError(type(self))

    def account(self) -> str:
        """All that it says, with the lines of text below it: what an approval is for."""
        return self.words()


def token(piece: Piece | None) -> Token:
    """A piece that is one word."""
    assert isinstance(piece, Token)
    return piece


def at(piece: Token, line: int, error: ProblemError) -> ProblemError:
    """`error`, moved to where `piece` stands."""
    found = error.problem
    return ProblemError(found.what, line=line, column=(piece.column or 1) + max(0, found.column - 1), hint=found.hint)


def read_chord(piece: Piece | None, line: int) -> Chord:
    """The chord that a piece spells."""
    try:
        return parse_chord(token(piece))
    except ProblemError as error:
        raise at(token(piece), line, error) from None


def read_time(piece: Piece | None, line: int) -> int | None:
    """Nanoseconds of an optional duration."""
    if piece is None:
        return None
    try:
        return parse_duration(token(piece))
    except ProblemError as error:
        raise at(token(piece), line, error) from None


def every_words(time: int | None) -> str:
    """The pace or rhythm of a step, as it is written."""
    return f" every {write_duration(time)}" if time is not None else ""


def read_text(piece: Piece | None, line: int, known: Known | None = None) -> Text:
    """The text between quotes; without `known`, braces are ordinary characters."""
    source = token(piece)
    if known is None:
        return Text(str(source), [(unquote(str(source), line=line, column=source.column or 1), "")])
    return read_template(source, line, known)


def fill(text: Text, timeline: Timeline) -> str:
    """A text with its values as they are now."""
    try:
        return text.fill(timeline.values)
    except Unforeseen as error:
        raise Unforeseen(error.problem.what, line=timeline.line, hint=error.problem.hint) from None


def value_now(expression: object, timeline: Timeline, line: int) -> Value:
    """The value of an expression now."""
    try:
        run: Reckoning | None = getattr(expression, "reckoning", None)
        return run(timeline.values, line) if run is not None else compute(expression, timeline.values, line)
    except ProblemError as error:
        if is_fixed(expression):
            raise
        found = error.problem
        raise Unforeseen(found.what, line=found.line or line, column=found.column, hint=found.hint) from None


def reckon(expression: object, timeline: Timeline, line: int) -> int:
    """The whole number that an expression comes to now (`check_whole` has seen to it that it does)."""
    found = value_now(expression, timeline, line)
    assert isinstance(found, int)
    return found


@dataclass(eq=False, repr=False)
class Tap(Step):
    """Down and up."""

    reach: ClassVar[str] = INSIDE
    chord: Chord = Chord(())
    length: int | None = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.chord = read_chord(pieces[0], self.line)
        self.length = read_time(pieces[1], self.line)

    def lay(self, timeline: Timeline) -> Laying:
        timeline.lay_tap(timeline.codes_of(self.chord), timeline.tap if self.length is None else self.length)
        yield from ()

    def words(self) -> str:
        return f"tap {self.chord}" + (f" for {write_duration(self.length)}" if self.length is not None else "")


@dataclass(eq=False, repr=False)
class Down(Step):
    """Down, until an `up` or the macro's end."""

    reach: ClassVar[str] = INSIDE
    chord: Chord = Chord(())
    column: int = 0

    def read(self, pieces: Pieces, known: Known) -> None:
        self.chord = read_chord(pieces[0], self.line)
        self.column = token(pieces[0]).column or 0

    def lay(self, timeline: Timeline) -> Laying:
        codes = timeline.codes_of(self.chord)
        for code in codes:
            if code in timeline.down:
                raise ProblemError(f"{Chord((code,))} is already down since line {timeline.down[code]}",
                                   line=self.line, column=self.column, hint="Write an up for it in between")
        timeline.press(codes)
        yield from ()

    def words(self) -> str:
        return f"{type(self).__name__.lower()} {self.chord}"


@dataclass(eq=False, repr=False)
class Up(Down):
    """Up again; of a chord, the key named last goes up first."""

    reach: ClassVar[str] = INSIDE
    def lay(self, timeline: Timeline) -> Laying:
        codes = timeline.codes_of(self.chord)
        for code in codes:
            if code not in timeline.down:
                raise ProblemError(f"{Chord((code,))} is not down here", line=self.line, column=self.column,
                                   hint="Write a down for it before, or leave this line out")
        timeline.release(codes)
        yield from ()


@dataclass(eq=False, repr=False)
class Wait(Step):
    """Let time go by."""

    reach: ClassVar[str] = INSIDE
    length: int = 0

    def read(self, pieces: Pieces, known: Known) -> None:
        self.length = read_time(pieces[0], self.line) or 0

    def lay(self, timeline: Timeline) -> Laying:
        timeline.pass_time(self.length)
        yield from ()

    def words(self) -> str:
        return f"wait {write_duration(self.length)}"


@dataclass(eq=False, repr=False)
class Type(Step):
    """Type a text, one character after the other, for the keyboard layout of the programs that receive it."""

    reach: ClassVar[str] = "types a text"
    text: Text = field(default_factory=lambda: Text('""', []))
    pace: int | None = None
    column: int = 0

    def read(self, pieces: Pieces, known: Known) -> None:
        self.text = read_text(pieces[0], self.line, known)
        self.pace = read_time(pieces[1], self.line)
        self.column = token(pieces[0]).column or 0

    @property
    def fixed(self) -> bool:
        return self.text.fixed

    def lay(self, timeline: Timeline) -> Laying:
        text = fill(self.text, timeline)
        try:
            check_typed(timeline, text)
        except ProblemError as error:
            assert timeline.keymap is not None
            column = self.column + max(0, self.text.source.find(_first_unknown(timeline.keymap, text))) \
                if self.text.fixed else 0
            raise ProblemError(error.problem.what, line=self.line, column=column, hint=error.problem.hint) from None
        yield from lay_typed(timeline, text, self.line, self.pace)

    def words(self) -> str:
        return f"type {self.text.source}{every_words(self.pace)}"


def check_typed(timeline: Timeline, text: str) -> None:
    """See that the layout can type a text.

    Raises:
        ProblemError: it cannot.
    """
    assert timeline.keymap is not None
    type_out(timeline.keymap, "".join(dict.fromkeys(text)), locked=False)


def lay_typed(timeline: Timeline, text: str, line: int, pace: int | None) -> Laying:
    """Lay the strokes of a text, in pieces, so that a long one holds nobody up.

    Raises:
        ProblemError: the layout cannot type it.
    """
    assert timeline.keymap is not None
    for char, strokes in type_out(timeline.keymap, text, locked=timeline.locked):
        if not char:
            timeline.timetable.switches = strokes[0].codes[0]
        if timeline.has_laid(TYPED_AT_ONCE):
            yield CatchUp(line)
        for stroke in strokes:
            timeline.begin(line)
            if pace is None or not char:
                timeline.lay_tap(stroke.codes, timeline.tap)
            else:
                # Characters of two strokes share the time of one.
                share = pace // len(strokes)
                length = min(timeline.tap, share // 2)
                timeline.lay_tap(stroke.codes, length, gap=share - length)


def _first_unknown(typist: Typist, text: str) -> str:
    """The first character of a text that a layout cannot type."""
    for char in text:
        try:
            typist.strokes(char)
        except ProblemError:
            return char
    return ""


@dataclass(eq=False, repr=False)
class Block(Step):
    """Steps below it belong to it."""

    reach: ClassVar[str] = INSIDE
    takes_body: ClassVar[bool] = True


@dataclass(eq=False, repr=False)
class Repeat(Block):
    """The block, several times, each after the last or at a steady interval."""

    reach: ClassVar[str] = INSIDE
    count: object = None
    every: int | None = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.count = pieces[0]
        if isinstance(self.count, Tree) and self.count.data == "number":
            number = token(self.count.children[0])
            if not number.isdigit():
                raise ProblemError(f"“{number}” is not a whole number of times", line=self.line,
                                   column=number.column or 0, hint="Write repeat 3, or repeat 3 every 250ms")
            if int(number) == 0:
                raise ProblemError("repeat 0 does nothing", line=self.line, column=number.column or 0,
                                   hint="Repeat once or more, or put a # before the block")
        check_whole(self.count, known, self.line)
        self.every = read_time(pieces[-1], self.line)

    @property
    def fixed(self) -> bool:
        return is_fixed(self.count) and super().fixed

    def lay(self, timeline: Timeline) -> Laying:
        start = timeline.now
        for turn in range(max(0, reckon(self.count, timeline, self.line))):
            yield from lay_turn(self, timeline, start, turn, self.every)

    def words(self) -> str:
        return f"repeat {say(self.count)}{every_words(self.every)}"


def lay_turn(step: Step, timeline: Timeline, start: int, turn: int, every: int | None) -> Laying:
    """One turn of a repeated block, at its time if it has one.

    Raises:
        ProblemError: the block before took longer than the interval.
    """
    timeline.begin(step.line)
    if every is not None:
        planned = start + turn * every
        if timeline.now > planned:
            raise ProblemError(
                f"the block takes {say_duration(timeline.now - planned + every)}, longer than the "
                f"{say_duration(every)} it has", line=step.line,
                hint="Give it more time, or shorten its taps and waits")
        timeline.go_to(planned)
    yield from lay_all(step.body, timeline)


@dataclass(eq=False, repr=False)
class RepeatWhile(Block):
    """The block, for as long as the control is held; never more often than `most`."""

    reach: ClassVar[str] = INSIDE
    every: int | None = None
    most: object = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.every, self.most = read_time(pieces[0], self.line), pieces[1]
        check_whole(self.most, known, self.line)

    @property
    def fixed(self) -> bool:
        return False

    def turns(self, timeline: Timeline) -> int:
        """The upper limit."""
        return DEFAULT_TURNS if self.most is None else reckon(self.most, timeline, self.line)

    def goes_on(self, timeline: Timeline) -> Deciding:
        """Whether there is another turn: a generator that returns it."""
        yield from ()
        return timeline.given.is_held()

    def lay(self, timeline: Timeline) -> Laying:
        start = began = timeline.now
        for turn in range(self.turns(timeline)):
            if turn:
                if self.every is not None and start + turn * self.every > timeline.now:
                    timeline.go_to(start + turn * self.every)
                elif timeline.now == began:
                    # A block without any time of its own would turn at one instant.
                    timeline.pass_time(max(MS, timeline.gap))
                yield CatchUp(self.line)
            goes_on = yield from self.goes_on(timeline)
            if not goes_on:
                return
            began = timeline.now
            yield from lay_all(self.body, timeline)

    def words(self) -> str:
        return f"repeat while held{every_words(self.every)}{self._at_most()}"

    def _at_most(self) -> str:
        return f" at most {say(self.most)} times" if self.most is not None else ""


@dataclass(eq=False, repr=False)
class RepeatUntil(RepeatWhile):
    """The block, until something holds."""

    reach: ClassVar[str] = INSIDE
    condition: object = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.condition = pieces[0]
        check_condition(self.condition, known, self.line)
        super().read(pieces[1:], known)

    def does(self) -> str:
        return LOOKS if looks_outside(self.condition) else super().does()

    def goes_on(self, timeline: Timeline) -> Deciding:
        answer = yield from decide(self.condition, timeline.values, self.line)
        return not answer

    def words(self) -> str:
        return f"repeat until {say(self.condition)}{every_words(self.every)}{self._at_most()}"


@dataclass(eq=False, repr=False)
class Keep(Block):
    """A chord stays down while the block plays."""

    reach: ClassVar[str] = INSIDE
    chord: Chord = Chord(())

    def read(self, pieces: Pieces, known: Known) -> None:
        self.chord = read_chord(pieces[0], self.line)

    def lay(self, timeline: Timeline) -> Laying:
        fresh = timeline.press(timeline.codes_of(self.chord))
        yield from lay_all(self.body, timeline)
        timeline.begin(self.line)
        timeline.release(tuple(code for code in fresh if code in timeline.down))

    def words(self) -> str:
        return f"keep {self.chord} down"


@dataclass(eq=False, repr=False)
class Beat(Block):
    """A rhythm: each step of the block begins on the next beat."""

    reach: ClassVar[str] = INSIDE
    every: int = 0

    def read(self, pieces: Pieces, known: Known) -> None:
        self.every = read_time(pieces[0], self.line) or 0
        if not self.every:
            raise ProblemError("a beat cannot be 0", line=self.line, column=token(pieces[0]).column or 0,
                               hint="Write beat 250ms")

    def lay(self, timeline: Timeline) -> Laying:
        start = timeline.now
        for index, step in enumerate(self.body):
            planned = start + index * self.every
            if timeline.now > planned:
                raise ProblemError(f"the step before takes longer than the beat of {say_duration(self.every)}",
                                   line=step.line, hint="Make the beat slower, or the step shorter")
            timeline.go_to(planned)
            yield from lay_all((step,), timeline)

    def words(self) -> str:
        return f"beat {write_duration(self.every)}"


@dataclass(eq=False, repr=False)
class Let(Step):
    """Give a value a name."""

    reach: ClassVar[str] = INSIDE
    name: str = ""
    value: object = None
    sets: ClassVar[bool] = True

    def read(self, pieces: Pieces, known: Known) -> None:
        self.name, self.value = str(pieces[0]), pieces[1]
        kind = check_kind(self.value, known, self.line)
        known.learn(self.name, kind, self.line, token(pieces[0]).column or 0)
        # A kept value is changed when its moment has come, not before.
        self.keeps = known[self.name].kept
        known.late |= self.keeps

    @property
    def fixed(self) -> bool:
        return False

    def lay(self, timeline: Timeline) -> Laying:
        timeline.values.put(self.name, value_now(self.value, timeline, self.line))
        return NOTHING_ASKED

    def words(self) -> str:
        return f"let {self.name} be {say(self.value)}"


@dataclass(eq=False, repr=False)
class Kept(Step):
    """A value that outlives the run and the engine, and what it is before anybody has set it."""

    reach: ClassVar[str] = INSIDE
    name: str = ""
    value: object = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.name, self.value = str(pieces[0]), pieces[1]
        kind = check_kind(self.value, known, self.line)
        if not is_fixed(self.value):
            raise ProblemError(f"“{self.name}” has to begin with the same value every time", line=self.line,
                               column=token(pieces[0]).column or 0, hint="Write a number or a text behind from")
        known.learn(self.name, kind, self.line, token(pieces[0]).column or 0, kept=True)

    @property
    def first(self) -> Value:
        """What it is before anybody has set it."""
        return compute(self.value, Scope(Given()), self.line)

    @property
    def fixed(self) -> bool:
        return False

    def lay(self, timeline: Timeline) -> Laying:
        timeline.values.first[self.name] = self.first
        yield from ()

    def words(self) -> str:
        return f"kept {self.name} from {say(self.value)}"


@dataclass(eq=False, repr=False)
class Otherwise(Block):
    """The other way of a choice."""

    reach: ClassVar[str] = INSIDE
    def lay(self, timeline: Timeline) -> Laying:
        yield from lay_all(self.body, timeline)

    def words(self) -> str:
        return "otherwise"


@dataclass(eq=False, repr=False)
class If(Block):
    """The block, if something holds; what stands under otherwise, if not."""

    reach: ClassVar[str] = INSIDE
    condition: object = None
    takes_otherwise: ClassVar[bool] = True

    def read(self, pieces: Pieces, known: Known) -> None:
        self.condition = pieces[0]
        check_condition(self.condition, known, self.line)

    def does(self) -> str:
        return LOOKS if looks_outside(self.condition) else super().does()

    @property
    def fixed(self) -> bool:
        return is_fixed(self.condition) and super().fixed and (self.otherwise is None or self.otherwise.fixed)

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        answer = yield from decide(self.condition, timeline.values, self.line)
        if answer:
            yield from lay_all(self.body, timeline)
        elif self.otherwise is not None:
            yield from self.otherwise.lay(timeline)

    def words(self) -> str:
        return f"if {say(self.condition)}"


Setting = Callable[[Macro, dict[str, int], Token, int], None]


def _set_text(field_name: str, most: int) -> Setting:
    def put(macro: Macro, times: dict[str, int], piece: Token, line: int) -> None:
        text = read_text(piece, line).parts[0][0]
        if (length := label_length(text) if field_name == "label" else len(text)) > most:
            raise ProblemError(f"a {field_name} has at most {say_count(most, 'character')}, this one has {length}",
                               line=line, column=piece.column or 0, hint="Shorten it")
        setattr(macro, field_name, text)
    return put


def _set_tint(macro: Macro, times: dict[str, int], piece: Token, line: int) -> None:
    if piece not in TINTS:
        raise ProblemError(f"there is no tint called “{piece}”", line=line, column=piece.column or 0,
                           hint=nearest(piece, TINTS) or f"The tints are {', '.join(TINTS)}")
    macro.tint = str(piece)


def _set_again(macro: Macro, times: dict[str, int], piece: Token, line: int) -> None:
    macro.again = " ".join(piece.split())


def _set_time(which: str) -> Setting:
    def put(macro: Macro, times: dict[str, int], piece: Token, line: int) -> None:
        times[which] = read_time(piece, line) or 0
    return put


def _set_longest(macro: Macro, times: dict[str, int], piece: Token, line: int) -> None:
    macro.longest = max(MS, read_time(piece, line) or 0)


def _set_overtaken(macro: Macro, times: dict[str, int], piece: Token, line: int) -> None:
    macro.overtaken = " ".join(piece.split())


SETTINGS: dict[str, Setting] = {
    "name": _set_text("name", 60), "label": _set_text("label", LONGEST_LABEL), "note": _set_text("note", 2000),
    "tint": _set_tint, "again": _set_again, "taps": _set_time("taps"), "gaps": _set_time("gaps"),
    "lasts": _set_longest, "overtaken": _set_overtaken,
}
SETTING_WORDS = {
    "name": "name", "label": "label", "note": "note", "tint": "tint", "again": "again", "taps": "taps last",
    "gaps": "gaps last", "lasts": "lasts at most", "overtaken": "overtaken",
}
KEY_STEPS: dict[str, type[Step]] = {
    "tap": Tap, "down": Down, "up": Up, "wait": Wait, "type": Type, "repeat": Repeat, "repeat_while": RepeatWhile,
    "repeat_until": RepeatUntil, "keep": Keep, "beat": Beat, "let": Let, "kept": Kept, "if": If, "otherwise": Otherwise,
}
