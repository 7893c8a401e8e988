"""What people say, as it is written down: `[set the] level [to] {level}`.

Words in square brackets may be left out, a name in braces is a slot: a number, one of several choices, or free words.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import product

from brass_pebble.core.say.problem import ProblemError

from .numbers import digits_to_words

# How many words a wording may have, and how many ways of saying it.
MOST_WORDS = 24
MOST_WAYS = 256
_PIECE = re.compile(r"\s+|\[|\]|\{([^{}\[\]]*)\}|[^\s\[\]{}]+|.")
_NAME = re.compile(r"[a-z][a-z0-9_]*")
# What stands between words, and is not said.
_SILENT = re.compile(r"[,.;:!?…“”\"()]+")
_WORD = re.compile(r"[^\W\d_]+(?:['’][^\W\d_]+)*['’]?")


@dataclass(frozen=True)
class Word:
    """One word, in small letters."""

    text: str


@dataclass(frozen=True)
class SlotPlace:
    """Where a slot's value is said."""

    name: str


@dataclass(frozen=True)
class Optional:
    """What may be left out."""

    items: tuple[Word | SlotPlace, ...]


Item = Word | SlotPlace
Way = tuple[Item, ...]


@dataclass(frozen=True)
class Wording:
    """One way to word a phrase: what is said in turn."""

    text: str
    items: tuple[Item | Optional, ...]

    @property
    def slots(self) -> tuple[str, ...]:
        """The names of its slots."""
        return tuple(item.name for item in self._all() if isinstance(item, SlotPlace))

    @property
    def words(self) -> tuple[str, ...]:
        """Every word that it may have."""
        return tuple(item.text for item in self._all() if isinstance(item, Word))

    def _all(self) -> Iterator[Item]:
        for item in self.items:
            if isinstance(item, Optional):
                yield from item.items
            else:
                yield item

    def ways(self) -> Iterator[Way]:
        """Every way to say it, the fullest first."""
        choices: list[tuple[Way, ...]] = [(item.items, ()) if isinstance(item, Optional) else ((item,),)
                                          for item in self.items]
        for way in product(*choices):
            yield tuple(item for part in way for item in part)


def plain_words(text: str) -> list[str]:
    """What somebody wrote, as the words that are said: small letters, no punctuation, numbers in words.

    Raises:
        ProblemError: something in it cannot be said.
    """
    words: list[str] = []
    for piece in _SILENT.sub(" ", text).replace("%", " per cent ").replace("-", " -").split():
        # A hyphen parts words, and stands before a number below zero.
        spoken = digits_to_words(piece) or (digits_to_words(piece[1:]) if piece[0] == "-" and words else None)
        if spoken is not None:
            words += spoken.split()
            continue
        word = piece.lstrip("-").casefold()
        if not word:
            continue
        if not _WORD.fullmatch(word):
            raise ProblemError(f"“{piece.lstrip('-')}” is not a word that can be said",
                               hint="Write the words as they are spoken: “plus” or “dot” in place of the sign")
        words.append(word.replace("’", "'"))
    return words


def read_wording(text: str, slots: Sequence[str] = ()) -> Wording:
    """A wording as it is written.

    Raises:
        ProblemError: it cannot be read; its column counts from 1.
    """
    items: list[Item | Optional] = []
    inside: list[Item] | None = None
    opened = 0
    for found in _PIECE.finditer(text):
        piece, column = found[0], found.start() + 1
        into = items if inside is None else inside
        if piece.isspace():
            continue
        if piece == "[":
            if inside is not None:
                raise ProblemError("brackets cannot stand in brackets", column=column,
                                   hint="Close the first with ] before the next begins")
            inside, opened = [], column
        elif piece == "]":
            if inside is None:
                raise ProblemError("there is no [ before this ]", column=column,
                                   hint="Write [the] around words that may be left out")
            if inside:
                items.append(Optional(tuple(inside)))
            inside = None
        elif found[1] is not None:
            name = found[1].strip()
            if not _NAME.fullmatch(name):
                raise ProblemError(f"“{name}” cannot be the name of a slot", column=column,
                                   hint="Use small letters, digits and _, as in {level}")
            if name not in slots:
                raise ProblemError(f"there is no slot “{name}”", column=column, hint=(
                    f"Available: {', '.join(slots)}" if slots else
                    f"Say what it may be: slot.{name} = {{ from = 0, to = 100 }}"))
            into.append(SlotPlace(name))
        elif piece in "{}":
            raise ProblemError(f"“{piece}” stands alone", column=column, hint="Write a slot as {level}")
        else:
            try:
                into.extend(Word(word) for word in plain_words(piece))
            except ProblemError as error:
                raise ProblemError(error.problem.what, column=column, hint=error.problem.hint) from None
    if inside is not None:
        raise ProblemError("this [ is not closed", column=opened, hint="Write ] after the words that may be left out")
    wording = Wording(text, tuple(items))
    _check(wording)
    return wording


def _check(wording: Wording) -> None:
    if not wording.items:
        raise ProblemError("there is no word in it", hint="Write what is said, such as: oven close-up")
    if all(isinstance(item, Optional) for item in wording.items):
        raise ProblemError("nothing of this has to be said", hint="Leave at least one word outside the brackets")
    if len(wording.slots) != len(set(wording.slots)):
        raise ProblemError("a slot can stand only once in a wording", hint="Give the second one a name of its own")
    if len(wording.words) + len(wording.slots) > MOST_WORDS:
        raise ProblemError(f"a wording has at most {MOST_WORDS} words", hint="Say it shorter")
    if 2 ** sum(isinstance(item, Optional) for item in wording.items) > MOST_WAYS:
        raise ProblemError(f"this could be said in more than {MOST_WAYS} ways",
                           hint="Use fewer brackets, or several wordings")
