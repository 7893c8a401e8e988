"""What a kind of errand is: one thing asked of the world by a run, with one deadline for the whole of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar, Protocol

from brass_pebble.core.macro.asks import Ask, Errand

from .call import Call
from .helpers import Helpers
from .pasting import Pasting

# A remark for the trace, and the answer.
Done = tuple[str, object]
MS = 1_000_000
# What an errand may take where nothing is said of it; and what is added for those that keep to a limit by themselves,
# in ns.
USUAL, SLACK = 5_000 * MS, 400 * MS


class SpeakingTold(Protocol):
    """Whoever wants to know when the program speaks."""

    def __call__(self, *, begins: bool) -> None: ...


@dataclass
class World:
    """What errands share: programs that are waited for, the clipboard, the desk's folder, secrets (by name), whether
    redirects may lead anywhere, and who is told when the program speaks."""

    helpers: Helpers
    pasting: Pasting
    folder: Callable[[], Path]
    secret: Callable[[str], str]
    anywhere: Callable[[], bool]
    spoken: SpeakingTold


class ErrandKind(Protocol):
    """A kind of errand.  Added by a file, and a row in `table.py`.

    `fields` are what its words are, in their order; the last may stand for any number of them (`argument…`).  `pool`
    names the threads that it is done on (table.py): what hangs there holds up nothing of other pools.  `reach` is what
    it does outside, in words.
    """

    fields: ClassVar[tuple[str, ...]]
    pool: ClassVar[str]
    reach: ClassVar[str]
    # Whether it tells by itself what became of it when it was ended.
    tells: ClassVar[bool]

    def limit(self, ask: Ask) -> int:
        """What it may take in all, in ns; then the run goes on, whatever becomes of it."""

    def whom(self, ask: Ask) -> str:
        """Whom it asks, as the trace tells it: no secret stands in it."""

    def do(self, ask: Ask, call: Call) -> Done:
        """Do it on a thread.  What it waits for is ended by `call` when the time is over or the run is stopped:
        connections come from `call.connect`, anything else is given to `call.at_end`.

        Raises:
            OSError, ValueError: it could not be done.
        """


def usual_limit(ask: Ask) -> int:
    """An errand's own limit, or the usual one."""
    return (ask.limit if isinstance(ask, Errand) else 0) or USUAL


def fits(fields: tuple[str, ...], words: tuple[str, ...]) -> bool:
    """Whether words are what a kind declares."""
    if fields and fields[-1].endswith("…"):
        return len(words) >= len(fields) - 1
    return len(words) == len(fields)


def perform(kind: ErrandKind, ask: Ask, call: Call) -> Done:
    """Do an errand to its end, whatever comes of it."""
    if isinstance(ask, Errand) and not fits(kind.fields, ask.words):
        return f"{ask.kind} needs {', '.join(kind.fields)}, and got {len(ask.words)} words", False
    try:
        done = kind.do(ask, call)
    except (OSError, ValueError) as error:
        done = f"{kind.whom(ask)} could not be reached: {why(error)}", False
        if isinstance(error, TimeoutError):
            call.ends_if_up()
    finally:
        call.close()
    # What a library makes of a connection that was shut under it tells nothing; an answer that came in time counts.
    return over(kind, ask, call) if call.over and done[1] is False and not kind.tells else done


def over(kind: ErrandKind, ask: Ask, call: Call) -> Done:
    """What is told of an errand that was ended."""
    return f"{kind.whom(ask)} {call.over}", False


def why(error: Exception) -> str:
    """An error in a few words."""
    return str(getattr(error, "strerror", None) or getattr(error, "reason", None) or error)[:200]
