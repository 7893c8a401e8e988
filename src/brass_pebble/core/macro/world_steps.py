"""Steps that reach beyond the keyboard: the pointer, windows, other runs, telling the person, other programs."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import ClassVar

from lark import Tree

from brass_pebble.core.effects.gate import CLICKS, Rights
from brass_pebble.core.effects.pointer import (
    ABS_X,
    ABS_Y,
    BUTTONS,
    FULL,
    PIXEL_X,
    PIXEL_Y,
    REL_HWHEEL,
    REL_WHEEL,
    REL_X,
    REL_Y,
)
from brass_pebble.core.effects.reach import DRIVES_OSC
from brass_pebble.core.macro.asks import Finish, GaveUp
from brass_pebble.core.say.durations import MS, SECOND, write_duration
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.core.signals.keymap import type_out

from .asking_steps import ASKING_STEPS
from .asks import CatchUp, Errand, Laying
from .desktop_steps import DESKTOP_STEPS
from .level_steps import LEVEL_STEPS
from .midi_steps import MIDI_STEPS
from .network_steps import NETWORK_STEPS
from .place_steps import PLACE_STEPS
from .steps import INSIDE, KEY_STEPS, LOOKS, Pieces, Step, fill, read_text, read_time, reckon, token
from .text_steps import TEXT_STEPS
from .timetable import Macro, Timeline, lay_all
from .value.kinds import Known
from .value.reckon import (
    Text,
    asked_of_world,
    check_condition,
    check_whole,
    decide,
    is_fixed,
    looks_outside,
    say,
    unquote,
)

# A notch of the wheel after the other, so that programs that count them do.
NOTCH = 10 * MS
LOOK_EVERY = 50 * MS
WINDOW_LIMIT = 5 * SECOND
PROGRAM_LIMIT = 30 * SECOND
LONGEST_JUMP = 20_000


@dataclass(eq=False, repr=False)
class Click(Step):
    """A click of a button, or two."""

    reach: ClassVar[str] = CLICKS
    side: str = "left"
    twice: bool = False

    def read(self, pieces: Pieces, known: Known) -> None:
        self.side = str(pieces[0] or "left")
        self.twice = pieces[1] is not None

    def lay(self, timeline: Timeline) -> Laying:
        for _ in range(1 + self.twice):
            timeline.lay_tap((BUTTONS[self.side],), timeline.tap)
        yield from ()

    def words(self) -> str:
        return "click" + (f" {self.side}" if self.side != "left" else "") + (" twice" if self.twice else "")


@dataclass(eq=False, repr=False)
class Button(Step):
    """A button of the pointer down, or up again, for dragging."""

    reach: ClassVar[str] = CLICKS
    side: str = "left"
    down: bool = True

    def read(self, pieces: Pieces, known: Known) -> None:
        self.down, self.side = str(pieces[0]) == "press", str(pieces[1])

    def lay(self, timeline: Timeline) -> Laying:
        code = BUTTONS[self.side]
        if self.down == (code in timeline.down):
            raise ProblemError(f"the {self.side} button is {'already' if self.down else 'not'} down here",
                               line=self.line, hint=f"Write a {'release' if self.down else 'press'} before")
        (timeline.press if self.down else timeline.release)((code,))
        yield from ()

    def words(self) -> str:
        return f"{'press' if self.down else 'release'} {self.side} button"


@dataclass(eq=False, repr=False)
class Move(Step):
    """The pointer by so many pixels, or to a place: pixels, or per cent of the screen's width and height."""

    reach: ClassVar[str] = INSIDE
    by: bool = True
    places: tuple[str, str] = ("0", "0")

    def read(self, pieces: Pieces, known: Known) -> None:
        self.by, self.places = str(pieces[0]) == "by", (str(pieces[1]), str(pieces[2]))
        for piece, text in zip(pieces[1:], self.places, strict=True):
            number, share = float(text.rstrip("%")), text.endswith("%")
            wrong = ((share and self.by) or ("." in text and not share) or abs(number) > LONGEST_JUMP
                     or (not self.by and (number < 0 or (share and number > 100))))
            if wrong:
                raise ProblemError(f"the pointer cannot be moved {'by' if self.by else 'to'} {text}", line=self.line,
                                   column=token(piece).column or 0,
                                   hint="Write move by 10 -20 (pixels), move to 640 360, or move to 50% 25%")
        if self.places[0].endswith("%") != self.places[1].endswith("%"):
            raise ProblemError("one place is in per cent, the other in pixels", line=self.line,
                               hint="Use the same unit for both")

    def lay(self, timeline: Timeline) -> Laying:
        if self.by:
            codes, values = (REL_X, REL_Y), [int(place) for place in self.places]
        elif self.places[0].endswith("%"):
            codes, values = (ABS_X, ABS_Y), [round(float(place[:-1]) * FULL / 100) for place in self.places]
        else:
            codes, values = (PIXEL_X, PIXEL_Y), [int(place) for place in self.places]
        for code, value in zip(codes, values, strict=True):
            if value or not self.by:
                timeline.move(code, value)
        yield from ()

    def words(self) -> str:
        return f"move {'by' if self.by else 'to'} {self.places[0]} {self.places[1]}"


