"""What a run wants from the world outside: time to pass, a window, a job done.  Answered by the engine."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass, field
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

    Kinds: speak, ring, show, run, shell, request, osc, paste, restore, play, stop, layer, asleep.
    """

    kind: str
    words: tuple[str, ...]
    wait: bool = False
    limit: int = 0


# A step laying itself: stops at each question, and goes on with its answer.
Laying = Generator[Ask, Any, None]
Deciding = Generator[Ask, Any, bool]

class Finish(Exception):
    """The run ends here as it should."""



class GaveUp(Exception):
    """The run cannot go on; `line` and the text say where and why."""

    def __init__(self, line: int, why: str) -> None:
        super().__init__(why)
        self.line = line

@dataclass
class Given:
    """What a run begins with: the values of its press, and what its clock says.

    `held_ms(now)` tells for how long the control has been down at a time from the run's start, in ns.
    """

    values: dict[str, int] = field(default_factory=lambda: {"strength": 127, "position": 0, "number": 0})
    held_ms: Callable[[int], int] = lambda now: now // 1_000_000
    is_held: Callable[[], bool] = lambda: False
