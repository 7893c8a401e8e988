"""How a press tells which of several devices is meant, without being taken for typing: one control, three times, alone.

Alone is with nothing else pressed on that device shortly before and after: the middle of a word, or of “www.”, is not.
Pure: time is an argument, in ns.
"""

from __future__ import annotations

from dataclasses import dataclass

from brass_pebble.core.say.durations import SECOND

PRESSES, WITHIN, ALONE = 3, 3 * SECOND, 8 * SECOND // 10
IN_WORDS = "press one of its keys three times, and no other key"


@dataclass
class Telling:
    """What is pressed on one device that is asked about: feed it presses, and ask it when it is due.

    `due` is 0 while nothing was told.  `typed`: two different controls came one soon after the other, as when somebody
    writes on it.
    """

    due: int = 0
    typed: bool = False
    _control: int = -1
    # When the first of these presses came, how many there were, and when the last press of all came.
    _first: int = 0
    _count: int = 0
    _last: int = 0

    def press(self, control: int, at: int) -> None:
        """A control went down."""
        alone = not self._last or at - self._last >= ALONE
        if control != self._control:
            self.typed |= not alone
            self._control, self._first, self._count = control, at, 1 if alone else 0
        elif self._count and at - self._first <= WITHIN:
            self._count += 1
        elif alone:
            self._first, self._count = at, 1
        self._last = at
        self.due = at + ALONE if self._count >= PRESSES else 0

    def told(self, now: int) -> bool:
        """Whether it has just been told; once."""
        if self.due and now >= self.due:
            self.due = self._count = 0
            return True
        return False
