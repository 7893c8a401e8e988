"""Switches that chatter: noticing it, and believing a release only when it lasts."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

MS = 1_000_000
# No finger or foot lets go and presses again in so short a time.
TOO_QUICK = 30 * MS
OF_THE_LAST = 20
WORTH_TELLING = 3
# A switch that bounces so often within one press chatters without end.
WITHOUT_END = 12
# KEY_VOLUMEDOWN and KEY_VOLUMEUP: knobs send them, and the steps of a knob come close together.
TURNED = frozenset((114, 115))
SMALLEST_OFFER, LARGEST_OFFER = 10 * MS, 60 * MS


@dataclass(frozen=True)
class Chatter:
    """A control that bounced `times` times in its last `presses` presses; `offer` is a debounce time, in ns."""

    code: int
    times: int
    presses: int
    offer: int


class BounceWatch:
    """Notices controls of one surface that bounce; says so once for each control."""

    def __init__(self) -> None:
        self._released: dict[int, int] = {}
        self._history: dict[int, deque[int]] = {}
        self._told: set[int] = set()
        # How often each has bounced since it was last let go for longer.
        self._in_a_row: dict[int, int] = {}

    def feed(self, code: int, value: int, at: int) -> Chatter | None:
        """A press (1) or release (0) at `at`, in ns."""
        if not value:
            self._released[code] = at
            return None
        if code in TURNED:
            return None
        gap = at - self._released.get(code, -TOO_QUICK - 1)
        history = self._history.setdefault(code, deque(maxlen=OF_THE_LAST))
        if gap > TOO_QUICK:
            history.append(0)
            self._in_a_row[code] = 0
            return None
        self._in_a_row[code] = self._in_a_row.get(code, 0) + 1
        if history:
            # A bounce belongs to the press before it.
            history[-1] = max(history[-1], gap)
        gaps = [known for known in history if known]
        without_end = self._in_a_row[code] >= WITHOUT_END
        if code in self._told or not (without_end or len(gaps) >= WORTH_TELLING):
            return None
        self._told.add(code)
        # Half as long again as the worst gap seen, in steps of 5 ms.
        offer = -(-max(gaps, default=SMALLEST_OFFER) * 3 // 2 // (5 * MS)) * 5 * MS
        times = self._in_a_row[code] if without_end else len(gaps)
        return Chatter(code, times, max(1, len(history)), min(LARGEST_OFFER, max(SMALLEST_OFFER, offer)))


@dataclass
class Debouncer:
    """A press counts at once; a release only when it has lasted for `time` ns.  What comes in between is ignored."""

    time: int
    _down: set[int] = field(default_factory=set)
    _leaving: dict[int, int] = field(default_factory=dict)
    ignored: dict[int, int] = field(default_factory=dict)

    def feed(self, code: int, value: int, at: int) -> bool:
        """Whether this press counts now.  Releases never do: they come from `advance`."""
        if not value:
            if code in self._down:
                self._leaving.setdefault(code, at + self.time)
            return False
        if code in self._down:
            if self._leaving.pop(code, None) is not None:
                self.ignored[code] = self.ignored.get(code, 0) + 1
            return False
        self._down.add(code)
        self.ignored.pop(code, None)
        return True

    def advance(self, now: int) -> list[int]:
        """Codes whose release has lasted."""
        over = [code for code, due in self._leaving.items() if due <= now]
        for code in over:
            del self._leaving[code]
            self._down.discard(code)
        return over

    def next_deadline(self) -> int | None:
        """When a release will have lasted, in ns; None while nothing waits."""
        return min(self._leaving.values()) if self._leaving else None

    def forget(self) -> None:
        """The device is gone: nothing is down."""
        self._down.clear()
        self._leaving.clear()
