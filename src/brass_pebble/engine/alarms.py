"""Alarms: calls at a time, each under a name of its own."""

from __future__ import annotations

from collections.abc import Callable

Call = Callable[[int], object]


class Alarms:
    """Calls `call(now)` once at its time.  One that fails concerns nobody else: it goes to `on_mishap`."""

    def __init__(self, now: Callable[[], int], on_mishap: Callable[[Exception], None]) -> None:
        self._now = now
        self._on_mishap = on_mishap
        self._calls: dict[str, tuple[int, Call]] = {}

    def at(self, name: str, when: int, call: Call) -> None:
        """Call `call(now)` once at `when`, in ns; an alarm of the same name is replaced."""
        self._calls[name] = (when, call)

    def later(self, name: str, wait: int, call: Call) -> None:
        """Call `call(now)` in `wait` ns, unless an alarm of that name is set already."""
        if name not in self._calls:
            self._calls[name] = (self._now() + wait, call)

    def cancel(self, name: str) -> None:
        """Forget an alarm."""
        self._calls.pop(name, None)

    def next_deadline(self) -> int | None:
        """When the next one is due."""
        return min((when for when, _ in self._calls.values()), default=None)

    def ring(self, now: int) -> None:
        """Call what is due."""
        for name, (when, call) in list(self._calls.items()):
            if when <= now:
                self._calls.pop(name, None)
                self.call(call, now)

    def call(self, call: Call, now: int) -> None:
        """Call something as an alarm does."""
        try:
            call(now)
        except Exception as error:
            self._on_mishap(error)
