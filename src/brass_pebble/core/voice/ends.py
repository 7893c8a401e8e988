"""Where an utterance begins and ends, of what is speech and what is silence.  Time is counted in frames."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

# Of one frame, in ms.
FRAME = 30
# So many of the last frames have to be speech for an utterance to begin; what came before belongs to it, too.
BEGINS, OF_THE_LAST, BEFORE = 4, 6, 10
# How long silence lasts until it ends, in ms: after a whole phrase that nothing follows, after one that may go on
# (“level forty”, “level forty five”), and in the middle of one.
WHOLE, MAY_GO_ON, MIDDLE = 180, 300, 600
# Longer than this no utterance is kept, in s; it is ended there.
LONGEST = 30.0


@dataclass
class Ends:
    """Follows one microphone.  `step` takes a frame at a time."""

    speaking: bool = False
    frames: int = 0
    silent: int = 0
    _last: deque[bool] = field(default_factory=lambda: deque(maxlen=OF_THE_LAST))

    def step(self, *, speech: bool) -> str:
        """One more frame: "begins" with it, or nothing.  Whether it ends is asked for by `over`."""
        self._last.append(speech)
        if not self.speaking:
            if sum(self._last) >= BEGINS:
                self.speaking, self.frames, self.silent = True, 0, 0
                return "begins"
            return ""
        self.frames += 1
        self.silent = 0 if speech else self.silent + 1
        return ""

    def over(self, *, whole: bool, may_go_on: bool) -> bool:
        """Whether the utterance is over, where it is a whole phrase by now, and one that may go on."""
        if not self.speaking:
            return False
        wait = (MAY_GO_ON if may_go_on else WHOLE) if whole else MIDDLE
        return self.silent * FRAME >= wait or self.frames * FRAME >= LONGEST * 1000

    def end(self) -> None:
        """It has ended; the next may begin."""
        self.speaking = False
        self._last.clear()
