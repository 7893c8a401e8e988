"""pocketsphinx with the English model of its wheel: it answers first, and needs no network.

Two searches follow the same sound, one through the grammar of the phrases, one through any row of sounds.  A phrase is
told from talk by the fit of its words, and by the distance between their sounds and those of the second search.
"""

from __future__ import annotations

import math
import os
import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from brass_pebble.core.voice.grammar import jsgf
from brass_pebble.core.voice.hearing import HeardWord, Hypothesis
from brass_pebble.core.voice.numbers import number_words
from brass_pebble.core.voice.phrase import ChoiceSlot, Phrase, vocabulary
from brass_pebble.core.voice.sounds import is_sound, sounds_as_in
from brass_pebble.core.voice.wording import Wording

from .recogniser import NEEDS, RATE, NoRecogniser, Understood

PHRASES, PHONES = "phrases", "phones"
# A word of free speech is written as a row of these: one sound each.
LOOSE, UNKNOWN = "loose-", "~"
# So many readings of free words are offered; so much around them is listened to, in s; so much is kept of an utterance.
READINGS, AROUND, MOST_HEARD = 4, 0.1, RATE * 2 * 40
# Other ways to understand an utterance: so many are looked at, and so many kept.
LOOKED_AT, KEPT = 24, 5
# How quickly shares fall with the score: scores are divided so far by the model that they lie close together.
EVEN = 0.03
FRAME = 0.01
_VARIANT = re.compile(r"\(\d+\)$")
_SILENCE = re.compile(r"^(<.*>|\[.*\]|\+\+.*\+\+|SIL|NULL|\(NULL\))$", re.IGNORECASE)


