"""Keys take effect in the order in which they were typed.

A key that a binding answers goes from widget to widget up to the application before its action runs.  The next key
would meanwhile reach the widget that has the focus now, although the first one is about to move it.  So each key waits
until the one before has come all the way.
"""

from __future__ import annotations

from collections import deque
from typing import Any

from textual import events
from textual.app import App
from textual.message import Message
from textual.timer import Timer

# A widget that went away with a key does not answer any more; in s.
LONGEST_WAY = 0.5


class KeyCame(Message, bubble=True):
    """Follows a key on its way up, and tells the application that it came through."""


class KeyOrder(App[Any]):
    """An application whose keys are handled one after the other."""

    def __init__(self, **options: Any) -> None:
        super().__init__(**options)
        self._keys: deque[events.Key] = deque()
        self._way: Timer | None = None

    async def on_event(self, event: events.Event) -> None:
        """Keys from the terminal wait for their turn; all else goes on."""
        if isinstance(event, events.Key) and not event.is_forwarded:
            self._keys.append(event)
            await self._next_key()
        else:
            await super().on_event(event)

    async def _next_key(self) -> None:
        while self._keys and self._way is None:
            event = self._keys.popleft()
            target = self.focused or self.screen
            self._way = self.set_timer(LONGEST_WAY, self._came)
            await super().on_event(event)
            if not target.post_message(KeyCame()):
                self._end_way()

    def _end_way(self) -> None:
        if self._way is not None:
            self._way.stop()
            self._way = None

    async def _came(self) -> None:
        self._end_way()
        await self._next_key()

    async def on_key_came(self, message: KeyCame) -> None:
        """The key before has done what it does."""
        await self._came()
