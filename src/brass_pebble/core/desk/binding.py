"""Bindings: layer + control + gesture → action.  Data only."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from brass_pebble.core.effects.gate import Rights
from brass_pebble.core.label.icons import check_icon
from brass_pebble.core.play.gesture import DOUBLE, HOLD, LONGEST_WAIT, MOVE, PUSHES, TURN_LEFT, TURN_RIGHT
from brass_pebble.core.play.player import FOR_EVER, Manner
from brass_pebble.core.say.durations import MS
from brass_pebble.core.say.limits import LONGEST_FAR, LONGEST_LABEL, label_length
from brass_pebble.core.say.setting import Choice, Flag, Setting, Stride, Text, Time, pattern, setting
from brass_pebble.core.say.tints import TINTS

from .action import ACTION_KINDS, Action

POLICIES = ("start over", "ignore", "queue", "both")
# How often `rapid` taps, unless it says so; its fastest; in ns.
RAPID_EVERY, RAPID_FASTEST = 100 * MS, 20 * MS
# The time of a hold or a double tap, and what panels propose.
WAIT = Time(20 * MS, LONGEST_WAIT, hint="Most people use 150 to 400 ms")
WAITS = ("", "120ms", "150ms", "180ms", "200ms", "250ms", "300ms", "400ms", "500ms", "700ms", "1s")
RATES = ("", "40ms", "50ms", "80ms", "100ms", "150ms", "200ms", "300ms", "500ms")
MANNERS = ("once", "while held", "until pressed again", "2 times", "3 times", "5 times", "10 times")
MANNER = Text(check=pattern("once|while held|until pressed again|[1-9][0-9]{0,4} times", "a way to play",
                            "Write once, while held, until pressed again, or 3 times"),
              what='`"once"`, `"while held"`, `"until pressed again"`, `"3 times"`')
OF_SURFACE = {"": "the surface's setting"}
TURNS = (TURN_LEFT, TURN_RIGHT, MOVE)


@dataclass(frozen=True)
class Binding:
    """layer + control + gesture → action, with what stands on the cap.

    Times in ns, 0 where the surface's own count.  `each` is a share of the way below 1, else counts of a knob without
    ends, 0 for the usual.  One that came from somebody else has `rights`; if it reaches outside the keyboard, it is
    `asleep`, and does nothing before it is approved.
    """

    control: str
    gesture: str
    action: Action
    label: str = setting("", Text(LONGEST_LABEL, measure=label_length),
                         "what stands on its cap; without it, the action's own", "label")
    far: str = setting("", Text(LONGEST_FAR, measure=label_length),
                       "a short form of its label, for large letters; without it, the label", "large letters")
    tint: str = setting("", Choice(TINTS), "its tint; without it, its macro's", "tint", proposals=("", *TINTS))
    note: str = setting("", Text(), "a note for yourself", "note")
    plays: str = setting("once", MANNER, "how a press plays a macro", "plays", proposals=MANNERS)
    again: str = setting("", Choice(POLICIES), "what a press does while the macro plays; without it, as the macro "
                         "says", "if pressed again while playing", proposals=("", *POLICIES),
                         shown={"": "the macro's setting"})
    hold_after: int = setting(0, WAIT, "how long it is down until it is a hold", "held for", proposals=WAITS,
                              shown=OF_SURFACE, only=(HOLD,))
    second_within: int = setting(0, WAIT, "how soon the second tap has to come", "second tap within", proposals=WAITS,
                                 shown=OF_SURFACE, only=(DOUBLE,))
    adds: bool = setting(False, Flag(), "whether the first tap of a double tap keeps its meaning at once", "first tap",
                         proposals=(False, True), shown={False: "waits", True: "acts at once"}, only=(DOUBLE,))
    every: int = setting(0, Time(RAPID_FASTEST, why=": no program keeps up with faster taps", bends=True),
                         "the time from one tap of `rapid` to the next; 100 ms without it", "rapid: every",
                         proposals=RATES)
    back: int = setting(0, Time(), "after this time a cycle starts again; without it never", "first again after",
                        proposals=("", "2s", "5s", "10s", "20s", "60s"))
    each: Fraction = setting(Fraction(0), Stride(), "how far one step of a turn is", "one step each", only=TURNS,
                             proposals=("", *("1 %", "2 %", "4 %", "5 %", "10 %", "20 %", "25 %"), *"23468"))
    by_strength: bool = setting(False, Flag(), "whether `rapid` taps the faster the further a stick is pushed",
                                "speed", proposals=(False, True), only=PUSHES,
                                shown={False: "always as fast", True: "the faster the further"})
    icon: str = setting("", Text(check=check_icon, what="name of an icon"),
                        "what its label on paper shows; without it, what its words suggest", "icon")
    asleep: bool = False
    rights: Rights | None = None

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


_OF_SOME = frozenset(name for kind in ACTION_KINDS.values() for name in kind.settings)


def fits(row: Setting, kind: str, gesture: str) -> bool:
    """Whether a binding of this kind of action to this gesture has a setting."""
    return (not row.only or gesture in row.only) and (
        row.name not in _OF_SOME or (kind in ACTION_KINDS and row.name in ACTION_KINDS[kind].settings))