@dataclass(eq=False, repr=False)
class Scroll(Step):
    """The wheel, by so many notches."""

    reach: ClassVar[str] = INSIDE
    direction: str = "down"
    count: object = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.direction, self.count = str(pieces[0]), pieces[1]
        check_whole(self.count, known, self.line)

    @property
    def fixed(self) -> bool:
        return is_fixed(self.count)

    def lay(self, timeline: Timeline) -> Laying:
        code = REL_WHEEL if self.direction in ("up", "down") else REL_HWHEEL
        value = 1 if self.direction in ("up", "right") else -1
        for turn in range(1 if self.count is None else reckon(self.count, timeline, self.line)):
            timeline.begin(self.line)
            if turn:
                timeline.pass_time(NOTCH)
            timeline.move(code, value)
        yield from ()

    def words(self) -> str:
        return f"scroll {self.direction}" + (f" {say(self.count)}" if self.count is not None else "")


@dataclass(eq=False, repr=False)
class WaitUntil(Step):
    """Wait for a window, or for anything else, but not for ever."""

    reach: ClassVar[str] = INSIDE
    condition: object = None
    limit: int | None = None
    takes_otherwise: ClassVar[bool] = True

    def does(self) -> str:
        return LOOKS if looks_outside(self.condition) else super().does()

    def read(self, pieces: Pieces, known: Known) -> None:
        self.condition, self.limit = pieces[0], read_time(pieces[1], self.line)
        check_condition(self.condition, known, self.line)

    @property
    def fixed(self) -> bool:
        return False

    def lay(self, timeline: Timeline) -> Laying:
        limit = WINDOW_LIMIT if self.limit is None else self.limit
        yield CatchUp(self.line)
        assert isinstance(self.condition, Tree)
        if self.condition.data in ("window", "program", "look"):
            came = yield asked_of_world(self.condition, limit, self.line)
        else:
            end, came = timeline.now + limit, False
            while True:
                came = yield from decide(self.condition, timeline.values, self.line)
                if came or timeline.now >= end:
                    break
                timeline.pass_time(LOOK_EVERY)
                yield CatchUp(self.line)
        if came:
            return
        if self.otherwise is None:
            raise GaveUp(self.line, f"timed out waiting until {say(self.condition)}")
        yield from self.otherwise.lay(timeline)

    def words(self) -> str:
        limit = f" at most {write_duration(self.limit)}" if self.limit is not None else ""
        return f"wait until {say(self.condition)}{limit}"


@dataclass(eq=False, repr=False)
class Play(Step):
    """Another macro's steps, here.  `target` is filled in when all macros are known (reader.link)."""

    reach: ClassVar[str] = INSIDE
    name: str = ""
    column: int = 0
    target: list[Step] = field(default_factory=list)
    # The same as it is written, where what it plays sleeps as a whole.
    written: list[Step] = field(default_factory=list)
    times: tuple[int, int] = (0, 0)
    # Whether the other macro is the same for every press, and whose it is where it came from somebody else.
    target_fixed: bool = True
    rights: Rights | None = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.name, self.column = unquote(str(pieces[0])), token(pieces[0]).column or 0

    @property
    def fixed(self) -> bool:
        return self.target_fixed

    def parts(self) -> Iterable[Step]:
        return self.target

    def lay(self, timeline: Timeline) -> Laying:
        before, line, scope = (timeline.tap, timeline.gap), timeline.stands_for, timeline.scope
        timeline.tap, timeline.gap = self.times
        # What a stranger's macro plays, the stranger plays, whoever wrote it.
        timeline.scope = self.rights if scope is None else scope.granted(self.approved) if self.approved else scope
        timeline.stands_for = line or self.line
        if self.target_fixed:
            # Nothing in it sets a value.
            yield from lay_all(self.target, timeline)
        else:
            values, timeline.values = timeline.values, timeline.values.inner()
            yield from lay_all(self.target, timeline)
            timeline.values = values
        (timeline.tap, timeline.gap), timeline.stands_for, timeline.scope = before, line, scope

    def words(self) -> str:
        return f"play {self.name}" if self.name.replace("-", "").isalnum() else f'play "{self.name}"'


