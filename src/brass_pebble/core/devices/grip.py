"""The grip by which any device is got back with nothing but itself: one control, pressed seven times and then held.

Nobody makes it by accident: seven presses of the same control within three seconds, with nothing else in between, and
the seventh held for four.  What has no keys is turned to and fro, or pushed to its ends, as often and then left alone.
Pure: time is an argument, in ns.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

from brass_pebble.core.say.durations import SECOND

PRESSES, WITHIN, HELD_FOR = 7, 3 * SECOND, 4 * SECOND
IN_WORDS = "press one of its controls seven times within three seconds, and hold the seventh for four"


@dataclass
class Grip:
    """The grip on one surface's device: feed it presses, and ask it when it is due.  `due` is 0 while it is not."""

    due: int = 0
    _control: int = 0
    _presses: deque[int] = field(default_factory=lambda: deque(maxlen=PRESSES))

    def press(self, control: int, at: int) -> None:
        """A control went down."""
        if control != self._control:
            self._control = control
            self._presses.clear()
        self._presses.append(at)
        made = len(self._presses) == PRESSES and at - self._presses[0] <= WITHIN
        self.due = at + HELD_FOR if made else 0

    def release(self, control: int) -> None:
        """A control went up."""
        if control == self._control:
            self.due = 0

    def made(self, now: int) -> bool:
        """Whether the grip has just been made; once."""
        if self.due and now >= self.due:
            self.due = 0
            self._presses.clear()
            return True
        return False
