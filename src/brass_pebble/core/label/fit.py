"""Making a text fit a field: a smaller size, then two lines, then an abbreviation that is told.  Pure."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

# measure(text, size) → width; sizes and widths in mm.
Measure = Callable[[str, float], float]
# Font sizes in mm: below the first nobody reads it from a chair, below the second from nowhere.
COMFORTABLE, SMALLEST, LARGEST = 2.9, 1.9, 6.0
LEADING = 1.12


@dataclass(frozen=True)
class Fitted:
    """Lines that fit, their font size in mm, and whether the text had to be abbreviated."""

    lines: tuple[str, ...]
    size: float
    abbreviated: bool = False


def fit_text(text: str, width: float, height: float, measure: Measure, *, largest: float = LARGEST,
             smallest: float = SMALLEST) -> Fitted:
    """The text in a field of so many mm."""
    text = " ".join(text.split())
    if not text:
        return Fitted((), largest)
    one = _size((text,), width, height, measure, largest)
    if one >= min(COMFORTABLE, largest):
        return Fitted((text,), one)
    found = max([(one, (text,)), *((_size(lines, width, height, measure, largest), lines)
                                   for lines in _halves(text))], key=lambda pair: pair[0])
    if found[0] >= smallest:
        return Fitted(found[1], found[0])
    for shorter in abbreviations(text):
        for lines in ((shorter,), *_halves(shorter)):
            size = _size(lines, width, height, measure, largest)
            if size >= smallest:
                return Fitted(lines, size, abbreviated=True)
    # Not even one character: the field is smaller than letters can be.
    return Fitted((text[0],), _size((text[0],), width, height, measure, largest), abbreviated=True)


def _size(lines: tuple[str, ...], width: float, height: float, measure: Measure, largest: float) -> float:
    """The largest font size at which the lines fit."""
    wide = max(measure(line, 1.0) for line in lines)
    return min(largest, width / wide if wide else largest, height / (LEADING * len(lines)))


def _halves(text: str) -> Iterator[tuple[str, str]]:
    """The ways to set a text in two lines: at its blanks, behind its dashes and strokes."""
    for index, char in enumerate(text):
        if char == " ":
            yield text[:index], text[index + 1:]
        elif char in "-/–" and 0 < index < len(text) - 1:
            yield text[:index + 1], text[index + 1:]


def abbreviations(text: str) -> Iterator[str]:
    """Shorter and shorter forms: without inner vowels (the longest word first), with initials, then cut."""
    words = text.split(" ")
    for index in sorted(range(len(words)), key=lambda at: -len(words[at])):
        word = words[index]
        squeezed = word[:1] + "".join(char for char in word[1:] if char.lower() not in "aeiouäöüéèà")
        if len(squeezed) < len(word) and len(word) > 3:
            words[index] = squeezed
            yield " ".join(words)
    if len(words) > 1:
        yield " ".join([*(word[0] for word in words[:-1]), words[-1]])
        yield "".join(word[0] for word in words[:-1]) + words[-1]
    whole = "".join(words)
    for length in range(len(whole) - 1, 0, -1):
        yield whole[:length]
