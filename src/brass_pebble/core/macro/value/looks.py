"""Places of the screen and how they look: what a condition about them asks."""

from __future__ import annotations

import re

from lark import Token, Tree

from brass_pebble.core.macro.asks import Look
from brass_pebble.core.say.problem import ProblemError

LONGEST_JUMP = 20_000
_COLOUR = re.compile(r"[0-9a-fA-F]{6}")
# Of each of red, green and blue, 0 to 255.
USUAL_TOLERANCE = 8


def check_place(words: list[Token], line: int, *, sized: bool = False) -> None:
    """See that a place (and, where it has one, a size) can be one.

    Raises:
        ProblemError: it cannot.
    """
    shares = {word.endswith("%") for word in words}
    for index, word in enumerate(words):
        number = float(word.rstrip("%"))
        wrong = (number > 100 if word.endswith("%") else "." in word or abs(number) > LONGEST_JUMP) or number < 0
        if wrong or len(shares) > 1 or (sized and index > 1 and number <= 0):
            raise ProblemError(f"“{' '.join(words)}” is not a place", line=line, column=word.column or 0,
                               hint="Write 640 360 in pixels, or 50% 25%")


def look_of(condition: Tree[Token], limit: int, line: int) -> Look:
    """What a condition about the look of a place asks."""
    x, y, width, height, colour, tolerance = condition.children
    return Look(line, limit, (str(x), str(y)), (str(width or 1), str(height or 1)), str(colour)[1:-1].lower(),
                int(str(tolerance)) if tolerance is not None else USUAL_TOLERANCE)


def check_look(condition: Tree[Token], line: int) -> None:
    """See that a condition about a look can be one.

    Raises:
        ProblemError: its place, colour or tolerance cannot be.
    """
    *place, colour, tolerance = condition.children
    check_place([word for word in place if isinstance(word, Token)], line, sized=True)
    assert isinstance(colour, Token)
    if not _COLOUR.fullmatch(str(colour)[1:-1]):
        raise ProblemError(f"{colour} is not a colour", line=line, column=colour.column or 0,
                           hint='Write looks "e0a030": red, green and blue, two hex digits each')
    if isinstance(tolerance, Token) and not (tolerance.isdigit() and int(tolerance) <= 255):
        raise ProblemError(f"“{tolerance}” is not a tolerance", line=line, column=tolerance.column or 0,
                           hint="Write within 0 to 255")
