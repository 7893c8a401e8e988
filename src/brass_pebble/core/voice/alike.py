"""Which phrases sound alike, so that one may be heard for another."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import combinations

from .phrase import Phrase
from .sounds import alike
from .wording import Word, Wording

# From here on two phrases are told as alike, 0 to 100.
ALIKE = 72
# A wording that is so much longer than another cannot be alike.
LONGER = 1.6
Sounds = tuple[str, ...]
Pair = tuple[str, str, int]


def sounds_of(wording: Wording, pronounce: Callable[[str], Sequence[Sounds]]) -> list[Sounds]:
    """The sounds of a wording, said in full and as short as it can be; none if a word of it is not known."""
    found = []
    ways = list(wording.ways())
    for way in dict.fromkeys((ways[0], ways[-1])):
        sounds: list[str] = []
        for item in way:
            known = pronounce(item.text) if isinstance(item, Word) else ()
            if isinstance(item, Word) and not known:
                break
            sounds += known[0] if known else ()
        else:
            found.append(tuple(sounds))
    return [sounds for sounds in found if sounds]


def alike_pairs(phrases: Mapping[str, Phrase], pronounce: Callable[[str], Sequence[Sounds]]) -> Iterator[Pair | None]:
    """Every two phrases that sound alike, with how alike; None after each pair that does not, so that whoever asks can
    do something else in between."""
    known = {name: [sounds for wording in phrase.say for sounds in sounds_of(wording, pronounce)]
             for name, phrase in phrases.items()}
    for one, other in combinations(known, 2):
        most = max((alike(first, second) for first in known[one] for second in known[other]
                    if max(len(first), len(second)) <= LONGER * min(len(first), len(second))), default=0.0)
        yield (one, other, round(100 * most)) if 100 * most >= ALIKE else None
