"""Numbers with what they count: `1 press`, `2 presses`.  Pure."""

from __future__ import annotations

from collections.abc import Sequence

_AFTER_THESE_ES = ("s", "x", "ch", "sh", "z")


def plural(noun: str) -> str:
    """A noun as it is for several; of several words the last one changes."""
    if noun.endswith("y") and noun[-2:-1] not in "aeiou":
        return f"{noun[:-1]}ies"
    return f"{noun}es" if noun.endswith(_AFTER_THESE_ES) else f"{noun}s"


def say_count(number: int, noun: str) -> str:
    """A number and what it counts, in agreement; thousands are parted."""
    return f"{number:,} {noun if number == 1 else plural(noun)}"


def say_list(items: Sequence[str], joined: str = "and") -> str:
    """Several things in a row: `rye, wheat and spelt`."""
    return items[0] if len(items) == 1 else f"{', '.join(items[:-1])} {joined} {items[-1]}" if items else ""
