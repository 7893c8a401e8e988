"""The phrases of a surface read from desk.toml, and the drawing that is made of them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from decimal import Decimal

from brass_pebble.core.desk.action import Action
from brass_pebble.core.devices.layout import Control, Layout
from brass_pebble.core.play.gesture import PRESS, WITH
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.core.say.setting import read_all
from brass_pebble.core.say.toml_fields import Fields
from brass_pebble.core.signals.signal import PHRASE, find_signal, phrase_signal
from brass_pebble.core.voice.listening import Listening
from brass_pebble.core.voice.phrase import (
    FREE_WORDS,
    Choice,
    ChoiceSlot,
    NumberSlot,
    Phrase,
    Slot,
    Value,
    WordsSlot,
    number_slot,
)
from brass_pebble.core.voice.sounds import is_sound, sounds_as_in
from brass_pebble.core.voice.wording import Wording, read_wording

# The layout of a surface that is spoken to: it is drawn from its phrases.
SPOKEN = "phrases"
MOST_PHRASES, MOST_WORDINGS, MOST_CHOICES = 500, 12, 200
# Caps are so wide, in key units, and up to so many stand in one row.
WIDE = 2.2
_COLUMNS = ((8, 2), (24, 3), (60, 4), (MOST_PHRASES, 6))
LONGEST_WORDS = 40
_KEPT = {"sustain": "sustained", "rapid": "tapped", "layer": "switched on"}


def cannot_be_said(control: str, gesture: str, action: Action) -> tuple[str, str]:
    """Why a phrase cannot be bound so, and the next step; empty texts if it can."""
    if gesture != PRESS and not gesture.startswith(WITH):
        return f"“{control}” is a phrase, and there is no “{gesture}” of what is said", "Bind it to press"
    if action.holds:
        kept = _KEPT.get(action.kind, "kept")
        return (f"“{control}” is a phrase, and over when it was said: nothing can be {kept} as long as it is held",
                "Use latch or a layer that is on or off, or a macro that holds for a time")
    return "", ""


def phrase_layout(phrases: Sequence[Phrase]) -> Layout:
    """A cap for each phrase, row by row."""
    columns = next(count for most, count in _COLUMNS if len(phrases) <= most)
    return Layout(SPOKEN, "Phrases", tuple(
        Control(phrase.id, phrase_signal(phrase.id), index % columns * WIDE, float(index // columns), WIDE, 1.0,
                phrase.legend)
        for index, phrase in enumerate(phrases)))


def read_phrases(fields: Fields) -> tuple[Phrase, ...]:
    """Every phrase of a surface.  What is broken is told and left out."""
    found = []
    for index, (name, row) in enumerate(fields.entries("phrase")):
        if index == MOST_PHRASES:
            row.problem("", f"a surface has at most {MOST_PHRASES} phrases; this one and the rest are left out",
                        "Give the rest to a second surface")
            break
        try:
            find_signal(f"{PHRASE.word} {name}")
        except ProblemError:
            row.problem("", f"“{name}” cannot be the id of a phrase",
                        "Use small letters, digits and -, as in oven-close")
            continue
        if (phrase := _read_phrase(name, row)) is not None:
            found.append(phrase)
    return tuple(found)


def _read_phrase(name: str, row: Fields) -> Phrase | None:
    known = {slot: _read_slot(table) for slot, table in row.entries("slot")}
    slots = {slot: read for slot, read in known.items() if read is not None}
    if len(slots) < len(known):
        # Told already; with less to choose from it would listen for something else than was meant.
        return None
    settings = read_all(Phrase, row)
    texts = row.texts("say") if isinstance(row.data.get("say"), list) else (row.text("say", name.replace("-", " ")),)
    if len(texts) > MOST_WORDINGS:
        row.problem("say", f"a phrase has at most {MOST_WORDINGS} wordings; the rest are left out",
                    "Put words that may be left out in brackets: [the] oven")
    say = _read_wordings(texts[:MOST_WORDINGS], tuple(slots), row, "say")
    row.done()
    if not say:
        if not texts:
            row.problem("say", f"“{name}” has no words", 'Write say = ["oven close up"]')
        return None
    return Phrase(name, say, slots, **settings)


def _read_wordings(texts: Iterable[str], slots: Sequence[str], row: Fields, key: str) -> tuple[Wording, ...]:
    found = []
    for text in texts:
        try:
            found.append(read_wording(text, slots))
        except ProblemError as error:
            row.problem(key, f"“{text}”: {error.problem.what}", error.problem.hint, word=text)
    return tuple(found)


def _read_slot(row: Fields) -> Slot | None:
    """A slot: `{ from, to, step }`, `{ one_of = { words = what } }` or `{ words = how many }`."""
    if "one_of" in row.data:
        slot: Slot | None = _read_choices(row.table("one_of"))
    elif "words" in row.data:
        most = row.number("words", FREE_WORDS)
        if not 1 <= most <= LONGEST_WORDS:
            row.problem("words", f"free words are 1 to {LONGEST_WORDS}", f"Write words = {FREE_WORDS}")
        slot = WordsSlot(int(min(max(most, 1), LONGEST_WORDS)))
    else:
        low, high, step = (Decimal(str(row.data.get(key, usual))) if isinstance(row.data.get(key, usual), int | float)
                           else Decimal(usual) for key, usual in (("from", 0), ("to", 100), ("step", 1)))
        for key in ("from", "to", "step"):
            row.number(key, 0)
        try:
            slot = number_slot(low, high, step)
        except ValueError as error:
            row.problem("", f"such a number cannot be said: {error}",
                        "Write slot.level = { from = 0, to = 100, step = 1 }")
            slot = NumberSlot()
    row.done()
    return slot


def _read_choices(row: Fields) -> ChoiceSlot | None:
    found: list[Choice] = []
    if len(row.data) > MOST_CHOICES:
        row.problem("", f"one of at most {say_count(MOST_CHOICES, 'choice')} can be said",
                    "Use a number, or free words")
    for words in list(row.data)[:MOST_CHOICES]:
        row.known(words)
        gives = row.data[words]
        if isinstance(gives, bool) or not isinstance(gives, int | str):
            row.problem(words, f"“{words}” must stand for a text, a key, or a whole number",
                        f'Write "{words}" = "Ctrl+1"')
            continue
        value: Value = gives
        if say := _read_wordings((words,), (), row, words):
            found.append(Choice(say, value))
    row.done()
    if not found:
        row.problem("", "there is nothing to choose from", 'Write one_of = { oven = "3", bench = "4" }')
        return None
    return ChoiceSlot(tuple(found))


def read_pronounced(fields: Fields) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """How words are pronounced that a recogniser does not know."""
    found = []
    for word in fields.data:
        text = fields.text(word, "")
        sounds = tuple(text.upper().split())
        wrong = next((sound for sound in sounds if not is_sound(sound)), "")
        if wrong or not sounds:
            fields.problem(word, f"“{wrong}” is not a sound" if wrong else f"“{word}” has no sounds",
                           nearest(wrong, sounds_as_in()) or "Write them as in R EH S AH P IY for recipe", word=wrong)
            continue
        found.append((word.casefold(), sounds))
    fields.done()
    return tuple(found)


def read_listening(fields: Fields) -> Listening:
    """How a surface's microphone is listened to."""
    found = read_all(Listening, fields)
    for name in ("attention", "start", "stop"):
        if name in fields.data:
            texts = fields.texts(name)
            if len(_read_wordings(texts, (), fields, name)) == len(texts):
                found[name] = texts
    fields.done()
    return Listening(**found)
