"""From words to what they can mean: which phrase, in which wording, with which values.  A reading covers every word."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from .numbers import longer, read_number
from .phrase import ChoiceSlot, NumberSlot, Phrase, Slot, Value
from .wording import Way, Word

# Nobody says a number in more words than this.
MOST_IN_SLOT = 10
Span = tuple[int, int]


@dataclass(frozen=True)
class Reading:
    """One thing that words can mean.  `values` are those of the slots; `spans` which of the words said each (from, to).

    `trouble` says why it cannot be done as it was said, such as a number out of its range.
    """

    phrase: str
    words: tuple[str, ...]
    values: Mapping[str, Value] = field(default_factory=dict)
    spans: Mapping[str, Span] = field(default_factory=dict)
    trouble: str = ""

    @property
    def said(self) -> str:
        """Its words, as a text."""
        return " ".join(self.words)

    def comes_to(self, other: Reading) -> bool:
        """Whether it means what another does, in whichever words."""
        return (self.phrase, self.values, self.trouble) == (other.phrase, other.values, other.trouble)


def read_words(words: Sequence[str], phrases: Sequence[Phrase]) -> list[Reading]:
    """Everything that these words can mean, each once; what has no trouble first."""
    found: list[Reading] = []
    said = tuple(words)
    for phrase in phrases:
        for wording in phrase.say:
            for way in wording.ways():
                for reading in _readings(phrase, way, said):
                    if not any(reading.comes_to(each) for each in found):
                        found.append(reading)
    return sorted(found, key=lambda reading: reading.trouble != "")


def _readings(phrase: Phrase, way: Way, said: tuple[str, ...]) -> Iterator[Reading]:
    fixed = sum(isinstance(item, Word) for item in way)
    if len(said) < len(way) or (fixed == len(way) and fixed != len(said)):
        return
    for spans in _spans(way, said, 0, 0):
        told = {name: value_of(phrase.slots[name], said[start:end]) for name, (start, end) in spans.items()}
        if any(value is None and not trouble for value, trouble in told.values()):
            continue
        values = {name: value for name, (value, _) in told.items() if value is not None}
        yield Reading(phrase.id, said, values, spans, "; ".join(trouble for _, trouble in told.values() if trouble))


def _spans(way: Way, said: tuple[str, ...], item: int, at: int) -> Iterator[dict[str, Span]]:
    """Every way to lay the words on the items from `item` on."""
    if item == len(way):
        if at == len(said):
            yield {}
        return
    here = way[item]
    if isinstance(here, Word):
        if at < len(said) and said[at] == here.text:
            yield from _spans(way, said, item + 1, at + 1)
        return
    for end in range(at + 1, len(said) - (len(way) - item - 1) + 1):
        for rest in _spans(way, said, item + 1, end):
            yield {here.name: (at, end), **rest}


def value_of(slot: Slot, words: Sequence[str]) -> tuple[Value | None, str]:
    """The value that words say for a slot, or None; and what is wrong with a value that was said."""
    if isinstance(slot, NumberSlot):
        number = read_number(words) if len(words) <= MOST_IN_SLOT else None
        if number is None:
            return None, ""
        trouble = slot.trouble(number)
        return (None, trouble) if trouble else (slot.value(number), "")
    if isinstance(slot, ChoiceSlot):
        said = _as_way(words)
        for choice in slot.choices:
            if any(said == way for wording in choice.say for way in wording.ways()):
                return choice.gives, ""
        return None, ""
    return (" ".join(words), "") if len(words) <= slot.longest else (None, "")


def may_go_on(words: Sequence[str], phrases: Sequence[Phrase]) -> bool:
    """Whether more words could follow these: “level forty” may become “level forty five”."""
    said = tuple(words)
    return any(_goes_on(phrase, way, said, 0, 0) for phrase in phrases for wording in phrase.say
               for way in wording.ways())


def _goes_on(phrase: Phrase, way: Way, said: tuple[str, ...], item: int, at: int) -> bool:
    if at == len(said):
        return item < len(way)
    if item == len(way):
        return False
    here = way[item]
    if isinstance(here, Word):
        return said[at] == here.text and _goes_on(phrase, way, said, item + 1, at + 1)
    slot = phrase.slots[here.name]
    if opens(slot, said[at:]):
        return True
    return any(value_of(slot, said[at:end]) != (None, "") and _goes_on(phrase, way, said, item + 1, end)
               for end in range(at + 1, len(said) + 1))


def opens(slot: Slot, words: tuple[str, ...]) -> bool:
    """Whether these words are the beginning of a longer value of a slot."""
    if isinstance(slot, NumberSlot):
        most = max(abs(slot.low), abs(slot.high))
        return any(abs(number) <= most and (slot.decimals > 0 or number == int(number)) for number in longer(words))
    if isinstance(slot, ChoiceSlot):
        return any(len(way) > len(words) and way[:len(words)] == _as_way(words)
                   for choice in slot.choices for wording in choice.say for way in wording.ways())
    return len(words) < slot.longest


def _as_way(words: Sequence[str]) -> Way:
    return tuple(map(Word, words))
