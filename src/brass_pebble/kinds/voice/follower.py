"""From sound to verdicts: where an utterance begins and ends, what was heard in it, whether to believe it."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from brass_pebble.core.voice.ends import BEFORE, FRAME, Ends
from brass_pebble.core.voice.hearing import Hypothesis, Utterance
from brass_pebble.core.voice.judging import MOST_READINGS, REFUSED, SILENT, SURE, UNSURE, Heard, Verdict, judge
from brass_pebble.core.voice.matching import may_go_on, read_words
from brass_pebble.core.voice.phrase import Phrase, WordsSlot

from .recogniser import RATE, Recogniser
from .second import SecondOpinion
from .speech import FRAME_BYTES, Cleaner, Speech, clipped, loudness

MS = 1_000_000
# While silence lasts it is looked at each frame whether the utterance is over; before, so often, to show the words.
LOOKED_AT = 5
# What is refused by less than so many points is thought over; so much of an utterance is kept for it, in bytes.
NEAR, MOST_HEARD = 25, RATE * 2 * 40
# How sure a second recogniser has to be of free words on the whole to be believed at once, 0 to 1.
SURE_OF_WORDS = 0.85


@dataclass(frozen=True)
class Judged:
    """An utterance and what becomes of it; how long silence was waited for, in ns; what it can have been as free
    speech, if that is asked for."""

    utterance: Utterance
    verdict: Verdict
    waited: int
    readings: tuple[str, ...] = ()


class Follower:
    """Follows one microphone.  `words` are those of the utterance so far; `loud` is in dB below the loudest."""

    def __init__(self, recogniser: Recogniser) -> None:
        self.recogniser = recogniser
        self.phrases: dict[str, Phrase] = {}
        # Those of the next utterance.
        self.asked_for: dict[str, Phrase] = {}
        self.words: tuple[str, ...] = ()
        self.loud = -120.0
        self.ends = Ends()
        self._speech, self._cleaner = Speech(), Cleaner()
        self._next: tuple[Sequence[Phrase], dict[str, tuple[str, ...]]] | None = None
        self.unknown: tuple[str, ...] = ()
        self._before: deque[bytes] = deque(maxlen=BEFORE)
        self._rest = b""
        # A second recogniser, if there is one, and the sound of the utterance for it.
        self.second: SecondOpinion | None = None
        # Whether the words of each utterance are told, whatever they are.
        self.dictates = False
        self._sound = bytearray()
        self._began = self._spoke = 0
        self._clipped, self._loudest = False, -120.0

    @property
    def speaking(self) -> bool:
        """Whether an utterance is going on."""
        return self.ends.speaking

    def listen_for(self, phrases: Mapping[str, Phrase], pronounced: dict[str, tuple[str, ...]]) -> None:
        """Listen for these; an utterance that goes on is judged by what was listened for when it began."""
        self.asked_for = dict(phrases)
        self._next = tuple(phrases.values()), pronounced
        if not self.ends.speaking:
            self._change()

    def _change(self) -> None:
        if self._next is not None:
            phrases, pronounced = self._next
            self._next = None
            self.unknown = self.recogniser.listen_for(phrases, pronounced)
            self.phrases = {phrase.id: phrase for phrase in phrases}

    def take(self, samples: bytes, at: int) -> list[Judged]:
        """Samples that arrived until `at` (ns): the utterances that are over with them."""
        self._rest += samples
        found = []
        count = len(self._rest) // FRAME_BYTES
        for index in range(count):
            frame, self._rest = self._rest[:FRAME_BYTES], self._rest[FRAME_BYTES:]
            if (judged := self._step(frame, at - (count - 1 - index) * FRAME * MS)) is not None:
                found.append(judged)
        return found

    def _step(self, raw: bytes, at: int) -> Judged | None:
        self.loud = loudness(raw)
        frame = self._cleaner.clean(raw)
        speech = self._speech.is_speech(frame)
        begins = self.ends.step(speech=speech)
        if not self.ends.speaking:
            self._before.append(frame)
            return None
        if begins:
            self._begin(at)
        self.recogniser.feed(frame)
        if len(self._sound) < MOST_HEARD:
            self._sound += frame
        if speech:
            self._spoke = at
            self._clipped |= clipped(raw)
            self._loudest = max(self._loudest, self.loud)
            if self.ends.frames % LOOKED_AT == 0:
                self.words = self.recogniser.so_far()
            return None
        self.words = words = self.recogniser.so_far()
        phrases = list(self.phrases.values())
        whole = bool(words) and bool(read_words(words, phrases))
        if not self.ends.over(whole=whole, may_go_on=whole and may_go_on(words, phrases)):
            return None
        return self._end(at)

    def _begin(self, at: int) -> None:
        self.recogniser.begin()
        self._began, self._spoke = at - len(self._before) * FRAME * MS, at
        self._clipped, self._loudest, self.words = False, -120.0, ()
        self._sound.clear()
        for frame in self._before:
            self.recogniser.feed(frame)
            self._sound += frame
        self._before.clear()

    def _end(self, at: int) -> Judged:
        understood = self.recogniser.end()
        self.ends.end()
        utterance = Utterance(understood.hypotheses, understood.sounds, self._began, self._spoke, self._loudest,
                              self._clipped)
        verdict = self._second_thought(utterance, judge(utterance, self.phrases))
        readings = self._free_readings() if self.dictates else ()
        self.words = ()
        self._change()
        return Judged(utterance, verdict, at - self._spoke, readings)

    def _free_readings(self) -> tuple[str, ...]:
        """What the utterance can have been as free speech: what the second recogniser makes of it stands first."""
        second = self.second.understand(bytes(self._sound)) if self.second is not None else None
        readings = ((second.text,) if second is not None else ()) + self.recogniser.dictate()
        return tuple(dict.fromkeys(readings))[:MOST_READINGS]

    def _second_thought(self, utterance: Utterance, verdict: Verdict) -> Verdict:
        """Where the first recogniser is unsure, or cannot know: what a second one makes of it."""
        best = verdict.best
        free = best is not None and best.reading.phrase in self.phrases and any(
            isinstance(slot, WordsSlot) for slot in self.phrases[best.reading.phrase].slots.values())
        near = verdict.kind == REFUSED and best is not None and best.alike >= best.needed - NEAR
        foreign = verdict.kind in (SILENT, REFUSED) and bool(self.unknown)
        if self.second is None or not (free or near or foreign or verdict.kind == UNSURE):
            return verdict
        heard = self.second.understand(bytes(self._sound))
        if heard is None:
            return verdict
        if free and best is not None and verdict.kind in (SURE, UNSURE):
            return self._read_anew(verdict, best, heard)
        second = judge(replace(utterance, hypotheses=(heard,), sounds=()), self.phrases)
        if second.kind != SURE or second.best is None:
            return verdict
        if foreign or any(each.reading.comes_to(second.best.reading) for each in verdict.heard):
            return second
        return verdict

    def _read_anew(self, verdict: Verdict, best: Heard, heard: Hypothesis) -> Verdict:
        """The same phrase with the free words as the second recogniser reads them: at once where it is sure of them,
        else before the readings that there are."""
        read = next((reading for reading in read_words([word.text for word in heard.words], list(self.phrases.values()))
                     if reading.phrase == best.reading.phrase and not reading.trouble), None)
        if read is None:
            return verdict
        first = replace(best, reading=read)
        sure = [word.sure for (start, end) in read.spans.values() for word in heard.words[start:end]]
        if sure and sum(sure) / len(sure) >= SURE_OF_WORDS:
            return Verdict(SURE, (first,))
        others = tuple(each for each in verdict.heard if not each.reading.comes_to(read))[:MOST_READINGS - 1]
        if not others:
            return Verdict(SURE, (first,))
        return Verdict(UNSURE, (first, *others), f"“{read.said}” or “{others[0].reading.said}”")

    def drop(self) -> None:
        """Forget the utterance that goes on: its microphone is gone, or must not be heard now."""
        if self.ends.speaking:
            self.recogniser.end()
            self.ends.end()
            self._change()
        self._before.clear()
        self._rest, self.words = b"", ()
