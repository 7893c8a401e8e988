"""Counts presses: no press is kept, only how many there were of each kind on each day."""

from __future__ import annotations

from dataclasses import dataclass, field

from .press import Deed, Press, Where
from .slips import SlipWatch

# Two presses that belong together follow one another within this time, in ms.
TOGETHER = 2500


@dataclass
class Count:
    """How often, and what became of it.  Times in ms, lateness in µs."""

    presses: int = 0
    stopped: int = 0
    cancelled: int = 0
    slips: int = 0
    waited: int = 0
    late: int = 0
    latest: int = 0


@dataclass
class Batch:
    """Counts that have not been stored yet.  Days are days since 1970."""

    counts: dict[tuple[int, Where], Count] = field(default_factory=dict)
    pairs: dict[tuple[int, Deed, Deed], int] = field(default_factory=dict)
    slips: dict[tuple[int, str, str, str, str], int] = field(default_factory=dict)
    late: dict[tuple[int, int], int] = field(default_factory=dict)

    @property
    def size(self) -> int:
        """How many rows it would change."""
        return len(self.counts) + len(self.pairs) + len(self.slips) + len(self.late)


def late_bucket(late: int) -> int:
    """Powers of two of µs: 0 for below 1 µs, n for below 2 to the n."""
    return max(0, late).bit_length()


class Counter:
    """Told of presses in order; hands on what came together since it was last asked."""

    def __init__(self) -> None:
        self._batch = Batch()
        self._slips = SlipWatch()
        self._before: Press | None = None

    @property
    def waiting(self) -> int:
        """Rows that are not stored yet."""
        return self._batch.size

    def begin(self, press: Press) -> None:
        """Count a press that has begun."""
        batch = self._batch
        count = self._count(press)
        count.presses += 1
        count.waited += press.waited
        before, self._before = self._before, press
        if before is not None and 0 <= press.at - before.at <= TOGETHER and before.deed != press.deed:
            key = press.day, before.deed, press.deed
            batch.pairs[key] = batch.pairs.get(key, 0) + 1
        for slip in self._slips.watch(press):
            made = slip.press
            if not slip.meant:
                self._count(made).slips += 1
                self._add_slip(made, "", 1)
            else:
                # Now it is known what was meant: it is not unknown any more.
                self._add_slip(made, "", -1)
                self._add_slip(made, slip.meant, 1)

    def finish(self, press: Press) -> None:
        """Count what became of a press that is over."""
        batch, count = self._batch, self._count(press)
        count.stopped += press.stopped
        count.cancelled += press.cancelled
        count.late += press.late
        count.latest = max(count.latest, press.late)
        bucket = press.day, late_bucket(press.late)
        batch.late[bucket] = batch.late.get(bucket, 0) + 1

    def _count(self, press: Press) -> Count:
        return self._batch.counts.setdefault((press.day, press.where), Count())

    def _add_slip(self, press: Press, meant: str, step: int) -> None:
        key = press.day, press.surface, press.control, press.does, meant
        self._batch.slips[key] = self._batch.slips.get(key, 0) + step

    def take(self) -> Batch:
        """What was counted since the last time."""
        batch, self._batch = self._batch, Batch()
        return batch