class Sphinx:
    """One microphone's recogniser.

    Raises:
        NoRecogniser: the package is not installed.
    """

    def __init__(self) -> None:
        try:
            import pocketsphinx
        except ImportError:
            raise NoRecogniser(NEEDS) from None
        model = os.path.join(pocketsphinx.get_model_path(), "en-us")
        common = {"hmm": os.path.join(model, "en-us"), "samprate": float(RATE), "logfn": os.devnull, "lm": None}
        self._model, self._common = model, common
        self._words: Any = self._word_search()
        # What was added to the words that the model knows; none of it can be taken away from a search again.
        self._added: set[tuple[str, tuple[str, ...]]] = set()
        self._sounds: Any = pocketsphinx.Decoder(dict=None, **common)
        self._sounds.add_allphone_file(PHONES, os.path.join(model, "en-us-phone.lm.bin"))
        self._sounds.activate_search(PHONES)
        self._ready = self._open = False
        # Free words are searched for once more, by a model of the language that is read when it is needed first.
        self._dictation: Any = None
        self._heard = bytearray()

    def _word_search(self) -> Any:
        import pocketsphinx
        words = pocketsphinx.Decoder(dict=os.path.join(self._model, "cmudict-en-us.dict"), **self._common)
        for sound in sounds_as_in():
            words.add_word(f"{LOOSE}{sound.lower()}", sound, False)
        return words

    def listen_for(self, phrases: Sequence[Phrase], pronounced: dict[str, tuple[str, ...]]) -> tuple[str, ...]:
        self._finish()
        if any(pronounced.get(word) != sounds for word, sounds in self._added):
            self._words, self._added = self._word_search(), set()
        unknown = []
        for word in (*vocabulary(phrases), *number_words()):
            told = pronounced.get(word)
            if told and all(map(is_sound, told)):
                # A pronunciation of one's own comes beside those that are known.
                known = self._words.lookup_word(word)
                name = word if known is None else f"{word}({2 + len(self.pronounce(word)) - 1})"
                if known is None or told not in self.pronounce(word):
                    self._words.add_word(name, " ".join(told), False)
                    self._added.add((word, told))
            elif self._words.lookup_word(word) is None:
                unknown.append(word)
        able = [can for phrase in phrases if (can := _without(phrase, frozenset(unknown))) is not None]
        loose = "(" + " | ".join(f"{LOOSE}{sound.lower()}" for sound in sounds_as_in()) + ")+"
        text = jsgf(able, name=PHRASES, free=loose)
        self._ready = bool(text)
        if text:
            self._words.add_jsgf_string(PHRASES, text)
            self._words.activate_search(PHRASES)
        return tuple(unknown)

    def begin(self) -> None:
        self._finish()
        self._open = True
        self._heard.clear()
        for decoder in self._both():
            decoder.start_utt()

    def feed(self, samples: bytes) -> None:
        if len(self._heard) < MOST_HEARD:
            self._heard += samples
        for decoder in self._both():
            decoder.process_raw(samples, False, False)

    def _both(self) -> tuple[Any, ...]:
        return (self._words, self._sounds) if self._ready else (self._sounds,)

    def _finish(self) -> None:
        """End an utterance that nobody ended, so that the next can begin."""
        if self._open:
            self._open = False
            for decoder in self._both():
                decoder.end_utt()

    def so_far(self) -> tuple[str, ...]:
        if not (self._open and self._ready):
            return ()
        hypothesis = self._words.hyp()
        return tuple(_plain(hypothesis.hypstr.split())) if hypothesis is not None else ()

    def end(self) -> Understood:
        if not self._open:
            return Understood()
        self._finish()
        sounds = tuple(name for name, *_ in self._segments(self._sounds))
        if not self._ready or self._words.hyp() is None:
            return Understood((), sounds)
        best = self._words.hyp()
        said = tuple(self._segments(self._words))
        if not said:
            return Understood((), sounds)
        first = self._made(said)
        if (at := next((index for index, word in enumerate(first.words) if word.text.startswith(UNKNOWN)), -1)) >= 0:
            return Understood(tuple(self._dictated(first, at)), sounds)
        found = [(first, math.log(best.score))]
        for other in self._others():
            words = tuple(_plain(other.hypstr.split()))
            if words and other.score > 0 and not any(words == tuple(w.text for w in h.words) for h, _ in found):
                found.append((self._without_times(words, first), math.log(other.score)))
            if len(found) == KEPT:
                break
        likeliest = found[0][1]
        weights = [math.exp((each[1] - likeliest) / EVEN) for each in found]
        shares = [weight / sum(weights) for weight in weights]
        return Understood(tuple(replace(each, share=share) for (each, _), share in zip(found, shares, strict=True)),
                          sounds)

    def _dictated(self, first: Hypothesis, at: int) -> Iterator[Hypothesis]:
        """What the free words of an utterance can be, the likeliest first."""
        word = first.words[at]
        begin, end = (max(0, round((second - margin) * RATE) * 2) for second, margin in
                      ((word.start, AROUND), (word.end, -AROUND)))
        readings = self._read(bytes(self._heard[begin:end]))
        for words in readings:
            free = [HeardWord(text, word.start, word.end) for text in words]
            yield replace(first, words=(*first.words[:at], *free, *first.words[at + 1:]), share=1.0 / len(readings))

    def dictate(self) -> tuple[str, ...]:
        return tuple(" ".join(words) for words in self._read(bytes(self._heard)))

    def _read(self, samples: bytes) -> list[tuple[str, ...]]:
        """Free speech by the model of the language, the likeliest reading first."""
        if self._dictation is None:
            import pocketsphinx
            self._dictation = pocketsphinx.Decoder(
                **{**self._common, "dict": os.path.join(self._model, "cmudict-en-us.dict"),
                   "lm": os.path.join(self._model, "en-us.lm.bin")})
        decoder = self._dictation
        decoder.start_utt()
        decoder.process_raw(samples, False, True)
        decoder.end_utt()
        readings: list[tuple[str, ...]] = []
        best = decoder.hyp()
        for text in (best.hypstr if best is not None else "", *(other.hypstr for index, other in zip(
                range(LOOKED_AT), decoder.nbest(), strict=False) if other is not None)):
            words = tuple(_plain(text.split()))
            if words and words not in readings:
                readings.append(words)
            if len(readings) == READINGS:
                break
        return readings

    def _others(self) -> Iterator[Any]:
        for index, other in enumerate(self._words.nbest()):
            if index == LOOKED_AT:
                return
            if other is not None:
                yield other

    def _segments(self, decoder: Any) -> Iterator[tuple[str, int, int, float]]:
        """The words between silences, each as it stands in the dictionary, with its first and last frame, and how well
        it fits: the logarithm of how likely its sounds are beside the likeliest of each frame."""
        for piece in decoder.seg() or ():
            if not _SILENCE.match(piece.word):
                yield piece.word, piece.start_frame, piece.end_frame, math.log(max(piece.ascore, 1e-300))

    def _made(self, said: tuple[tuple[str, int, int, float], ...]) -> Hypothesis:
        words = _joined([HeardWord(_VARIANT.sub("", word), start * FRAME, (end + 1) * FRAME)
                         for word, start, end, _ in said])
        sounds = tuple(sound for word, *_ in said for sound in (self._words.lookup_word(word) or "").split())
        # Free words fit whatever is said: only the others tell whether this was the phrase.
        fixed = [piece for piece in said if not piece[0].startswith(LOOSE)] or said
        frames = sum(end - start + 1 for _, start, end, _ in fixed)
        return Hypothesis(words, 1.0, sounds, sum(fit for *_, fit in fixed) / frames,
                          min(fit / (end - start + 1) for _, start, end, fit in fixed), self._covered(said))

    def _covered(self, said: tuple[tuple[str, int, int, float], ...]) -> float:
        """Which part of the sounds that were heard without expecting anything lies within words, 0 to 1."""
        heard = [(start, end) for _, start, end, _ in self._segments(self._sounds)]
        frames = sum(end - start + 1 for start, end in heard)
        within = sum(max(0, min(end, last) - max(start, first) + 1) for start, end in heard
                     for _, first, last, _ in said)
        return within / frames if frames else 1.0

    def _without_times(self, words: tuple[str, ...], best: Hypothesis) -> Hypothesis:
        """Another way to understand the same sound: nobody tells when its words were, or how each fits."""
        sounds = tuple(sound for word in words for sound in (self._words.lookup_word(word) or "").split())
        return Hypothesis(tuple(HeardWord(word) for word in words), 1.0, sounds, best.fit, best.worst, best.covers)

    def pronounce(self, word: str) -> tuple[tuple[str, ...], ...]:
        found = []
        for variant in ("", *(f"({number})" for number in range(2, 9))):
            sounds = self._words.lookup_word(word + variant)
            if sounds is None:
                break
            found.append(tuple(sounds.split()))
        return tuple(found)