@dataclass(eq=False, repr=False)
class Errands(Step):
    """What the engine does for a run: each step of this kind is never fixed."""

    reach: ClassVar[str] = INSIDE
    @property
    def fixed(self) -> bool:
        return False


@dataclass(eq=False, repr=False)
class Stop(Errands):
    """End other runs, runs of one macro, or this one."""

    reach: ClassVar[str] = "stops what is playing"
    whom: str = ""

    def read(self, pieces: Pieces, known: Known) -> None:
        self.whom = str(pieces[0])

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        if self.whom == "here":
            raise Finish
        yield Errand(self.line, "stop", (unquote(self.whom) if self.whom != "others" else "",))

    def words(self) -> str:
        return f"stop {self.whom}"


@dataclass(eq=False, repr=False)
class Layer(Errands):
    """Switch a layer of the surface that was pressed."""

    reach: ClassVar[str] = INSIDE
    name: str = ""
    on: bool = True

    def read(self, pieces: Pieces, known: Known) -> None:
        self.name, self.on = unquote(str(pieces[0])), str(pieces[1]) == "on"

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        yield Errand(self.line, "layer", (self.name, "on" if self.on else "off"))

    def words(self) -> str:
        name = self.name if self.name.replace("-", "").isalnum() else f'"{self.name}"'
        return f"layer {name} {'on' if self.on else 'off'}"


@dataclass(eq=False, repr=False)
class Speak(Errands):
    """Speak a text."""

    reach: ClassVar[str] = "speaks"
    text: Text = field(default_factory=lambda: Text('""', []))
    kind: ClassVar[str] = "speak"

    def read(self, pieces: Pieces, known: Known) -> None:
        self.text = read_text(pieces[0], self.line, known)

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        yield Errand(self.line, self.kind, (fill(self.text, timeline),))

    def words(self) -> str:
        return f"{self.kind} {self.text.source}"


@dataclass(eq=False, repr=False)
class Show(Speak):
    """A line on the screen."""

    reach: ClassVar[str] = INSIDE
    kind: ClassVar[str] = "show"


