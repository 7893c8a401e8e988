"""Steps about places of the screen: the pointer to a place of a window, and back to where it was."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from brass_pebble.core.effects.pointer import PIXEL_X, PIXEL_Y
from brass_pebble.core.say.problem import ProblemError

from .asks import CatchUp, Errand, GaveUp, Laying
from .steps import INSIDE, Pieces, Step, fill, read_text, token
from .timetable import Timeline
from .value.kinds import Known
from .value.looks import check_place
from .value.reckon import Text


@dataclass(eq=False, repr=False)
class MoveInWindow(Step):
    """The pointer to a place of a window: pixels from its corner, or per cent of its size."""

    reach: ClassVar[str] = "looks for a window"
    places: tuple[str, str] = ("0", "0")
    by_class: bool = False
    text: Text | None = None
    takes_otherwise = True

    @property
    def fixed(self) -> bool:
        return False

    def read(self, pieces: Pieces, known: Known) -> None:
        words = [token(pieces[1]), token(pieces[2])]
        if str(pieces[0]) == "by":
            raise ProblemError("a place of a window is moved to", line=self.line, column=token(pieces[0]).column or 0,
                               hint='Write move to 50% 25% of window "Title"')
        check_place(words, self.line)
        self.places = str(words[0]), str(words[1])
        self.by_class, self.text = pieces[3] is not None, read_text(pieces[4], self.line, known)

    def lay(self, timeline: Timeline) -> Laying:
        assert self.text is not None
        yield CatchUp(self.line)
        by = "class" if self.by_class else "title"
        found = yield Errand(self.line, "window where", (fill(self.text, timeline), by, *self.places), wait=True)
        if isinstance(found, str):
            x, y = map(int, found.split())
            timeline.move(PIXEL_X, x)
            timeline.move(PIXEL_Y, y)
        elif found is not True and self.otherwise is not None:
            yield from self.otherwise.lay(timeline)
        elif found is not True:
            raise GaveUp(self.line, f"there is no window {self.text.source}")

    def words(self) -> str:
        assert self.text is not None
        return f"move to {' '.join(self.places)} of window {'class ' if self.by_class else ''}{self.text.source}"


@dataclass(eq=False, repr=False)
class MoveBack(Step):
    """The pointer back to where it was when the run began, or when it was remembered last."""

    reach: ClassVar[str] = INSIDE
    remembers: bool = False

    def does(self) -> str:
        return "looks for the pointer" if self.remembers else super().does()

    @property
    def fixed(self) -> bool:
        return False

    def read(self, pieces: Pieces, known: Known) -> None:
        self.remembers = str(pieces[0]) == "remember"

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        if self.remembers:
            found = yield Errand(self.line, "pointer", (), wait=True)
            if isinstance(found, str):
                x, y = map(int, found.split())
                timeline.place = (x, y)
            elif found is not True:
                raise GaveUp(self.line, "where the pointer is cannot be told here")
        elif timeline.place is not None:
            timeline.move(PIXEL_X, timeline.place[0])
            timeline.move(PIXEL_Y, timeline.place[1])

    def words(self) -> str:
        return "remember pointer" if self.remembers else "move back"


PLACE_STEPS: dict[str, type[Step]] = {"move_in": MoveInWindow, "move_back": MoveBack}