def _plain(words: Sequence[str]) -> list[str]:
    """Words without what tells their variants, and rows of loose sounds as one."""
    return [word.text for word in _joined([HeardWord(_VARIANT.sub("", word)) for word in words
                                           if not _SILENCE.match(word)])]


def _joined(words: Sequence[HeardWord]) -> tuple[HeardWord, ...]:
    """Loose sounds in a row become one word, as they are heard: “r-ay-b-r-eh-d”."""
    found: list[HeardWord] = []
    for word in words:
        if not word.text.startswith(LOOSE):
            found.append(word)
            continue
        sound = word.text.removeprefix(LOOSE)
        if found and found[-1].text.startswith(UNKNOWN):
            found[-1] = HeardWord(f"{found[-1].text}-{sound}", found[-1].start, word.end)
        else:
            found.append(HeardWord(f"{UNKNOWN}{sound}", word.start, word.end))
    return tuple(found)


def _without(phrase: Phrase, unknown: frozenset[str]) -> Phrase | None:
    """A phrase without the wordings and choices that have a word which cannot be pronounced."""
    def can(wording: Wording) -> bool:
        return not unknown.intersection(wording.words)
    slots = dict(phrase.slots)
    for name, slot in slots.items():
        if isinstance(slot, ChoiceSlot):
            choices = tuple(replace(choice, say=say) for choice in slot.choices
                            if (say := tuple(filter(can, choice.say))))
            if not choices:
                return None
            slots[name] = ChoiceSlot(choices)
    say = tuple(filter(can, phrase.say))
    return replace(phrase, say=say, slots=slots) if say else None
