"""How long something took that this computer let run: what other work kept everybody waiting for is taken off.

A test that bounds a time is about the program.  A machine that runs other things beside it stands still for a second
now and then, for every process alike; a thread that does nothing but wake up measures that, from the first use on.
"""

from __future__ import annotations

import threading
import time
from collections import deque

# It wakes up so often, in s; what it wakes up later than this is the machine's.
EVERY, USUAL = 0.01, 0.02


class _Bystander(threading.Thread):
    def __init__(self) -> None:
        super().__init__(name="bystander", daemon=True)
        # When it woke up, and how much too late, in s.
        self.late: deque[tuple[float, float]] = deque(maxlen=10_000)

    def run(self) -> None:
        while True:
            began = time.monotonic()
            time.sleep(EVERY)
            woke = time.monotonic()
            if woke - began - EVERY > USUAL:
                self.late.append((woke, woke - began - EVERY))


_BYSTANDER = _Bystander()
_BYSTANDER.start()


def took(began: float) -> float:
    """Seconds since `began` (of the monotonic clock), without those in which the machine stood still."""
    # A standstill that is just over is noted by now.
    time.sleep(2 * EVERY)
    now = time.monotonic()
    still = sum(min(late, woke - began) for woke, late in list(_BYSTANDER.late) if woke > began)
    return now - 2 * EVERY - began - still
