"""What was done to one control: press, tap, double tap, hold, release.

A state machine given by a table (drawn in docs/gestures.md, which is made from it).  Pure: what happens and when are
arguments.  A control on which only some gestures are bound never waits for the others.
"""

from __future__ import annotations

import re
from collections.abc import Container
from dataclasses import dataclass

from brass_pebble.core.say.durations import MS

PRESS, TAP, DOUBLE, HOLD, RELEASE = "press", "tap", "double tap", "hold", "release"
GESTURES = (PRESS, TAP, DOUBLE, HOLD, RELEASE)
# A gesture of one control together with another one that is held down: "with 0", "with pedals/left".
WITH = "with "
# What is done to things that move.  A turn is one step; a push and a zone go on for as long as it is there; "move" is
# every change of the position.
TURN_LEFT, TURN_RIGHT, MOVE = "turn left", "turn right", "move"
PUSHES = ("push left", "push right", "push up", "push down")
MOTIONS = (TURN_LEFT, TURN_RIGHT, *PUSHES, MOVE)
# "strike 1 to 79": a press with a strength between these (1 to 127); "at 0 to 33 %": the position lies there.
STRIKE, AT = "strike ", "at "
_BAND = re.compile(r"(strike|at) (\d{1,3}) to (\d{1,3})( %)?")
# The defaults of a desk, in ns.
HOLD_AFTER, SECOND_WITHIN = 250 * MS, 200 * MS
LONGEST_WAIT = 5_000 * MS

# States of a control.
UP, DOWN, HELD, WAITING, AGAIN, USED = "up", "down", "held", "waiting", "again", "used"
STATES = {
    UP: "at rest",
    DOWN: "down; may become a tap or a hold",
    HELD: "down for so long that it was a hold",
    WAITING: "let go; a second tap may follow",
    AGAIN: "down for the second time",
    USED: "down, and another control answered together with it, or everything was stopped",
}
# What can happen to it: it goes down or up, its time is over, another control of its surface goes down, another
# control answers together with it, everything is stopped, its device goes away.
EVENTS = ("down", "up", "time", "other", "used", "stop", "gone")


@dataclass(frozen=True)
class Rule:
    """In `state`, when `event` happens and `wants` are all bound (with ! before it: is not): go `to` another state.

    `makes` are the gestures made by it; `timer` starts the time that ends with the event "time": "hold" or "second".
    """

    state: str
    event: str
    wants: tuple[str, ...]
    to: str
    makes: tuple[str, ...] = ()
    timer: str = ""


TABLE = (
    Rule(UP, "down", (HOLD,), DOWN, (PRESS,), "hold"),
    Rule(UP, "down", (), DOWN, (PRESS,)),
    Rule(DOWN, "time", (), HELD, (HOLD,)),
    Rule(DOWN, "up", (DOUBLE, "adds"), WAITING, (TAP, RELEASE), "second"),
    Rule(DOWN, "up", (DOUBLE,), WAITING, (RELEASE,), "second"),
    Rule(DOWN, "up", (), UP, (TAP, RELEASE)),
    Rule(DOWN, "used", (), USED),
    Rule(DOWN, "stop", (), USED),
    Rule(DOWN, "gone", (), UP, (RELEASE,)),
    Rule(HELD, "up", (), UP, (RELEASE,)),
    Rule(HELD, "gone", (), UP, (RELEASE,)),
    Rule(WAITING, "down", (), AGAIN, (PRESS, DOUBLE)),
    Rule(WAITING, "time", ("adds",), UP),
    Rule(WAITING, "time", (), UP, (TAP,)),
    Rule(WAITING, "other", ("adds",), UP),
    Rule(WAITING, "other", (), UP, (TAP,)),
    Rule(WAITING, "gone", ("adds",), UP),
    Rule(WAITING, "gone", (), UP, (TAP,)),
    Rule(WAITING, "stop", (), UP),
    Rule(AGAIN, "up", (), UP, (RELEASE,)),
    Rule(AGAIN, "gone", (), UP, (RELEASE,)),
    Rule(USED, "up", (), UP, (RELEASE,)),
    Rule(USED, "gone", (), UP, (RELEASE,)),
)
_BY_PLACE: dict[tuple[str, str], list[Rule]] = {}
for _rule in TABLE:
    _BY_PLACE.setdefault((_rule.state, _rule.event), []).append(_rule)


@dataclass
class Recogniser:
    """One control's state.  `bound` are the gestures that mean something, with "adds" if a tap does not wait for a
    second one; `due` is when the event "time" has to be fed, in ns, 0 for never."""

    bound: Container[str] = ()
    hold_after: int = HOLD_AFTER
    second_within: int = SECOND_WITHIN
    state: str = UP
    due: int = 0

    def feed(self, event: str, at: int) -> tuple[str, ...]:
        """Something happened at `at` (ns): the gestures that it made, bound or not, in their order.

        What cannot happen in this state changes nothing.
        """
        for rule in _BY_PLACE.get((self.state, event), ()):
            if all(wanted in self.bound for wanted in rule.wants):
                self.state = rule.to
                wait = {"hold": self.hold_after, "second": self.second_within, "": 0}[rule.timer]
                self.due = at + wait if wait else 0
                return rule.makes
        return ()


def read_band(gesture: str) -> tuple[int, int] | None:
    """The two numbers of a gesture like "strike 1 to 79" or "at 0 to 33 %"; None if it is not well formed."""
    match = _BAND.fullmatch(gesture)
    if not match or (match[1] == "at") != bool(match[4]):
        return None
    low, high = int(match[2]), int(match[3])
    limits = (0, 100) if match[4] else (1, 127)
    return (low, high) if limits[0] <= low < high + (not match[4]) and high <= limits[1] else None


def is_part(gesture: str) -> bool:
    """Whether it is done to a part of what moves, which is then pressed and let go like a key."""
    return gesture in (TURN_LEFT, TURN_RIGHT, *PUSHES) or gesture.startswith(AT)


def ends_at_once(gesture: str) -> bool:
    """Whether there is nothing to hold: it is over when it is made."""
    return gesture in (TAP, RELEASE, TURN_LEFT, TURN_RIGHT)


def rank(gesture: str) -> tuple[int, int, str]:
    """The order in which gestures are listed: presses, strikes by strength, motions, zones by place."""
    if gesture in GESTURES:
        return 0, GESTURES.index(gesture), ""
    if gesture.startswith((STRIKE, AT)):
        band = read_band(gesture) or (0, 0)
        return (1 if gesture.startswith(STRIKE) else 3), band[0], gesture
    return (2, MOTIONS.index(gesture), "") if gesture in MOTIONS else (4, 0, gesture)


def needs_care(bound: Container[str]) -> bool:
    """Whether these gestures need more than answering a press at once."""
    return any(gesture in bound for gesture in GESTURES[1:])
