"""The screen driven by a few switches: controls that are bound to “screen next”, “screen choose” and the like.

Their traces say that they were pressed, as of any control; whoever has a screen open acts on them here.  Fields get the
keyboard on the screen, whose rows and then keys are gone through.
"""

from __future__ import annotations

from typing import Any

from textual.timer import Timer
from textual.widgets import Input, TextArea

from brass_pebble.core.desk.action import BACK, CHOOSE, NEXT, PREVIOUS, SCAN, SCREEN_DEEDS
from brass_pebble.core.play.told import TraceRow

from .widgets.screen_keys import ScreenKeys

# While it scans, the next thing is chosen so often, in s.
SCAN_EVERY = 1.2
_KEYS = {NEXT: "down", PREVIOUS: "up", CHOOSE: "enter", BACK: "escape"}


def is_switch(trace: TraceRow) -> bool:
    """Whether a press drives the screen: the switch itself is not selected by it."""
    return trace.action == "do" and trace.words in SCREEN_DEEDS


class Switches:
    """What switches do on the application's topmost screen."""

    def __init__(self, app: Any) -> None:
        self._app = app
        self._latest = 0
        self._scans: Timer | None = None

    def hear(self, trace: TraceRow) -> None:
        """A press was told: act on it if it was one of a switch."""
        if is_switch(trace) and trace.id > self._latest:
            self._latest = trace.id
            self.act(trace.words)

    def act(self, deed: str) -> None:
        """Do it; where something is typed, on the keyboard on the screen."""
        if deed == SCAN:
            self._scan()
            return
        screen = self._app.screen
        types = isinstance(screen.focused, Input | TextArea)
        if types and not self._app.types_on_screen:
            self._app.action_screen_keys()
            return
        keys = next(iter(screen.query(ScreenKeys)), None) if types else None
        if keys is not None and keys.switch(deed):
            return
        own = getattr(screen, "switch", None)
        if own is None or not own(deed):
            self._app.simulate_key(_KEYS[deed])

    def _scan(self) -> None:
        """Go on by itself from now on, or no longer."""
        if self._scans is not None:
            self._scans.stop()
            self._scans = None
        else:
            self._scans = self._app.set_interval(SCAN_EVERY, lambda: self.act(NEXT))
