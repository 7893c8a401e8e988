"""What a recogniser is to listen for, in JSGF (JSpeech Grammar Format, a note of the W3C)."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from .numbers import MOST_DECIMALS, ONE, PART, SIGN, TEEN, TENS, UNIT, words_of
from .phrase import ChoiceSlot, NumberSlot, Phrase, Slot
from .wording import Item, Optional, Word, Wording

# A row of sounds that no word is known for, one or several words long: a recogniser replaces it by its own loop.
FREE = "free"


def jsgf(phrases: Sequence[Phrase], *, name: str = "phrases", free: str = "") -> str:
    """A grammar of these phrases.  `free` is the body of the rule for free words, as the recogniser has them; without
    it, wordings with such a slot are left out."""
    rules: dict[str, str] = {}

    def place(slot: Slot) -> str:
        if isinstance(slot, NumberSlot):
            key = _number_rule(slot, rules)
        elif isinstance(slot, ChoiceSlot):
            return "(" + " | ".join(_say(wording, {}, place) for choice in slot.choices for wording in choice.say) + ")"
        else:
            key = FREE
            rules[FREE] = free
        return f"<{key}>"
    said = dict.fromkeys(_say(wording, phrase.slots, place) for phrase in phrases for wording in phrase.say
                         if free or not _has_free(wording, phrase))
    body = " | ".join(said)
    more = "".join(f"<{key}> = {rule};\n" for key, rule in rules.items())
    return f"#JSGF V1.0;\ngrammar {name};\n{more}public <{name}> = {body};\n" if said else ""


def _has_free(wording: Wording, phrase: Phrase) -> bool:
    return any(not isinstance(phrase.slots[name], NumberSlot | ChoiceSlot) for name in wording.slots)


def _say(wording: Wording, slots: dict[str, Slot], place: Callable[[Slot], str]) -> str:
    def one(item: Item) -> str:
        return item.text if isinstance(item, Word) else place(slots[item.name])
    return " ".join(f"[{' '.join(map(one, item.items))}]" if isinstance(item, Optional) else one(item)
                    for item in wording.items)


def _number_rule(slot: NumberSlot, rules: dict[str, str]) -> str:
    """The rule of numbers as large as the slot's, with a sign and decimals where it has any.

    It hears more than the slot takes, so that a number out of its range is told as one, and not heard as another.
    """
    most = int(max(abs(slot.low), abs(slot.high)))
    units = words_of(UNIT)
    rules["below"] = (f"{' | '.join((*units, *words_of(TEEN)))} | ({' | '.join(words_of(TENS))}) "
                      f"[{' | '.join(units[1:])}]")
    key = "number"
    rules[key] = "<below>"
    if most >= 10:
        key = "hundreds"
        some = " | ".join((*words_of(ONE), *units[1:]))
        rules[key] = f"<below> | [{some}] hundred [[and] <below>]"
    for word, least in (("thousand", 1_000), ("million", 1_000_000)):
        if most >= least:
            rules[f"{word}s"] = f"<{key}> | ({' | '.join(words_of(ONE))} | <{key}>) {word} [[and] <{key}>]"
            key = f"{word}s"
    if slot.decimals:
        # As many as can be said at all: slots share these rules.
        digits = " [".join(["<digit>"] * MOST_DECIMALS) + "]" * (MOST_DECIMALS - 1)
        rules["digit"] = " | ".join(units)
        parts = " | ".join(words_of(PART))
        rules[f"{key}_point"] = f"<{key}> [point {digits}] | [<{key}> and] [a] ({parts})"
        key = f"{key}_point"
    if slot.low < 0:
        rules[f"{key}_signed"] = f"[{' | '.join(words_of(SIGN))}] <{key}>"
        key = f"{key}_signed"
    return key
