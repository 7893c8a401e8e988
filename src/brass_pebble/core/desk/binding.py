"""Bindings: layer + control + gesture → action.  Data only."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction

from brass_pebble.core.play.player import FOR_EVER, Manner
from brass_pebble.core.say.durations import MS

from .action import Action

PLAYS = re.compile(r"once|while held|until pressed again|[1-9][0-9]{0,4} times")
POLICIES = ("start over", "ignore", "queue", "both")
# How often `rapid` taps, unless it says so; its fastest; in ns.
RAPID_EVERY, RAPID_FASTEST = 100 * MS, 20 * MS


@dataclass(frozen=True)
class Binding:
    """layer + control + gesture → action, with what stands on the cap.

    Times in ns, 0 where the surface's own count: `hold_after` for a hold, `second_within` for a double tap.  A double
    tap that `adds` leaves the first tap its meaning at once.  `every` is the time from one tap to the next of `rapid`,
    `back` the time after which a cycle begins anew (0: never).  `each` is how far a turn goes for one step: a share of
    the way below 1, else counts of a knob without ends (0: the usual).  With `by_strength`, `rapid` taps the faster the
    further a stick is pushed.  `icon` is what its label on paper shows (empty: what its words suggest).  One that
    is `asleep` came from somebody else, reaches outside the keyboard, and does nothing before it is approved.
    """

    control: str
    gesture: str
    action: Action
    label: str = ""
    tint: str = ""
    note: str = ""
    plays: str = "once"
    again: str = ""
    hold_after: int = 0
    second_within: int = 0
    adds: bool = False
    every: int = 0
    back: int = 0
    each: Fraction = Fraction(0)
    by_strength: bool = False
    icon: str = ""
    asleep: bool = False

    @property
    def manner(self) -> Manner:
        """How a press plays it; `again` is the macro's own unless the binding says otherwise."""
        again = self.again or "start over"
        if self.plays == "while held":
            return Manner(again, FOR_EVER, while_held=True)
        if self.plays == "until pressed again":
            return Manner("end", FOR_EVER)
        if self.plays != "once":
            return Manner(again, int(self.plays.split()[0]))
        return Manner(again)

