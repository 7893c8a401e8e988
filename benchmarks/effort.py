"""How much is measured: all that docs/performance.md tells, or so little that it only shows that it still runs."""

from __future__ import annotations

import argparse
from collections.abc import Collection
from dataclasses import dataclass


@dataclass(frozen=True)
class Effort:
    """Handed to every part: it takes the one number of each pair or the other."""

    short: bool = False

    def of(self, full: int, short: int) -> int:
        """`full`, or `short` in the short form."""
        return short if self.short else full


def asked_for(about: str, parts: Collection[str]) -> tuple[list[str], Effort]:
    """What the command line asks for: some parts or all, and how much of each."""
    words = argparse.ArgumentParser(description=about.splitlines()[0])
    words.add_argument("parts", nargs="*", metavar="PART", help=", ".join(parts))
    words.add_argument("--short", action="store_true", help="as little of each as shows that it runs")
    asked = words.parse_args()
    if unknown := [name for name in asked.parts if name not in parts]:
        words.error(f"no part {', '.join(unknown)}. Available: {', '.join(parts)}")
    return asked.parts or [*parts], Effort(asked.short)
