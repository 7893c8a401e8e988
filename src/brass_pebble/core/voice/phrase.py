"""A phrase: what can be said for it, what its slots may be, and how sure the program has to be.  Data only."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal

from brass_pebble.core.say.setting import Flag, Text, setting
from brass_pebble.core.say.setting import Number as NumberKind

from .numbers import LARGEST, MOST_DECIMALS, say_number
from .wording import Optional, SlotPlace, Wording

Value = int | Decimal | str
# How many words a slot of free words takes, unless told.
FREE_WORDS = 12
# How strict a phrase is unless told, 0 to 100.
STRICT = 70


@dataclass(frozen=True)
class NumberSlot:
    """A number from `low` to `high`, in steps from `low`."""

    low: Decimal = Decimal(0)
    high: Decimal = Decimal(100)
    step: Decimal = Decimal(1)

    @property
    def decimals(self) -> int:
        """How many decimals its numbers have."""
        return max(-int(number.normalize().as_tuple().exponent) for number in (self.low, self.step, Decimal(1)))

    def trouble(self, number: Decimal) -> str:
        """Why a number is none of its; empty if it is."""
        if not self.low <= number <= self.high:
            return f"{number:f} is not from {self.low:f} to {self.high:f}"
        if self.step and (number - self.low) % self.step:
            return f"{number:f} is not in steps of {self.step:f} from {self.low:f}"
        return ""

    def value(self, number: Decimal) -> Value:
        """The number as macros have it."""
        return round(number, self.decimals) if self.decimals else int(number)


@dataclass(frozen=True)
class Choice:
    """One of several: how it is said, and what it stands for (a key or chord as it is written, a text, a number)."""

    say: tuple[Wording, ...]
    gives: Value


@dataclass(frozen=True)
class ChoiceSlot:
    """One of a list."""

    choices: tuple[Choice, ...]


@dataclass(frozen=True)
class WordsSlot:
    """Free words, up to so many."""

    longest: int = FREE_WORDS


Slot = NumberSlot | ChoiceSlot | WordsSlot


@dataclass(frozen=True)
class Phrase:
    """What is said, in one or several wordings."""

    id: str
    say: tuple[Wording, ...]
    slots: dict[str, Slot] = field(default_factory=dict)
    strict: int = setting(STRICT, NumberKind(0, 100, hint=f"Most phrases need no more than the default, {STRICT}",
                                             whole=True),
                          "how alike what was heard has to be, 0 to 100", "strict",
                          proposals=(None, 40, 50, 60, 80, 90))
    attention: bool = setting(True, Flag(), "false: it counts without the attention word", "attention word",
                              proposals=(True, False), shown={True: "needed, if there is one", False: "not needed"})
    reply: str = setting("", Text(120), "what is told when it was understood; {name} is the value of a slot",
                         "reply")

    @property
    def legend(self) -> str:
        """What stands on its cap: the first wording, as short as it can be said."""
        return short_wording(self.say[0]) if self.say else self.id


def short_wording(wording: Wording) -> str:
    """A wording without what may be left out; what can be several stands as …"""
    return " ".join("…" if isinstance(item, SlotPlace) else item.text for item in wording.items
                    if not isinstance(item, Optional))


def number_slot(low: Decimal, high: Decimal, step: Decimal) -> NumberSlot:
    """A slot for numbers.

    Raises:
        ValueError: there is no such range; the text says why.
    """
    if low > high:
        raise ValueError(f"from ({low:f}) is above to ({high:f})")
    if max(abs(low), abs(high)) > LARGEST:
        raise ValueError(f"numbers beyond {LARGEST:,} cannot be said")
    if step <= 0:
        raise ValueError("a step is more than 0")
    slot = NumberSlot(low, high, step)
    if slot.decimals > MOST_DECIMALS:
        raise ValueError(f"a spoken number has at most {MOST_DECIMALS} decimals")
    return slot


def tell_slot(slot: Slot) -> str:
    """What a slot takes, in words."""
    if isinstance(slot, NumberSlot):
        steps = "" if slot.step == 1 else f" in steps of {slot.step:f}"
        return f"a number from {slot.low:f} to {slot.high:f}{steps}"
    if isinstance(slot, ChoiceSlot):
        shown = [choice.say[0].text for choice in slot.choices]
        return "one of " + ", ".join(shown[:6]) + (f" and {len(shown) - 6} more" if len(shown) > 6 else "")
    return f"up to {slot.longest} free words"


def example_of(phrase: Phrase) -> str:
    """The first wording, as short as it can be said, with a value for each slot."""
    def one(name: str) -> str:
        slot = phrase.slots[name]
        if isinstance(slot, NumberSlot):
            return say_number(slot.low + slot.step * ((slot.high - slot.low) / slot.step // 2))
        return short_wording(slot.choices[0].say[0]) if isinstance(slot, ChoiceSlot) else "some words"
    return " ".join(one(item.name) if isinstance(item, SlotPlace) else item.text for item in phrase.say[0].items
                    if not isinstance(item, Optional)) if phrase.say else ""


def vocabulary(phrases: Sequence[Phrase]) -> tuple[str, ...]:
    """Every word that may be said for these, each once, beside those of numbers."""
    found: dict[str, None] = {}
    for phrase in phrases:
        for wording in phrase.say:
            found.update(dict.fromkeys(wording.words))
        for slot in phrase.slots.values():
            if isinstance(slot, ChoiceSlot):
                for choice in slot.choices:
                    for wording in choice.say:
                        found.update(dict.fromkeys(wording.words))
    return tuple(found)
