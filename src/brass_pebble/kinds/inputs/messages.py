"""An input whose events come as messages: from a thread of a library, or from the loop's own sockets."""

from __future__ import annotations

import contextlib
import os
from collections import deque
from collections.abc import Sequence

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.signals.midi_in import MidiDecoder

from .base import DeviceGone, KeyEvent, RestsByItself

# More than any device sends in the time that the loop may be busy; what is older then is lost, and counted.
MOST_WAITING = 20_000


class MessageInput(RestsByItself):
    """Messages wait in a queue; a descriptor is ready while any do.  `lost` counts those that waited too long."""

    def __init__(self, facts: DeviceFacts) -> None:
        self.facts = facts
        self.decoder = MidiDecoder()
        self.lost = 0
        self._gone = False
        self._waiting: deque[tuple[Sequence[int], int]] = deque(maxlen=MOST_WAITING)
        self._wake = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._awake = False

    def note(self, message: Sequence[int], at: int) -> None:
        """Note a message down without waking anybody: whoever calls sees to it that it is read."""
        if len(self._waiting) == MOST_WAITING:
            self.lost += 1
        self._waiting.append((message, at))

    def arrived(self, message: Sequence[int], at: int) -> None:
        """Note a message down (`at` in ns), and wake the loop; from any thread."""
        self.note(message, at)
        if not self._awake and self._wake >= 0:
            self._awake = True
            os.eventfd_write(self._wake, 1)

    def filenos(self) -> Sequence[int]:
        return [self._wake]

    def node(self, fileno: int) -> str:
        return ""

    def read(self, fileno: int) -> Sequence[KeyEvent]:
        if self._awake:
            with contextlib.suppress(BlockingIOError):
                os.eventfd_read(self._wake)
        if self._gone and not self._waiting:
            raise DeviceGone("it has left")
        self._awake = False
        events: list[KeyEvent] = []
        waiting = self._waiting
        # What arrives meanwhile wakes the loop again.
        for _ in range(len(waiting)):
            message, at = waiting.popleft()
            self.decode(message, at, events)
        if self._gone:
            self._awake = True
            os.eventfd_write(self._wake, 1)
        return events

    def decode(self, message: Sequence[int], at: int, events: list[KeyEvent]) -> None:
        """What a message means."""
        self.decoder.decode(message, at, events)

    def pull_out(self) -> None:
        """There will be no more messages."""
        self._gone = True
        if self._wake >= 0:
            self._awake = True
            os.eventfd_write(self._wake, 1)

    def expect(self, wanted: frozenset[int], *, never_lets_go: bool) -> None:
        sounding = self.decoder.sounding
        self.decoder = MidiDecoder(wanted, never_lets_go=never_lets_go)
        self.decoder.sounding = sounding

    def ranges(self) -> dict[int, tuple[int, int]]:
        return {}

    def close(self) -> None:
        if self._wake >= 0:
            os.close(self._wake)
            self._wake = -1
