"""Numbers that carry what they stand for.

Signals and effects are numbers, so that keys, motions and messages keep their order and are told apart by comparing.
Where there are as many of a kind as there are texts (addresses of OSC, receivers of MIDI, parts of a moving control),
a table that gives each a number would mean something in one process only, and would grow for as long as it runs.
Such a number carries the text itself instead.
"""

from __future__ import annotations

from typing import Any


class Carrying(int):
    """The number of its family, with what it stands for: two are the same only if both are."""

    what: tuple[Any, ...]

    def __new__(cls, number: int, *what: Any) -> Carrying:
        made = super().__new__(cls, number)
        made.what = what
        return made

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Carrying) and int(self) == int(other) and self.what == other.what

    def __ne__(self, other: object) -> bool:
        return not self == other

    def __hash__(self) -> int:
        return hash((int(self), self.what))

    def __reduce__(self) -> tuple[object, ...]:
        return type(self), (int(self), *self.what)

    def __repr__(self) -> str:
        return f"{type(self).__name__}({int(self)}, {', '.join(map(repr, self.what))})"
