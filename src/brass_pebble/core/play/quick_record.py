"""Recording in the middle of a show, with hands on the surfaces only.

Press the record control, press the control that is to play it, do the steps on whatever surface they are on (and on
the keyboard one plays on, where that is wanted), press the record control again: it is bound and live.  Pressing it
again at once, with nothing done in between, takes what that control plays off again.  Pure: time is an argument.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from brass_pebble.core.macro.record import write_recording
from brass_pebble.core.say.durations import SECOND

IDLE, CHOOSE, RECORDING = "idle", "choose", "recording"
# Nobody who forgot about it shall record for ever.
PATIENCE = 30 * SECOND
LONGEST = 180 * SECOND
MOST_EVENTS = 20_000


@dataclass(frozen=True)
class Outcome:
    """What came of it: the target (surface, control), and the text; an empty one takes the control's action off."""

    surface: str
    control: str
    text: str


@dataclass
class QuickRecord:
    """The state of one recording; `target` is the control that should play it."""

    state: str = IDLE
    target: tuple[str, str] = ("", "")
    events: list[tuple[int, int, int]] = field(default_factory=list)
    until: int = 0

    def toggle(self, now: int) -> Outcome | None:
        """The record control was pressed."""
        if self.state == IDLE:
            self.state, self.until = CHOOSE, now + PATIENCE
            self.events = []
            return None
        state, self.state = self.state, IDLE
        if state == CHOOSE:
            return None
        return Outcome(*self.target, write_recording(self.events, end=now))

    def choose(self, surface: str, control: str, now: int) -> bool:
        """Another control was pressed; true if it is the target now, so that it does not play."""
        if self.state != CHOOSE:
            return False
        self.state, self.target, self.until = RECORDING, (surface, control), now + LONGEST
        return True

    def note(self, code: int, value: int, at: int) -> None:
        """Something was sent."""
        if self.state == RECORDING and len(self.events) < MOST_EVENTS:
            self.events.append((code, value, at))

    def cancel(self) -> bool:
        """End without an outcome; false if nothing was going on."""
        was, self.state = self.state, IDLE
        return was != IDLE

    def expire(self, now: int) -> Outcome | None:
        """What a recording that has lasted too long comes to; None if nothing was recorded, or it is not over."""
        if self.state == IDLE or now < self.until:
            return None
        state, self.state = self.state, IDLE
        if state != RECORDING or not self.events:
            return None
        return Outcome(*self.target, write_recording(self.events, end=now))
