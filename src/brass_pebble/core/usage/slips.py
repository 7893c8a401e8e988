"""Probable slips: a press that is soon taken back, and the control that was meant."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache

from brass_pebble.core.desk.action import STOP
from brass_pebble.core.say.data_table import read_table

from .press import Press

# How soon after a press it is taken back, and how soon after that the right one follows; in ms.
TAKEN_BACK, PUT_RIGHT = 2000, 3000
ANY = "any"


@cache
def opposites() -> dict[str, frozenset[str]]:
    """Chord → the chords that undo it; those for any chord under “any”.  From `data/opposites.tsv`."""
    found: dict[str, set[str]] = {}
    for chord, back in read_table("opposites.tsv"):
        found.setdefault(chord, set()).add(back)
    return {chord: frozenset(backs) for chord, backs in found.items()}


def takes_back(press: Press, before: Press) -> bool:
    """Whether a press undoes the one before it."""
    if press.at - before.at > TAKEN_BACK or before.quick or before.chord in opposites()[ANY]:
        return False
    if press.does == f"do {STOP}":
        return before.lasting
    return press.chord in opposites()[ANY] or (press.chord in opposites().get(before.chord, ()) and not press.quick)


@dataclass(frozen=True)
class Slip:
    """A press that was taken back; `meant` is the control that was pressed instead, once that is known."""

    press: Press
    meant: str = ""


class SlipWatch:
    """Fed with every press, in order."""

    def __init__(self) -> None:
        self._before: Press | None = None
        self._slipped: tuple[Press, int] | None = None

    def watch(self, press: Press) -> Iterable[Slip]:
        """What this press tells of those before it: that the last was a slip, or what was meant with it."""
        before, self._before = self._before, press
        if self._slipped is not None:
            slip, at = self._slipped
            self._slipped = None
            if (press.at - at <= PUT_RIGHT and press.surface == slip.surface and press.control != slip.control
                    and press.chord not in opposites()[ANY]):
                yield Slip(slip, press.control)
        if before is not None and takes_back(press, before):
            self._slipped = (before, press.at)
            yield Slip(before)
