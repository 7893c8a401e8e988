"""A clock that jumps: whoever waits for a moment is there at once."""

from __future__ import annotations

import select
import time


class JumpingClock:
    """Time stands still while anything is ready, and jumps to the next moment that is waited for when nothing is.

    What comes from threads and other processes is waited for in real time, for `patience` s, before each jump.
    """

    def __init__(self, patience: float = 0.0) -> None:
        self.time = time.monotonic_ns()
        self.patience = patience
        self.jumps = 0
        self._epoll: select.epoll

    def now(self) -> int:
        """ns, as CLOCK_MONOTONIC when it began."""
        return self.time

    def join(self, epoll: select.epoll) -> None:
        """Wait with these descriptors from now on."""
        self._epoll = epoll

    def wait(self, until: int | None) -> tuple[list[tuple[int, int]], bool]:
        """What is ready; or else the moment has come."""
        ready = self._epoll.poll(None if until is None else self.patience)
        if ready or until is None:
            return ready, False
        self.time = max(self.time, until)
        self.jumps += 1
        return [], True

    def close(self) -> None:
        """Nothing to give back."""
