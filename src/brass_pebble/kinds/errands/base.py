"""What a kind of call is: which threads it is done on, whom it calls, and how."""

from __future__ import annotations

from typing import Protocol

from brass_pebble.core.macro.asks import Errand

from .call import Call

# A remark for the trace, and the answer.
Done = tuple[str, object]


class CallKind(Protocol):
    """A kind of errand that calls somebody outside.  Added by a file, and a row in `table.py`."""

    @property
    def pool(self) -> str:
        """The threads that it is done on; what hangs there holds up nothing of other pools."""

    def whom(self, ask: Errand) -> str:
        """Whom it calls, as the trace tells it: no secret stands in it."""

    def do(self, ask: Errand, call: Call) -> Done:
        """Do it on a thread; every connection comes from `call.connect`.  What came to an end because the call was shut
        is told from a whole answer by `call.left()` behind the last reading.

        Raises:
            OSError, ValueError: it could not be done.
        """


def perform(kind: CallKind, ask: Errand, call: Call) -> Done:
    """Do an errand to its end, whatever comes of it."""
    try:
        done = kind.do(ask, call)
    except (OSError, ValueError) as error:
        done = f"{kind.whom(ask)} could not be reached: {why(error)}", False
    finally:
        call.close()
    # What a library makes of a connection that was shut under it tells nothing; an answer that came in time counts.
    return over(kind, ask, call) if call.over and done[1] is False else done


def over(kind: CallKind, ask: Errand, call: Call) -> Done:
    """What is told of a call that was ended."""
    return f"{kind.whom(ask)} {call.over}", False


def why(error: Exception) -> str:
    """An error in a few words."""
    return str(getattr(error, "strerror", None) or getattr(error, "reason", None) or error)[:200]
