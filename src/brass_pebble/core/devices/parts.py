"""Which parts of a device a surface takes; what it does not take passes as it came.  Pure.

A part is a control of the drawing or a kind of signal (`keys`, `buttons`, `motion`, `wheel`, `dials`, `axes`), always
or only while a layer is on: `back`, `motion while aim`.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keys import is_button
from brass_pebble.core.signals.signal import AXIS, HAT, STRUCK, WHEEL, find_signal

from .layout import Layout

WHILE = " while "
# Stands for parts that were all misspelt: taking the whole device then would be the opposite of what is meant.
NOTHING = "nothing"
# EV_REL codes: X and Y; HWHEEL, WHEEL and their fine steps; Z, RX to RZ and DIAL.
_MOTION, _WHEEL, _DIALS = (0, 1), (6, 8, 11, 12), (2, 3, 4, 5, 7, 9)
# The fine steps that come along with a wheel's notches.
FINE_STEPS = {6: 12, 8: 11}


def _rel(codes: tuple[int, ...]) -> Callable[[int], bool]:
    return lambda signal: signal - WHEEL.first in codes


GROUPS: dict[str, Callable[[int], bool]] = {
    "keys": lambda signal: signal < STRUCK and not is_button(signal),
    "buttons": lambda signal: (signal < STRUCK and is_button(signal)) or HAT.first <= signal <= HAT.last,
    "motion": _rel(_MOTION),
    "wheel": _rel(_WHEEL),
    "dials": _rel(_DIALS),
    "axes": lambda signal: AXIS.first <= signal <= AXIS.last,
}


@dataclass(frozen=True)
class Part:
    """A part that is taken: a control's id, a signal's name or a word of `GROUPS`, and the layer while which it is
    taken, if not always."""

    what: str
    layer: str = ""

    def __str__(self) -> str:
        return self.what + (f"{WHILE}{self.layer}" if self.layer else "")


def signals_of(layout: Layout, control: str) -> frozenset[int]:
    """Every signal of a control, the fine steps of a wheel among them; one that is not drawn is a signal's name."""
    found = {signal for item in layout.controls if item.id == control
             for signal in (item.code, *item.moves, *item.beside)}
    if not found:
        try:
            found = {find_signal(control)}
        except ProblemError:
            return frozenset()
    fine = {WHEEL.first + FINE_STEPS[signal - WHEEL.first] for signal in found if signal - WHEEL.first in FINE_STEPS}
    return frozenset(found | fine)


def read_part(text: str) -> Part:
    """`back`, `motion while aim`."""
    what, _, layer = " ".join(text.split()).partition(WHILE)
    return Part(what, layer)


def taker(parts: Collection[Part], layout: Layout, stack: Collection[str] | None) -> Callable[[int], bool]:
    """What tells whether a signal is taken while the layers of `stack` are on (None: while any are).

    Without parts, all are.
    """
    if not parts:
        return lambda signal: True
    wanted = [part.what for part in parts if not part.layer or stack is None or part.layer in stack]
    groups = [GROUPS[what] for what in wanted if what in GROUPS]
    signals = frozenset(signal for what in wanted if what not in GROUPS for signal in signals_of(layout, what))
    return lambda signal: signal in signals or any(group(signal) for group in groups)


@dataclass(frozen=True)
class Shares:
    """What of a device's signals a surface may ever take, and what it always takes."""

    ever: Callable[[int], bool]
    always: Callable[[int], bool]