@dataclass(eq=False, repr=False)
class TypeSecret(Errands):
    """Type a text that only the person's own file of secrets holds.  What it types stands in no trace."""

    reach: ClassVar[str] = "types a secret"
    name: str = ""
    pace: int | None = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.name, self.pace = unquote(str(pieces[0])), read_time(pieces[1], self.line)
        if not self.name.strip():
            raise ProblemError("a secret has a name", line=self.line, column=token(pieces[0]).column or 0,
                               hint='Write type secret "stream key"')

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        text = yield Errand(self.line, "secret", (self.name,), wait=True)
        if text is True:
            # Only looked at, or rehearsed: nobody is told what it is.
            return
        if not isinstance(text, str):
            raise GaveUp(self.line, f"the secret “{self.name}” could not be typed")
        assert timeline.keymap is not None
        timeline.timetable.secret = True
        try:
            typed = type_out(timeline.keymap, text, locked=timeline.locked)
        except ProblemError:
            raise GaveUp(self.line, f"the secret “{self.name}” has a character that this layout cannot type") from None
        for char, strokes in typed:
            if not char:
                timeline.timetable.switches = strokes[0].codes[0]
            for stroke in strokes:
                length = timeline.tap if self.pace is None else min(timeline.tap, self.pace // 2)
                gap = None if self.pace is None else self.pace - length
                timeline.lay_tap(stroke.codes, length, gap=gap)

    def words(self) -> str:
        every = f" every {write_duration(self.pace)}" if self.pace is not None else ""
        return f'type secret "{self.name}"{every}'


@dataclass(eq=False, repr=False)
class Ring(Errands):
    """A short sound."""

    reach: ClassVar[str] = INSIDE
    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        yield Errand(self.line, "ring", ())

    def words(self) -> str:
        return "ring"


@dataclass(eq=False, repr=False)
class Run(Errands):
    """Run a command, its words as they are; with shell, one line for the shell.  It is ended when its time is over."""

    reach: ClassVar[str] = "runs a program"
    shell: bool = False
    texts: list[Text] = field(default_factory=list)
    limit: int | None = None

    def read(self, pieces: Pieces, known: Known) -> None:
        self.shell = pieces[0] is not None
        self.texts = [read_text(piece, self.line, known) for piece in pieces[1:-1]]
        self.limit = read_time(pieces[-1], self.line)
        if self.shell and len(self.texts) > 1:
            raise ProblemError("a shell takes one line", line=self.line, column=token(pieces[2]).column or 0,
                               hint="Write the whole line in one pair of quotes")

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        yield Errand(self.line, "shell" if self.shell else "run", tuple(fill(text, timeline) for text in self.texts),
                     limit=PROGRAM_LIMIT if self.limit is None else self.limit)

    def words(self) -> str:
        limit = f" at most {write_duration(self.limit)}" if self.limit is not None else ""
        return f"run {'shell ' if self.shell else ''}{' '.join(text.source for text in self.texts)}{limit}"


@dataclass(eq=False, repr=False)
class Start(Errands):
    """Start a program that stays: on its own, whatever becomes of the run and of the engine."""

    reach: ClassVar[str] = "starts a program"
    shell: bool = False
    texts: list[Text] = field(default_factory=list)

    def read(self, pieces: Pieces, known: Known) -> None:
        self.shell = pieces[0] is not None
        self.texts = [read_text(piece, self.line, known) for piece in pieces[1:]]
        if self.shell and len(self.texts) > 1:
            raise ProblemError("a shell takes one line", line=self.line, column=token(pieces[2]).column or 0,
                               hint="Write the whole line in one pair of quotes")

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        yield Errand(self.line, "start", (*(("/bin/sh", "-c") if self.shell else ()),
                                          *(fill(text, timeline) for text in self.texts)))

    def words(self) -> str:
        return f"start {'shell ' if self.shell else ''}{' '.join(text.source for text in self.texts)}"


@dataclass(eq=False, repr=False)
class Osc(Errands):
    """A message of open sound control 1.0, by UDP to HOST:PORT."""

    reach: ClassVar[str] = DRIVES_OSC
    address: Text = field(default_factory=lambda: Text('""', []))
    arguments: list[tuple[str, Text | str]] = field(default_factory=list)
    target: Text = field(default_factory=lambda: Text('""', []))

    def read(self, pieces: Pieces, known: Known) -> None:
        self.address, self.target = (read_text(piece, self.line, known) for piece in (pieces[0], pieces[-1]))
        for piece in pieces[1:-1]:
            word = token(piece)
            if word.type == "FIGURE":
                self.arguments.append(("f" if "." in word else "i", str(word)))
            else:
                self.arguments.append(("s", read_text(piece, self.line, known)))
        host, colon, port = self.target.parts[0][0].rpartition(":")
        if not self.address.parts[0][0].startswith("/"):
            raise ProblemError("an OSC address begins with a slash", line=self.line,
                               column=token(pieces[0]).column or 0,
                               hint='Write send osc "/level" 1 to "127.0.0.1:9000"')
        if self.target.fixed and not (host and colon and port.isdigit() and int(port) < 65536):
            raise ProblemError("the receiver is written as HOST:PORT", line=self.line,
                               column=token(pieces[-1]).column or 0, hint='Write to "127.0.0.1:9000"')

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        values = [f"{kind}:{value if isinstance(value, str) else fill(value, timeline)}"
                  for kind, value in self.arguments]
        # A text that is one value goes out as the number it is.
        values = [f"i:{value[2:]}" if isinstance(text, Text) and len(text.parts) == 2 and not text.fixed
                  and not text.parts[0][0] and not text.parts[1][0] else value
                  for value, (_, text) in zip(values, self.arguments, strict=True)]
        yield Errand(self.line, "osc", (fill(self.address, timeline), fill(self.target, timeline), *values))

    def words(self) -> str:
        values = "".join(f" {value if isinstance(value, str) else value.source}" for _, value in self.arguments)
        return f"send osc {self.address.source}{values} to {self.target.source}"


STEPS: dict[str, type[Step]] = {
    **KEY_STEPS, "click": Click, "button": Button, "move": Move, "scroll": Scroll, "wait_until": WaitUntil,
    "play": Play, "stop": Stop, "layer": Layer, "speak": Speak, "ring": Ring, "show": Show, "run": Run,
    "start_program": Start, "osc": Osc,
    "secret": TypeSecret, **ASKING_STEPS, **DESKTOP_STEPS, **LEVEL_STEPS, **MIDI_STEPS, **NETWORK_STEPS,
    **PLACE_STEPS, **TEXT_STEPS,
}


def unknown_macro(step: Play, known: dict[str, Macro]) -> ProblemError:
    """What to say of a play of nothing."""
    return ProblemError(f"there is no macro “{step.name}”", line=step.line, column=step.column,
                        hint=nearest(step.name, known) or "Name a file of the folder macros, without its ending")
