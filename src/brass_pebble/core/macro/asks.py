"""What a run wants from the world outside: time to pass, a window, a job done.  Answered by the engine."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Ask:
    """A run stops here until it is answered; `line` is where it stands."""

    line: int


@dataclass(frozen=True)
class CatchUp(Ask):
    """Go on when everything laid so far has been sent."""


@dataclass(frozen=True)
class Window(Ask):
    """Whether a window is there, or focused, now (limit 0) or within `limit` ns.  Answered with true or false.

    `pattern` is a part of the title, or with `by_class` of the window's class; * stands for anything.
    """

    limit: int
    by_class: bool
    pattern: str
    focused: bool


@dataclass(frozen=True)
class Errand(Ask):
    """Something to be done by the engine when the run comes to it.  `wait` for its end; answered with true or false.

    Kinds: say, beep, show, run, shell, request, osc, paste, restore, play, stop, layer, asleep.
    """

    kind: str
    words: tuple[str, ...]
    wait: bool = False
    limit: int = 0


# A step laying itself: stops at each question, and goes on with its answer.
Laying = Generator[Ask, Any, None]
Deciding = Generator[Ask, Any, bool]
