"""Steps that set levels: axes of the virtual controller, MIDI values, OSC; exactly, by so much, over a time.  And the
virtual controller's buttons."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction
from typing import ClassVar

from brass_pebble.core.effects.drive import DriveTarget, parse_drive
from brass_pebble.core.effects.pad_buttons import PAD_BUTTONS
from brass_pebble.core.effects.reach import DRIVES_PAD, REACH_OF_DRIVE
from brass_pebble.core.say.durations import MS, write_duration
from brass_pebble.core.say.problem import ProblemError, nearest

from .asks import CatchUp, Laying
from .steps import INSIDE, Pieces, Step, read_time, token, value_now
from .timetable import Timeline
from .value.kinds import DECIMAL, TEXT, Known
from .value.reckon import check_kind, is_fixed, quoted, say, unquote

# A level that goes somewhere over a time takes a step this often, in ns.
RAMP_EVERY = 10 * MS
LONGEST_RAMP = 600_000 * MS


def read_target(text: str, to: str, line: int, column: int) -> DriveTarget:
    """What a level step or a reading names.

    Raises:
        ProblemError: it is nothing that has a level.
    """
    plain = " ".join(text.split())
    try:
        target = parse_drive(f"{plain} to {to}" if to else plain)
    except ProblemError as error:
        raise ProblemError(error.problem.what, line=line, column=column, hint=error.problem.hint) from None
    if target.kind == "rate":
        raise ProblemError(f"“{plain}” is a movement and has no level", line=line, column=column,
                           hint="Levels are those of controller x, cc 7 on 1, or osc /level to 127.0.0.1:9000")
    return target


@dataclass(eq=False, repr=False)
class LevelStep(Step):
    """Set a level in per cent, change it by so many, at once or over a time."""

    reach: ClassVar[str] = INSIDE
    source: str = ""
    to: str = ""
    drive: DriveTarget | None = None
    steps: bool = False
    amount: object = None
    over: int | None = None

    @property
    def fixed(self) -> bool:
        # Where a level is that goes somewhere is known only then; and the desk asks by this what it needs.
        return False

    @property
    def drives_controller(self) -> bool:
        return self.drive is not None and self.drive.kind == "controller"

    def does(self) -> str:
        return REACH_OF_DRIVE[self.drive.kind] if self.drive is not None else super().does()

    def read(self, pieces: Pieces, known: Known) -> None:
        word = token(pieces[0])
        self.source = re.sub(r" +", " ", str(word).strip())
        self.to = unquote(str(pieces[1])) if pieces[1] is not None else ""
        self.drive = read_target(self.source, self.to, self.line, word.column or 0)
        self.steps, self.amount = str(pieces[2]) == "by", pieces[3]
        if check_kind(self.amount, known, self.line) == TEXT:
            raise ProblemError("a level is a number of per cent", line=self.line, column=token(pieces[2]).column or 0,
                               hint=f"Write level {self.source} {pieces[2]} 35")
        self.over = read_time(pieces[4], self.line)
        if self.over is not None and self.over > LONGEST_RAMP:
            raise ProblemError("a level takes at most 10 minutes to get somewhere", line=self.line,
                               hint="Use several steps")
        known.late = True

    def lay(self, timeline: Timeline) -> Laying:
        assert self.drive is not None
        levels, target = timeline.given.levels, self.drive
        low = Fraction(-1 if target.centred else 0)
        before = levels.at.get(target.text, Fraction(0))
        found = value_now(self.amount, timeline, self.line)
        assert not isinstance(found, str)
        amount = Fraction(found) / 100
        if is_fixed(self.amount) and not (-2 if self.steps else low) <= amount <= (2 if self.steps else 1):
            raise ProblemError(f"{say(self.amount)} % lies outside of what “{self.source}” can be", line=self.line,
                               hint=f"A level is between {'-100' if target.centred else '0'} and 100 %")
        # What is reckoned stays within what there is.
        goal = min(Fraction(1), max(low, before + amount if self.steps else amount))
        count = max(1, -(-self.over // RAMP_EVERY)) if self.over else 1
        start, told = timeline.now, None
        for turn in range(1, count + 1):
            if self.over:
                timeline.go_to(start + self.over * turn // count)
                yield CatchUp(self.line)
                timeline.begin(self.line)
            share = before + (goal - before) * turn / count
            levels.at[target.text] = share
            effects = tuple(target.values(share, centred=target.centred))
            if effects != told or turn == count:
                for code, value in effects:
                    timeline.move(code, value)
            told = effects

    def words(self) -> str:
        to = f" to {quoted(self.to)}" if self.to else ""
        over = f" over {write_duration(self.over)}" if self.over is not None else ""
        return f"level {self.source}{to} {'by' if self.steps else 'at'} {say(self.amount)}{over}"


@dataclass(eq=False, repr=False)
class ReadLevel(Step):
    """Give the present level, in per cent, a name."""

    reach: ClassVar[str] = INSIDE
    name: str = ""
    source: str = ""
    to: str = ""
    drive: DriveTarget | None = None
    sets: ClassVar[bool] = True

    @property
    def fixed(self) -> bool:
        return False

    def read(self, pieces: Pieces, known: Known) -> None:
        word = token(pieces[1])
        self.name, self.source = str(pieces[0]), re.sub(r" +", " ", str(word).strip())
        self.to = unquote(str(pieces[2])) if pieces[2] is not None else ""
        self.drive = read_target(self.source, self.to, self.line, word.column or 0)
        known.learn(self.name, DECIMAL, self.line, token(pieces[0]).column or 0)
        self.keeps = known[self.name].kept
        known.late = True

    def lay(self, timeline: Timeline) -> Laying:
        from decimal import Decimal
        assert self.drive is not None
        share = timeline.given.levels.at.get(self.drive.text, Fraction(0))
        timeline.values.put(self.name, (Decimal(share.numerator) * 100 / Decimal(share.denominator)).quantize(
            Decimal("0.01")))
        yield from ()

    def words(self) -> str:
        to = f" to {quoted(self.to)}" if self.to else ""
        return f"read {self.name} from level {self.source}{to}"


@dataclass(eq=False, repr=False)
class PadButton(Step):
    """A button of the virtual controller: tapped, pressed, or let go."""

    reach: ClassVar[str] = DRIVES_PAD
    deed: str = "tap"
    name: str = ""
    length: int | None = None

    @property
    def drives_controller(self) -> bool:
        return True

    @property
    def fixed(self) -> bool:
        # The desk asks its live macros what they need.
        return False

    def read(self, pieces: Pieces, known: Known) -> None:
        self.deed, self.name, self.length = str(pieces[0]), str(pieces[1]), read_time(pieces[2], self.line)
        if self.name not in PAD_BUTTONS:
            raise ProblemError(f"the virtual controller has no button “{self.name}”", line=self.line,
                               column=token(pieces[1]).column or 0,
                               hint=nearest(self.name, PAD_BUTTONS) or f"Its buttons are {', '.join(PAD_BUTTONS)}")
        if self.length is not None and self.deed != "tap":
            raise ProblemError(f"{self.deed} has no length", line=self.line, column=token(pieces[1]).column or 0,
                               hint=f"Write controller tap {self.name} for 80ms")

    def lay(self, timeline: Timeline) -> Laying:
        codes = (PAD_BUTTONS[self.name],)
        if self.deed == "tap":
            timeline.lay_tap(codes, timeline.tap if self.length is None else self.length)
        elif (self.deed == "press") == (codes[0] in timeline.down):
            raise ProblemError(f"the button {self.name} is {'already' if self.deed == 'press' else 'not'} down here",
                               line=self.line, hint=f"Write a {'release' if self.deed == 'press' else 'press'} before")
        else:
            (timeline.press if self.deed == "press" else timeline.release)(codes)
        yield from ()

    def words(self) -> str:
        length = f" for {write_duration(self.length)}" if self.length is not None else ""
        return f"controller {self.deed} {self.name}{length}"


LEVEL_STEPS: dict[str, type[Step]] = {"level": LevelStep, "read_level": ReadLevel, "pad_button": PadButton}
