"""The icons of labels: read from `data/icons.tsv`, drawn on a square of 16 by 16.  Pure."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache

from brass_pebble.core.say.data_table import read_table
from brass_pebble.core.say.problem import ProblemError, nearest

SIDE = 16.0
# How thick lines are, and how thick those that are carved out.
LINE, CARVED_LINE = 2.2, 1.6
# A pebble's corners, as a share of its shorter side.
ROUND = 0.42
# What a label says to have no icon, though a word of it has one.
NO_ICON = "none"
# How many numbers each command takes.
_TAKES = {"M": 2, "L": 2, "C": 6, "Z": 0, "O": 3, "P": 4}
_WORD = re.compile(r"[\w/]+(?:-\w+)?|[◂▸]")


@dataclass(frozen=True)
class IconPart:
    """One shape or thick line: (command, numbers) after one another.  What is carved has the paper's colour."""

    commands: tuple[tuple[str, tuple[float, ...]], ...]
    line: bool
    carved: bool


@dataclass(frozen=True)
class Icon:
    """An icon, and the words of labels that it stands for."""

    name: str
    words: frozenset[str]
    parts: tuple[IconPart, ...]


def _part(text: str) -> IconPart:
    tokens = text.lstrip("=-~").split()
    commands, at = [], 0
    while at < len(tokens):
        letter = tokens[at]
        count = _TAKES[letter]
        commands.append((letter, tuple(float(number) for number in tokens[at + 1:at + 1 + count])))
        at += 1 + count
    return IconPart(tuple(commands), text[0] in "=~", text[0] in "-~")


@cache
def icons() -> dict[str, Icon]:
    """All icons, by name."""
    return {name: Icon(name, frozenset(words.split(",")), tuple(_part(part) for part in drawing.split(";")))
            for name, words, drawing in read_table("icons.tsv")}


@cache
def _by_word() -> dict[str, str]:
    found: dict[str, str] = {}
    for icon in icons().values():
        for word in icon.words:
            found.setdefault(word, icon.name)
    return found


def guess_icon(label: str) -> str:
    """The icon of the first word of a label that has one; an empty text for none."""
    by_word = _by_word()
    return next((by_word[word] for word in _WORD.findall(label.lower()) if word in by_word), "")


def check_icon(name: str) -> str:
    """The name of an icon, “none”, or an empty text.

    Raises:
        ProblemError: there is no such icon.
    """
    if name and name != NO_ICON and name not in icons():
        raise ProblemError(f"there is no icon “{name}”",
                           hint=nearest(name, icons()) or f"Available: {', '.join(icons())}, and {NO_ICON}")
    return name
