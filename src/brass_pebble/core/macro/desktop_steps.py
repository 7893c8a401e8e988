"""Steps about windows and programs: to the front, put into place, closed; opened so that they stay."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

from brass_pebble.core.say.durations import SECOND, write_duration
from brass_pebble.core.say.problem import ProblemError

from .asks import CatchUp, Errand, GaveUp, Laying
from .steps import Pieces, Step, fill, read_text, read_time, token
from .timetable import Timeline
from .value.kinds import Known
from .value.reckon import Text

# A program that is asked to end does so within this, or is ended by force.
CLOSE_LIMIT = 5 * SECOND
LARGEST_PLACE = 20_000


@dataclass(eq=False, repr=False)
class WindowStep(Step):
    """Something done to a window; what stands under otherwise is played when there is none, or it cannot be done."""

    reach: ClassVar[str] = "moves a window"
    by_class: bool = False
    text: Text = field(default_factory=lambda: Text('""', []))
    deed: str = ""
    takes_otherwise: ClassVar[bool] = True

    @property
    def fixed(self) -> bool:
        return False

    def read(self, pieces: Pieces, known: Known) -> None:
        self.deed, self.by_class = str(pieces[0]), pieces[1] is not None
        self.text = read_text(pieces[2], self.line, known)

    def details(self) -> tuple[str, ...]:
        """What the deed needs to know beside the window."""
        return ()

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        done = yield Errand(self.line, f"window {self.deed}", (fill(self.text, timeline), "class" if self.by_class
                                                               else "title", *self.details()), wait=True)
        if done:
            return
        if self.otherwise is None:
            raise GaveUp(self.line, f"could not {self.deed} the window {self.text.source}")
        yield from self.otherwise.lay(timeline)

    def words(self) -> str:
        return f"{self.deed} window {'class ' if self.by_class else ''}{self.text.source}"


@dataclass(eq=False, repr=False)
class CloseWindow(WindowStep):
    """Ask a window's program to close it."""

    reach: ClassVar[str] = "closes a window"
    def read(self, pieces: Pieces, known: Known) -> None:
        self.deed, self.by_class = "close", pieces[0] is not None
        self.text = read_text(pieces[1], self.line, known)


@dataclass(eq=False, repr=False)
class PlaceWindow(WindowStep):
    """Move and resize a window: in pixels of the desktop, or in per cent of a screen."""

    reach: ClassVar[str] = "moves a window"
    place: tuple[str, ...] = ()
    screen: int = 0

    def read(self, pieces: Pieces, known: Known) -> None:
        self.deed, self.by_class = "place", pieces[0] is not None
        self.text = read_text(pieces[1], self.line, known)
        words = [token(piece) for piece in pieces[2:6]]
        self.place = tuple(map(str, words))
        shares = {word.endswith("%") for word in words}
        for index, word in enumerate(words):
            number = float(word.rstrip("%"))
            too_far = number > 100 or number < 0 if word.endswith("%") else abs(number) > LARGEST_PLACE or "." in word
            if too_far or (index > 1 and number <= 0) or len(shares) > 1:
                raise ProblemError(f"a window cannot be placed at {' '.join(self.place[:2])} with the size "
                                   f"{' '.join(self.place[2:])}", line=self.line, column=word.column or 0,
                                   hint="Write at 0% 0% size 50% 100%, or at 100 80 size 800 600 in pixels")
        if pieces[6] is not None:
            word = token(pieces[6])
            self.screen = int(word) if word.isdigit() else 0
            if not 1 <= self.screen <= 16:
                raise ProblemError(f"“{word}” is not a screen", line=self.line, column=word.column or 0,
                                   hint="Screens count from 1, from left to right")

    def details(self) -> tuple[str, ...]:
        return (*self.place, str(self.screen or 1))

    def words(self) -> str:
        on = f" on screen {self.screen}" if self.screen else ""
        return f"{super().words()} at {' '.join(self.place[:2])} size {' '.join(self.place[2:])}{on}"


@dataclass(eq=False, repr=False)
class OpenProgram(Step):
    """Open a program so that it stays; if it runs already, bring its window to the front instead."""

    reach: ClassVar[str] = "starts a program"
    texts: list[Text] = field(default_factory=list)
    cls: Text | None = None

    @property
    def fixed(self) -> bool:
        return False

    def read(self, pieces: Pieces, known: Known) -> None:
        self.texts = [read_text(piece, self.line, known) for piece in pieces[:-1]]
        self.cls = read_text(pieces[-1], self.line, known) if pieces[-1] is not None else None

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        yield Errand(self.line, "open", (fill(self.cls, timeline) if self.cls else "",
                                         *(fill(text, timeline) for text in self.texts)), wait=True)

    def words(self) -> str:
        cls = f" as class {self.cls.source}" if self.cls else ""
        return f"open {' '.join(text.source for text in self.texts)}{cls}"


@dataclass(eq=False, repr=False)
class CloseProgram(Step):
    """Ask a program to end, and end it by force when it does not within a time; the step ends when it has.

    Only what macros have started, or has a window; with `every`, all of that name.
    """

    reach: ClassVar[str] = "ends a program"
    every: bool = False
    text: Text = field(default_factory=lambda: Text('""', []))
    limit: int | None = None
    takes_otherwise: ClassVar[bool] = True

    @property
    def fixed(self) -> bool:
        return False

    def read(self, pieces: Pieces, known: Known) -> None:
        self.every = pieces[0] is not None
        self.text, self.limit = read_text(pieces[1], self.line, known), read_time(pieces[2], self.line)

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        done = yield Errand(self.line, "close program", (fill(self.text, timeline), "every" if self.every else ""),
                            wait=True,
                            limit=CLOSE_LIMIT if self.limit is None else self.limit)
        if not done and self.otherwise is not None:
            yield from self.otherwise.lay(timeline)

    def words(self) -> str:
        limit = f" at most {write_duration(self.limit)}" if self.limit is not None else ""
        return f"close {'every ' if self.every else ''}program {self.text.source}{limit}"


DESKTOP_STEPS: dict[str, type[Step]] = {
    "window_deed": WindowStep, "close_window": CloseWindow, "place": PlaceWindow, "open_program": OpenProgram,
    "close_program": CloseProgram,
}
