"""From what an axis or a knob reports to where it is, and from there to steps, directions and zones.  Pure arithmetic.

Positions are shares of the way: 0 to 1 for things that rest at one end (knobs, sliders, triggers), -1 to 1 for things
that rest in the middle (sticks, bends).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from fractions import Fraction

from brass_pebble.core.say.durations import MS
from brass_pebble.core.say.setting import Flag, Number, Share, Time, read_all, setting, settings_of
from brass_pebble.core.say.toml_fields import Fields

LONGEST_SMOOTH = 500 * MS
# How often a smoothed axis moves on while nothing new arrives, and how near it is when it has arrived.
SMOOTH_EVERY, ARRIVED = 8 * MS, 1 / 500
WAYS = ("left", "right", "up", "down")
# Sine of 22.5 degrees: where a straight direction becomes a diagonal one; and how far it has to go back.
DIAGONAL, DIAGONAL_GAP = 0.3827, 0.07
ZONE_GAP = 0.01
_RAW = Number(-2**31, 2**31, whole=True)


@dataclass(frozen=True)
class AxisSettings:
    """How an axis is read: shares of the way, 0 to 1, `curve` the exponent of its response, `smooth` in ns."""

    dead: float = setting(0.0, Share(0.0, 0.9), "how far from its rest it counts as resting", "dead zone")
    full: float = setting(1.0, Share(0.1, 1.0), "where it counts as at its end, if it never gets there", "full at")
    curve: float = setting(1.0, Number(0.1, 10.0, hint="1 is straight, 2 is fine near the rest"),
                           "1 is straight, above is fine near the rest, below is quick", "curve")
    invert: bool = setting(False, Flag(), "left for right, down for up", "turned round")
    smooth: int = setting(0, Time(most=LONGEST_SMOOTH, why=", or everything would be late",
                                  hint="Most need 10 to 50 ms", bends=True),
                          "evens out jitter, and adds as much delay", "smoothing")
    still: float = setting(1 / 256, Share(0.0, 0.2), "smaller changes say nothing", "stillness")
    threshold: float = setting(0.5, Share(0.05, 0.95), "from here on it counts as pressed, or pushed", "pressed at")
    gap: float = setting(0.1, Share(0.01, 0.5), "so far below it counts as let go", "let go below by")
    low: int | None = setting(None, _RAW, "raw value at the lower end, where the device's own does not hold")
    centre: int | None = setting(None, _RAW, "raw value at rest, for what rests in the middle")
    high: int | None = setting(None, _RAW, "raw value at the upper end")

    def shape(self, position: float) -> float:
        """The response to a position, not turned round: monotonous, 0 in the dead zone, 1 from `full` on."""
        size = abs(position)
        if size <= self.dead:
            return 0.0
        size = float(min(1.0, (size - self.dead) / max(1e-9, self.full - self.dead)) ** self.curve)
        return -size if position < 0 else size

    def respond(self, position: float, *, centred: bool) -> float:
        """The response, turned round where that is wanted."""
        shaped = self.shape(position)
        return shaped if not self.invert else -shaped if centred else 1.0 - shaped


PLAIN = AxisSettings()
# How a stick behaves unless its desk says otherwise: they never rest quite in the middle nor reach their ends.
STICK = AxisSettings(dead=0.12, full=0.95, threshold=0.5)


def read_settings(fields: Fields, default: AxisSettings) -> AxisSettings:
    """The settings of one axis from its table; what is wrong is reported and left as it was."""
    found = read_all(AxisSettings, fields, {row.name: getattr(default, row.name)
                                            for row in settings_of(AxisSettings).values()})
    fields.done()
    settings = AxisSettings(**found)
    if settings.low is not None and settings.high is not None and settings.high <= settings.low:
        fields.problem("high", "“high” must be above “low”", "Move it to both ends once more with the calibration")
        return replace(settings, low=None, centre=None, high=None)
    return settings


@dataclass(frozen=True)
class Scale:
    """The raw values at both ends, and for things that rest in the middle, there."""

    low: int
    high: int
    centre: int | None = None

    def place(self, raw: int) -> float:
        """The position of a raw value; beyond an end is at the end."""
        if self.centre is None:
            return min(1.0, max(0.0, (raw - self.low) / (self.high - self.low)))
        side = self.high - self.centre if raw >= self.centre else self.centre - self.low
        return min(1.0, max(-1.0, (raw - self.centre) / max(1, side)))

    def share(self, raw: int) -> Fraction:
        """The exact way from the lower end, 0 to 1."""
        return min(Fraction(1), max(Fraction(0), Fraction(raw - self.low, self.high - self.low)))

    def fitted(self, settings: AxisSettings) -> Scale:
        """The same with what the person has measured."""
        low = self.low if settings.low is None else settings.low
        high = self.high if settings.high is None else settings.high
        if high <= low:
            low, high = self.low, self.high
        if self.centre is None:
            return Scale(low, high)
        centre = settings.centre if settings.centre is not None else \
            self.centre if (low, high) == (self.low, self.high) else (low + high + 1) // 2
        return Scale(low, high, min(high, max(low, centre)))


@dataclass
class Detents:
    """Counts whole steps of `each`: a share of the way, or for wheels that only tell changes, so many counts.

    Exact: a way there and back gives the same number of steps, and turning back needs a whole step again, so that an
    axis that jitters between two values gives none.
    """

    each: Fraction
    anchor: Fraction | None = None

    def to(self, place: Fraction) -> int:
        """It is at `place` now: how many steps that were, negative to the left."""
        if self.anchor is None:
            # The first report tells where it is, not that it was turned; detents lie at whole multiples.
            self.anchor = place // self.each * self.each
            return 0
        steps = int((place - self.anchor) / self.each)
        self.anchor += steps * self.each
        return steps

    def by(self, change: int) -> int:
        """It was turned by so many counts; what is not a whole step yet is kept."""
        self._place += change
        if self.anchor is None:
            self.anchor = Fraction(0)
        return self.to(Fraction(self._place))

    _place: int = 0


def directions(x: float, y: float, active: frozenset[str], settings: AxisSettings) -> frozenset[str]:
    """Which of left, right, up and down a stick is pushed to, at most two of them; `y` grows downward.

    It has to pass the threshold to count and to come back below threshold less gap to end; the borders between
    straight and diagonal have a gap, too.
    """
    reach = math.hypot(x, y)
    limit = settings.threshold - (settings.gap if active else 0.0)
    if reach <= max(limit, settings.dead):
        return frozenset()
    found = set()
    for name, part in (("left", -x), ("right", x), ("up", -y), ("down", y)):
        border = DIAGONAL - DIAGONAL_GAP if name in active else DIAGONAL
        if part / reach > border:
            found.add(name)
    return frozenset(found)


def pressed(position: float, down: bool, settings: AxisSettings) -> bool:
    """Whether an axis counts as pressed: beyond its threshold, until it has come back by the gap."""
    return abs(position) > (settings.threshold - settings.gap if down else settings.threshold)


def in_zone(position: float, low: float, high: float, inside: bool) -> bool:
    """Whether a position (0 to 1) lies in a zone; leaving it needs to go a little further than entering."""
    slack = ZONE_GAP if inside else 0.0
    return (low - slack <= position or low <= 0.0) and (position < high + slack or high >= 1.0)


def smoothed(shown: float, target: float, passed: int, settings: AxisSettings) -> float:
    """Where a smoothed axis is `passed` ns after it was at `shown`."""
    if settings.smooth <= 0:
        return target
    value = target + (shown - target) * math.exp(-passed / settings.smooth)
    return target if abs(value - target) < ARRIVED else value


@dataclass
class Calibration:
    """Finds the ends and the middle of an axis while it is moved: the first value is where it rests."""

    centre: int | None = None
    low: int = 0
    high: int = 0

    def see(self, raw: int) -> None:
        """It reported `raw`."""
        if self.centre is None:
            self.centre = self.low = self.high = raw
        self.low, self.high = min(self.low, raw), max(self.high, raw)

    def result(self, settings: AxisSettings, *, centred: bool) -> AxisSettings | None:
        """The settings with what was seen; None if it was hardly moved."""
        if self.centre is None or self.high - self.low < 8:
            return None
        return replace(settings, low=self.low, high=self.high, centre=self.centre if centred else None)
