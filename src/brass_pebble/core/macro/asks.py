"""What a run wants from the world outside: time to pass, a window, a job done.  Answered by the engine."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, ClassVar, cast

from brass_pebble.core.say.problem import ProblemError


@dataclass(frozen=True)
class Ask:
    """A run stops here until it is answered; `line` is where it stands.

    Each class says in its own body what it `reach`es, in words, or nothing where a stranger's run may ask it.
    """

    reach: ClassVar[str]
    line: int

    def __init_subclass__(cls) -> None:
        super().__init_subclass__()
        if not isinstance(cls.__dict__.get("reach"), str):
            raise TypeError(f"{cls.__name__} has to say what it reaches: reach = words, or nothing")

    @property
    def told(self) -> str:
        """What the lanes call it: its kind, and what more is worth telling."""
        return type(self).__name__.lower()


@dataclass(frozen=True)
class CatchUp(Ask):
    """Go on when everything laid so far has been sent."""

    reach: ClassVar[str] = ""


@dataclass(frozen=True)
class Window(Ask):
    """Whether a window is there, focused, or gone, now (limit 0) or within `limit` ns.  Answered with true or false.

    `pattern` is a part of the title, or with `by_class` of the window's class; * stands for anything.
    """

    reach: ClassVar[str] = "looks for a window"
    limit: int
    by_class: bool
    pattern: str
    focused: bool
    gone: bool = False


@dataclass(frozen=True)
class Look(Ask):
    """Whether a place of the screen, or the middle of a region, has a colour, now (limit 0) or within `limit` ns.
    Answered with true or false.

    `place` and `size` are pixels, or per cent of the screen with a %; `colour` is six hex digits; each of red, green
    and blue may differ by `tolerance` (0 to 255).
    """

    reach: ClassVar[str] = "looks at the screen"
    limit: int
    place: tuple[str, str]
    size: tuple[str, str]
    colour: str
    tolerance: int


@dataclass(frozen=True)
class Program(Ask):
    """Whether a program runs (or is gone), now (limit 0) or within `limit` ns.  Answered with true or false."""

    reach: ClassVar[str] = "looks for a program"
    limit: int
    name: str
    gone: bool


@dataclass(frozen=True)
class Errand(Ask):
    """Something to be done by the engine when the run comes to it.  `wait` for its end; answered with true or false.

    Kinds: speak, ring, show, run, shell, request, osc, paste, restore, play, stop, layer, asleep; and what is waited
    for and answered with a text (false if it cannot be had): secret, read clipboard, read title, read file,
    read command, read shell; and with true or false: window …, open, close program.
    """

    reach: ClassVar[str] = "asks something of the world"
    kind: str
    words: tuple[str, ...]
    wait: bool = False
    limit: int = 0

    @property
    def told(self) -> str:
        return " ".join((self.kind, *self.words))


@dataclass(frozen=True)
class Question(Ask):
    """Something that a person is asked.  Answered with a value that fits (`read_answer`), or with nothing: then `limit`
    ns have passed, or somebody would not say.

    `kind` is what the answer has to be; numbers lie between `low` and `high`, texts are one of `choices`, where there
    are such.  `proposal` stands there to be accepted; `proposes` says where another one comes from: "last" or
    "clipboard".
    """

    reach: ClassVar[str] = ""
    name: str
    words: str
    kind: str
    limit: int
    low: int | Decimal | None = None
    high: int | Decimal | None = None
    choices: tuple[str, ...] = ()
    proposal: str = ""
    proposes: str = ""

    @property
    def told(self) -> str:
        return f"ask {self.name}"


# Errands that a stranger's run may ask for: they stay in this program, and tell rather than do.
STAY_INSIDE = frozenset(("show", "ring", "layer", "asleep"))


def reach_of_ask(ask: Ask) -> str:
    """What is asked of the world, in words; nothing if a stranger's run may ask it, too."""
    if isinstance(ask, Errand) and ask.kind in STAY_INSIDE:
        return ""
    if isinstance(ask, Question) and ask.proposes == "clipboard":
        return "reads the clipboard"
    return ask.reach


# A step laying itself: stops at each question, and goes on with its answer.
Laying = Generator[Ask, Any, None]
Deciding = Generator[Ask, Any, bool]
# For a step that asks nothing and is laid for each press: a generator would cost it more than what it does.
NOTHING_ASKED: Laying = cast(Laying, ())


class Finish(Exception):
    """The run ends here as it should."""


class Unforeseen(ProblemError):
    """Something cannot be reckoned with the values of this run; with others it can."""


class GaveUp(Exception):
    """The run cannot go on; `line` and the text say where and why."""

    def __init__(self, line: int, why: str) -> None:
        super().__init__(why)
        self.line = line
