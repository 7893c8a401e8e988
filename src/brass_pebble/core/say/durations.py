"""Durations with a unit, read into nanoseconds and written back in words."""

from __future__ import annotations

import re
import time
from fractions import Fraction
from functools import lru_cache

from .problem import ProblemError

UNITS = {"us": 1_000, "µs": 1_000, "ms": 1_000_000, "s": 1_000_000_000, "min": 60_000_000_000}
MS = UNITS["ms"]
SECOND = UNITS["s"]
LONGEST = 24 * 60 * UNITS["min"]
_SHAPE = re.compile(r"([-+]?)(\d+(?:\.\d+)?|\.\d+)\s*([A-Za-zµ]*)")


@lru_cache(maxsize=4096)
def parse_duration(text: str) -> int:
    """Nanoseconds of `300ms`, `1.5s`, `250us` or `2min`.

    Raises:
        ProblemError: no number, no unit, an unknown unit, below zero, or longer than a day.
    """
    match = _SHAPE.fullmatch(text.strip())
    if not match:
        raise ProblemError(f"“{text}” is not a duration", hint="Write a number with a unit, like 300ms or 1.5s")
    sign, number, unit = match.groups()
    if not unit:
        raise ProblemError(f"“{text}” has no unit", hint=f"Write {number}ms or {number}s")
    if unit not in UNITS:
        raise ProblemError(f"“{unit}” is not a unit of time", hint="The units are us, ms, s and min")
    if sign == "-":
        raise ProblemError(f"“{text}” is below zero", hint="Time only runs forward: use 0ms or more")
    value = int(number) * UNITS[unit] if number.isdigit() else int(Fraction(number) * UNITS[unit])
    if value > LONGEST:
        raise ProblemError(f"“{text}” is longer than a day", hint="The longest duration is 1440min")
    return value


def say_duration(ns: int) -> str:
    """A duration for people: `0.3 ms`, `40 ms`, `1.84 s`, `2 min 5 s`."""
    if ns < 10 * MS:
        return f"{ns / MS:.1f} ms".replace(".0 ms", " ms")
    if ns < SECOND:
        return f"{ns / MS:.0f} ms"
    if ns < 60 * SECOND:
        return f"{ns / SECOND:.2f}".rstrip("0").rstrip(".") + " s"
    minutes, rest = divmod(ns, 60 * SECOND)
    return f"{minutes} min {rest // SECOND} s"


def write_duration(ns: int) -> str:
    """A duration as macros and desks write it, exactly: `300ms`, `1.5s`, `2min`."""
    for unit in ("min", "s", "ms"):
        size = UNITS[unit]
        if ns >= size and ns * 1000 % size == 0:
            return f"{ns / size:.3f}".rstrip("0").rstrip(".") + unit
    return f"{ns / UNITS['us']:.3f}".rstrip("0").rstrip(".") + "us" if ns else "0ms"

def clock(at: float) -> str:
    """Time of day of seconds since 1970, with milliseconds."""
    return time.strftime("%H:%M:%S", time.localtime(at)) + f".{int(at * 1000) % 1000:03d}"
