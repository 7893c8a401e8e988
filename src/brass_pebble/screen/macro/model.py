"""What the Macro view knows of the macro it shows: its text as read, its lanes, its mistakes.  No widgets here."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable

from brass_pebble.core.macro.lanes import Bar, Lanes, lanes_of
from brass_pebble.core.macro.reader import Draft, link, parse
from brass_pebble.core.macro.timetable import Macro
from brass_pebble.core.say.durations import MS
from brass_pebble.core.say.problem import Problem, ProblemError
from brass_pebble.core.signals.keymap import Typist
from brass_pebble.protocol.macros import Macros


class MacroModel:
    """One macro, among the others that it may play."""

    def __init__(self, macro_id: str, reply: Macros, find_typist: Callable[[str], Typist]) -> None:
        """`reply` is the engine's to `macros`; `find_typist` knows who types with a keyboard layout."""
        self.id = macro_id
        self._times = {"tap": round(reply.tap_ms * MS), "gap": round(reply.gap_ms * MS)}
        self._typist: Typist | None = None
        try:
            self._typist = find_typist(reply.keyboard)
        except ProblemError:
            self._typist = None
        self._others: dict[str, Draft] = {
            name: parse(text, id=name, file=f"macros/{name}.macro", **self._times)
            for name, text in reply.texts.items() if name != macro_id}
        self.draft = Draft(Macro(macro_id, macro_id))
        self.lanes = Lanes([], 0, 0, None)
        self._bars: list[tuple[int, Bar]] = []

    @property
    def problems(self) -> list[Problem]:
        """What is wrong with the text."""
        return self.draft.problems

    @property
    def macro(self) -> Macro:
        """The macro as read."""
        return self.draft.macro

    def read(self, text: str) -> None:
        """Take another text.  With mistakes, the lanes stay as they were."""
        self.draft = parse(text, id=self.id, file=f"macros/{self.id}.macro", **self._times)
        link({**self._others, self.id: self.draft}, self._typist, only=(self.id,))
        if not self.draft.problems:
            self.lanes = lanes_of(self.draft)
            self._bars = self.lanes.bars()

    def bars(self) -> list[tuple[int, Bar]]:
        """Every bar with the index of its lane, by time."""
        return self._bars

    def line_at(self, now: int) -> int:
        """The line that wrote the latest bar begun by `now` (ns from the start), or 0."""
        index = bisect_right(self._bars, now, key=lambda item: item[1].start) - 1
        return self._bars[index][1].line if index >= 0 else 0

    def bar_on(self, line: int) -> int:
        """The first bar that a line wrote, or -1."""
        return next((index for index, (_, bar) in enumerate(self._bars) if bar.line == line), -1)
