"""How alike two rows of sounds are: those of a phrase, and those that were heard.

Each sound is where in the mouth it is made (data/sounds.tsv), so that “scroll” heard with a D for a T is still close to
itself, and far from “bread”.  What a recogniser hears at the very ends is often breath, and counts for less.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache

from brass_pebble.core.say.data_table import read_table

# What a sound costs that is missing or too many: in the middle, and at the ends of what was heard.
GAP, EASY_GAP, END_GAP, BREATH_GAP = 0.7, 0.5, 0.4, 0.2
# Those that are swallowed or slip in most easily; and those that breath and a closing microphone sound like.
EASY = frozenset(("HH", "AH", "IH", "T", "D"))
BREATH = frozenset(("HH", "T", "TH", "V", "P", "D", "B", "DH", "F", "K", "G", "S"))
# A vowel and the consonant that it turns into.
ALMOST = {frozenset(pair) for pair in (("ER", "R"), ("W", "UW"), ("Y", "IY"), ("L", "OW"), ("W", "OW"))}
ALMOST_COST = 0.35
VOWEL = "vowel"


@cache
def _places() -> dict[str, tuple[str, float, float, float]]:
    return {sound: (kind, float(first), float(second), float(voice))
            for sound, kind, first, second, voice, *_ in read_table("sounds.tsv")}


def is_sound(name: str) -> bool:
    """Whether there is such a sound."""
    return name in _places()


def sounds_as_in() -> dict[str, str]:
    """Every sound, with a word that it is in."""
    return {row[0]: row[5] for row in read_table("sounds.tsv")}


def for_speaking(sounds: Sequence[str]) -> str:
    """Sounds as espeak-ng reads them, in its own letters for phonemes."""
    letters = {row[0]: row[6] for row in read_table("sounds.tsv")}
    return f"[[{''.join(letters.get(sound, '') for sound in sounds)}]]"


def middle(rows: Sequence[Sequence[str]]) -> tuple[str, ...]:
    """Of several rows of sounds, the one that is nearest to all others."""
    if not rows:
        return ()
    return tuple(rows[min(range(len(rows)), key=lambda index: sum(distance(rows[index], other) for other in rows))])


@cache
def unlike(one: str, other: str) -> float:
    """How unlike two sounds are: 0 for the same, 1 for those that nobody mixes up."""
    if one == other:
        return 0.0
    here, there = _places().get(one), _places().get(other)
    if here is None or there is None:
        return 1.0
    if here[0] != there[0]:
        return ALMOST_COST if frozenset((one, other)) in ALMOST else 1.0
    first, second, voice = (abs(a - b) for a, b in zip(here[1:], there[1:], strict=True))
    cost = 0.2 + 0.22 * (first + second) if here[0] == VOWEL else 0.15 + 0.2 * first + 0.25 * second + 0.15 * voice
    return min(1.0, cost)


def _gap(sound: str, *, at_end: bool) -> float:
    if at_end:
        return BREATH_GAP if sound in BREATH else END_GAP
    return EASY_GAP if sound in EASY else GAP


def distance(meant: Sequence[str], heard: Sequence[str]) -> float:
    """How far what was heard is from what was meant: 0 the same, 1 nothing alike.

    The cheapest way to turn one into the other, by the longer of the two.
    """
    if not meant or not heard:
        return 1.0
    above = [0.0]
    for index, sound in enumerate(heard):
        above.append(above[-1] + _gap(sound, at_end=index == 0))
    for row, sound in enumerate(meant):
        is_last, line = row == len(meant) - 1, [above[0] + _gap(sound, at_end=False)]
        for index, other in enumerate(heard):
            line.append(min(above[index + 1] + _gap(sound, at_end=False),
                            line[index] + _gap(other, at_end=is_last and index == len(heard) - 1),
                            above[index] + unlike(sound, other)))
        above = line
    return min(1.0, above[-1] / max(len(meant), len(heard)))


def alike(one: Sequence[str], other: Sequence[str]) -> float:
    """How alike two rows of sounds are, 0 to 1, whichever is heard for which."""
    return 1.0 - max(distance(one, other), distance(other, one))
