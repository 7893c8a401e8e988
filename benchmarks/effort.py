"""How much is measured: all that docs/performance.md tells, or so little that it only shows that it still runs."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Effort:
    """Handed to every part: it takes the one number of each pair or the other."""

    short: bool = False

    def of(self, full: int, short: int) -> int:
        """`full`, or `short` in the short form."""
        return short if self.short else full
