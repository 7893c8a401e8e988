"""Labels in few cells: whole, shortened so that they stay apart from one another, or cut with a sign that they are."""

from __future__ import annotations

import unicodedata
from collections.abc import Collection, Iterator
from functools import lru_cache

from rich.cells import cell_len, set_cell_size

# A word with fewer letters than this is only shown together with the sign that it was cut.
FEWEST_LETTERS = 5
CUT = "…"
JOINER = "\u200d"


def clusters(text: str) -> Iterator[str]:
    """The characters of a text, each with what is combined with it; pictures that are joined to one stay one."""
    start = 0
    for at in range(1, len(text) + 1):
        if at == len(text) or not (text[at - 1] == JOINER or unicodedata.combining(text[at]) or not cell_len(text[at])):
            yield text[start:at]
            start = at


def cut(text: str, width: int) -> str:
    """As much of a text as fits into `width` cells, without half a character."""
    taken, used = "", 0
    for cluster in clusters(text):
        wide = cell_len(cluster)
        if used + wide > width:
            break
        taken, used = taken + cluster, used + wide
    return taken


def _squeezed(text: str) -> Iterator[str]:
    """Without blanks and one inner vowel after another, the last first."""
    joined = "".join(text.split())
    for at in range(len(joined) - 2, 0, -1):
        if joined[at] in "aeiou":
            joined = joined[:at] + joined[at + 1:]
            yield joined


def _shorter(label: str, width: int) -> Iterator[str]:
    """Shorter forms of a label, the best first; not all of them fit."""
    words = label.split()
    forms = [label, "".join(words)]
    if len(words) > 1:
        initials = [word[0] for word in words[:-1]]
        forms += [" ".join([*initials, words[-1]]), "".join([*initials, words[-1]])]
    yield from (form for form in [*forms, *_squeezed(label)] if form == label or len(form) >= FEWEST_LETTERS)
    yield cut(label, width - 1).rstrip() + CUT
    # Only the end may tell it from another.
    for tail in range(1, max(1, width - 2)):
        yield cut(label, width - 1 - tail) + CUT + label[-tail:]


@lru_cache(maxsize=8192)
def _best(label: str, width: int) -> str:
    return next((form for form in _shorter(label, width) if cell_len(form) <= width), CUT if width > 0 else "")


def fit(label: str, width: int, rivals: Collection[str] = ()) -> str:
    """A label in at most `width` cells: whole, without blanks, without inner vowels, or cut, which “…” tells.

    A form that stands for one of its `rivals` as well is not taken, if there is another.
    """
    if cell_len(label) <= width:
        return label
    if width <= 1:
        return CUT if width == 1 else ""
    best = _best(label, width)
    if not rivals:
        return best
    taken = {_best(rival, width) for rival in rivals if rival != label}
    if best not in taken:
        return best
    return next((form for form in _shorter(label, width) if form not in taken and cell_len(form) <= width), best)


def centre(text: str, width: int) -> str:
    """Text in the middle of `width` cells."""
    left = max(0, (width - cell_len(text)) // 2)
    return set_cell_size(" " * left + text, width)
