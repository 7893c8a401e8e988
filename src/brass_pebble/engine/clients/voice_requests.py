"""What clients may ask about spoken phrases.  One method for each request; docs/protocol.md tells the fields."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import Any

from brass_pebble.core.desk.look.drawn import PhraseSlot
from brass_pebble.core.desk.model import Surface
from brass_pebble.core.desk.read.phrases import MOST_PHRASES, SPOKEN
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.core.say.setting import check_setting, settings_of
from brass_pebble.core.voice.listening import Listening
from brass_pebble.core.voice.phrase import STRICT, Phrase
from brass_pebble.core.voice.sounds import for_speaking, is_sound, sounds_as_in
from brass_pebble.core.voice.wording import read_wording
from brass_pebble.engine.disk.edits import Edit, Path, Row
from brass_pebble.engine.ports import Ports
from brass_pebble.engine.runs.hearing import Hearing
from brass_pebble.protocol import voice as messages
from brass_pebble.protocol.base import UNSET
from brass_pebble.protocol.errors import Refusal

from .editing import Editing
from .server import Client, Message

LONGEST_ID = 40
TRIAL_STEPS = ("say", "talk", "end", "leave")


class VoiceRequests:
    """Answers on behalf of an engine."""

    hearing: Hearing
    # Says sounds aloud, as espeak-ng writes them; false if nothing here can.
    utter: Callable[[str], bool]

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing

    def _surface(self, name: str) -> Surface:
        surface = self._editing.surface(name)
        if surface.layout.id != SPOKEN:
            raise Refusal(f"“{surface.name}” is not spoken to", "Name a surface that is a microphone")
        return surface

    def _phrase(self, surface: Surface, name: str) -> Phrase:
        phrase = next((each for each in surface.phrases if each.id == name), None)
        if phrase is None:
            raise Refusal(f"“{surface.name}” has no phrase “{name}”", nearest(name, [p.id for p in surface.phrases]))
        return phrase

    def do_voices(self, client: Client, ask: messages.AskVoices) -> Message:
        """Every microphone of the desk."""
        return {"voices": self.hearing.rows()}

    def do_say(self, client: Client, ask: messages.Say) -> Message:
        """Take words as if they had been said."""
        words, trace = self.hearing.say(self._surface(ask.surface), ask.words)
        return {"words": words, "trace": trace}

    def do_take_reading(self, client: Client, ask: messages.TakeReading) -> Message:
        """Choose one of the readings that stand."""
        words = self.hearing.choose(ask.number, ask.surface)
        if not words:
            raise Refusal("there is nothing to choose from any more", "Say the phrase once more")
        return {"words": words}

    def do_set_hearing(self, client: Client, ask: messages.SetHearing) -> Message:
        """Let phrases count, or not."""
        if ask.surface:
            self._surface(ask.surface)
        self.hearing.switch(ask.surface, on=ask.on)
        return {}

    def do_look_at_voice(self, client: Client, ask: messages.LookAtVoice) -> Message:
        """Be told how loud it is."""
        self.hearing.look(client.number, ask.seconds)
        return {}

    def do_add_phrase(self, client: Client, ask: messages.AddPhrase) -> None:
        """Give a surface a phrase."""
        surface = self._surface(ask.surface)
        if len(surface.phrases) >= MOST_PHRASES:
            raise Refusal(f"“{surface.name}” has {MOST_PHRASES} phrases, which is the most",
                          "Take some away that nobody says")
        _check(ask.say, ask.slots)
        name = _free_id(ask.say[0], {phrase.id for phrase in surface.phrases})
        path = ("surface", surface.id, "phrase", name)
        values: list[tuple[Path, Any]] = [((*path, "say"), list(ask.say)), *_slot_values(path, ask.slots)]
        edit = Edit(f"{surface.name}: “{ask.say[0]}” is a phrase", tuple(values), needs=path[:2])
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit), {"phrase": name})

    def do_set_phrase(self, client: Client, ask: messages.SetPhrase) -> None:
        """Change a phrase."""
        surface = self._surface(ask.surface)
        phrase = self._phrase(surface, ask.phrase)
        path = ("surface", surface.id, "phrase", phrase.id)
        values: list[tuple[Path, Any]] = []
        slots = ask.slots if ask.slots is not UNSET else None
        if slots is not None:
            values.append(((*path, "slot"), None))
            values += _slot_values(path, slots)
        if ask.say is not UNSET:
            names = slots if slots is not None else phrase.slots
            _check(ask.say, names)
            values.append(((*path, "say"), list(ask.say)))
        elif slots is not None:
            _check([wording.text for wording in phrase.say], slots)
        for name, value, usual in (("strict", ask.strict, STRICT), ("attention", ask.attention, True),
                                   ("reply", ask.reply_text, "")):
            if value is not UNSET:
                values.append(((*path, name), None if value == usual else value))
        if not values:
            raise Refusal("nothing was to be changed", "Give what is to be another one")
        edit = Edit(f"{surface.name}: “{phrase.legend}” changed", tuple(values), needs=path[:2])
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))

    def do_remove_phrase(self, client: Client, ask: messages.RemovePhrase) -> None:
        """Take a phrase away, with all that it means."""
        surface = self._surface(ask.surface)
        phrase = self._phrase(surface, ask.phrase)
        values: list[tuple[Path, Any]] = [
            (("surface", surface.id, "layer", layer.id, gesture, control), None)
            for layer in surface.layers for control, gesture in layer.bindings if control == phrase.id]
        values.append((("surface", surface.id, "phrase", phrase.id), None))
        edit = Edit(f"{surface.name}: deleted “{phrase.legend}”", tuple(values))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))

    def do_try_phrase(self, client: Client, ask: messages.TryPhrase) -> Message:
        """Try a phrase out."""
        surface = self._surface(ask.surface)
        phrase = self._phrase(surface, ask.phrase)
        if ask.step not in TRIAL_STEPS:
            raise Refusal(f"“{ask.step}” is not a step of a trial", f"Available: {', '.join(TRIAL_STEPS)}")
        self.hearing.trying.try_out(client.number, surface.id, phrase, ask.step)
        return {}

    def do_hear_words(self, client: Client, ask: messages.HearWords) -> Message:
        """Have the words of what is said told."""
        self.hearing.trying.hear_words(client.number, self._surface(ask.surface).id, on=ask.on)
        return {}

    def do_record_voice(self, client: Client, ask: messages.RecordVoice) -> Message:
        """Keep what is said, for trying things out."""
        self.hearing.trying.record(client.number, self._surface(ask.surface).id, ask.seconds)
        return {}

    def do_try_recording(self, client: Client, ask: messages.TryRecording) -> Message:
        """Find out what the recording would do."""
        surface = self._surface(ask.surface).id
        if ask.on:
            self.hearing.trying.try_recording(client.number, surface)
        else:
            self.hearing.trying.leave(surface)
        return {}

    def do_erase_recording(self, client: Client, ask: messages.EraseRecording) -> Message:
        """Erase the recording."""
        surface = self._surface(ask.surface)
        if not self.hearing.trying.erase(surface.id):
            raise Refusal(f"“{surface.name}” has no recording", "There is nothing to erase")
        return {}

    def do_learn_word(self, client: Client, ask: messages.LearnWord) -> Message:
        """Learn how a word is pronounced, by hearing it."""
        surface = self._surface(ask.surface)
        word = ask.word.strip().casefold()

        def learned(sounds: tuple[str, ...]) -> None:
            edit = _pronounced(surface, word, " ".join(sounds))
            self._editing.edit(None, None, lambda: self._editing.store.change(edit))
        self.hearing.trying.learn(client.number, surface.id, word, learned)
        return {}

    def do_set_pronunciation(self, client: Client, ask: messages.SetPronunciation) -> None:
        """Say how a word is pronounced."""
        surface = self._surface(ask.surface)
        sounds = ask.sounds.upper().split()
        for sound in sounds:
            if not is_sound(sound):
                raise Refusal(f"“{sound}” is not a sound", nearest(sound, sounds_as_in()) or
                              "Write them as in R EH S AH P IY for recipe")
        edit = _pronounced(surface, ask.word.strip().casefold(), " ".join(sounds))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))

    def do_say_word(self, client: Client, ask: messages.SayWord) -> Message:
        """Have sounds said aloud."""
        if not self.utter(for_speaking(ask.sounds.upper().split())):
            raise Refusal("it cannot be said aloud here", "Install espeak-ng, or say it three times instead")
        return {}

    def do_set_listening(self, client: Client, ask: messages.SetListening) -> None:
        """Change how a microphone is listened to."""
        surface = self._surface(ask.surface)
        rows = settings_of(Listening)
        if ask.what not in rows:
            raise Refusal(f"there is no setting “{ask.what}”", nearest(ask.what, rows) or
                          f"Available: {', '.join(rows)}")
        row, value = rows[ask.what], ask.value
        if value is not None:
            if isinstance(row.default, tuple):
                value = [value] if isinstance(value, str) else value
                _check(value if isinstance(value, list) else [], {})
            else:
                check_setting(row, value)
        said = "as without it" if value is None else row.say(value)
        edit = Edit(f"{surface.name}: {row.label or ask.what}: {said}",
                    ((("surface", surface.id, "listening", ask.what), value),))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))


def _pronounced(surface: Surface, word: str, sounds: str) -> Edit:
    path = ("surface", surface.id, "pronounced", word)
    return Edit(f"{surface.name}: “{word}” is pronounced {sounds or 'as usual'}", ((path, sounds or None),))


def _check(say: Iterable[str], slots: Mapping[str, object]) -> None:
    """Look at wordings before anything is written.

    Raises:
        ProblemError: one of them cannot be said.
    """
    texts = list(say)
    if not texts:
        raise ProblemError("a phrase needs at least one wording", hint="Write what is said, such as: oven close-up")
    for text in texts:
        read_wording(text, tuple(slots))


def _slot_values(path: Path, slots: Mapping[str, PhraseSlot]) -> list[tuple[Path, Any]]:
    return [((*path, "slot", name), _slot(slot)) for name, slot in slots.items()]


def _slot(slot: PhraseSlot) -> Row:
    if slot.one_of:
        return Row({"one_of": Row(slot.one_of)})
    if slot.words:
        return Row({"words": slot.words})

    def plain(number: float | None, usual: float) -> float | int:
        value = usual if number is None else number
        return int(value) if value == int(value) else value
    return Row({"from": plain(slot.low, 0), "to": plain(slot.high, 100), "step": plain(slot.step, 1)})


def _free_id(text: str, taken: set[str]) -> str:
    """An id made of the words of a wording."""
    plain = re.sub(r"[^a-z0-9]+", "-", re.sub(r"\[[^\]]*\]", " ", text.casefold())).strip("-")[:LONGEST_ID].strip("-")
    name = plain or "phrase"
    number = 2
    while name in taken:
        name, number = f"{plain or 'phrase'}-{number}", number + 1
    return name
