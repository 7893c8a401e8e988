"""What can be wrong with a file, told to a person."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from dataclasses import asdict, dataclass


@dataclass(frozen=True)
class Problem:
    """One thing wrong in one place, with the next step.

    `line` and `column` count from 1; 0 means that the whole file is meant.
    """

    what: str
    file: str = ""
    line: int = 0
    column: int = 0
    hint: str = ""

    @property
    def place(self) -> str:
        """Where it is, as tools write it: FILE:LINE:COLUMN, as far as it is known."""
        return ":".join([self.file, *(str(number) for number in (self.line, self.line and self.column) if number)])

    def __str__(self) -> str:
        text = f"{self.place}: {self.what}" if self.place else self.what
        return f"{text}. {self.hint}" if self.hint else text

    def as_dict(self) -> dict[str, object]:
        """The same for JSON."""
        return asdict(self)


class ProblemError(Exception):
    """Carries a `Problem` out of a reader."""

    def __init__(self, what: str, *, line: int = 0, column: int = 0, hint: str = "", file: str = "") -> None:
        self.problem = Problem(what, file, line, column, hint)
        super().__init__(str(self.problem))


class ConflictError(ProblemError):
    """What is to be changed was changed by somebody else meanwhile."""


def nearest(word: str, known: Iterable[str]) -> str:
    """A hint naming the known word most like `word`, or an empty string when none is near."""
    by_folded = {name.casefold(): name for name in known}
    folded = word.casefold()
    close = difflib.get_close_matches(folded, by_folded, n=8, cutoff=0.55)
    if not close:
        return ""

    def likeness(name: str) -> float:
        # A slip of the finger keeps the length: Alr is rather Alt than AltGr.
        return difflib.SequenceMatcher(None, folded, name).ratio() - 0.05 * abs(len(name) - len(folded))

    return f"Did you mean {by_folded[max(close, key=likeness)]}?"
