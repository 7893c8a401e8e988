"""Phrases as they are sent to the process that hears, and read there."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal

from brass_pebble.core.voice.judging import Heard, Verdict
from brass_pebble.core.voice.phrase import (
    Choice,
    ChoiceSlot,
    NumberSlot,
    Phrase,
    Slot,
    Value,
    WordsSlot,
    number_slot,
)
from brass_pebble.core.voice.wording import Item, Optional, Word, Wording, read_wording

from .messages import CandidateTold, ChoiceSent, PhraseSent, SlotSent


def send_phrase(phrase: Phrase) -> PhraseSent:
    """A phrase as a message."""
    return PhraseSent(id=phrase.id, say=[write_wording(wording) for wording in phrase.say], strict=phrase.strict,
                      slots={name: _send_slot(slot) for name, slot in phrase.slots.items()})


def write_wording(wording: Wording) -> str:
    """A wording as it is written; its text alone may lack an attention word that was put before it."""
    def one(item: Item) -> str:
        return item.text if isinstance(item, Word) else f"{{{item.name}}}"
    return " ".join(f"[{' '.join(map(one, item.items))}]" if isinstance(item, Optional) else one(item)
                    for item in wording.items)


def _send_slot(slot: Slot) -> SlotSent:
    if isinstance(slot, NumberSlot):
        return SlotSent(low=str(slot.low), high=str(slot.high), step=str(slot.step))
    if isinstance(slot, ChoiceSlot):
        return SlotSent(one_of=[ChoiceSent(say=[write_wording(wording) for wording in choice.say],
                                           gives=choice.gives if isinstance(choice.gives, int | str)
                                           else str(choice.gives)) for choice in slot.choices])
    return SlotSent(words=slot.longest)


def receive_phrases(sent: Iterable[PhraseSent]) -> dict[str, Phrase]:
    """The phrases that were sent.

    Raises:
        ProblemError, ValueError: one of them is none.
    """
    found = {}
    for each in sent:
        slots = {name: _receive_slot(slot) for name, slot in each.slots.items()}
        found[each.id] = Phrase(each.id, tuple(read_wording(text, tuple(slots)) for text in each.say), slots,
                                each.strict)
    return found


def _receive_slot(sent: SlotSent) -> Slot:
    if sent.one_of:
        return ChoiceSlot(tuple(Choice(tuple(read_wording(text) for text in each.say), each.gives)
                                for each in sent.one_of))
    if sent.words:
        return WordsSlot(sent.words)
    return number_slot(Decimal(sent.low), Decimal(sent.high), Decimal(sent.step))


def tell_verdict(verdict: Verdict) -> list[CandidateTold]:
    """What an utterance can have been, as a message."""
    return [_candidate(heard) for heard in verdict.heard]


def _candidate(heard: Heard) -> CandidateTold:
    def plain(value: Value) -> int | str:
        return value if isinstance(value, int | str) else format(value, "f")
    reading = heard.reading
    return CandidateTold(phrase=reading.phrase, said=reading.said, alike=max(0, heard.alike), needed=heard.needed,
                         trouble=reading.trouble,
                         values={name: plain(value) for name, value in reading.values.items()})
