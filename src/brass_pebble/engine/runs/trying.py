"""Phrases that are tried out, words that are taught, sound that is kept for trying, new phrases that are said.

Nothing is sent meanwhile, but for what stops everything.  It is over when the client that asked for it leaves, and
after a time by itself.
"""

from __future__ import annotations

import contextlib
import copy
import wave
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from brass_pebble import paths
from brass_pebble.core.desk.model import Surface
from brass_pebble.core.voice.listening import Heard
from brass_pebble.core.voice.phrase import Phrase
from brass_pebble.core.voice.sounds import is_sound, middle
from brass_pebble.core.voice.trial import TALKS, Trial, tried
from brass_pebble.engine.clients.server import Message
from brass_pebble.engine.ports import Ports
from brass_pebble.kinds.inputs.base import DeviceGone
from brass_pebble.kinds.inputs.microphones import MicrophoneInput
from brass_pebble.kinds.voice.messages import Dictate, Dictated, Gone, Keep, Kept, Listen, Over, Told, Uttered
from brass_pebble.kinds.voice.sources import RECORDING, microphone_facts
from brass_pebble.protocol.errors import Refusal

from .spoken import HEARS, LESSONS, Lesson, Replay, Spoken

MS = 1_000_000
# What nobody ends is over after so long, in ns.
LONGEST_USE = 300_000 * MS
# How long a recording's process may take to tell that it is whole, in ns.
PATIENCE = 3_000 * MS
# So many utterances of a trial are kept.
MOST_TRIED = 200


class HearingForTrying(Protocol):
    """What is asked of whoever hears."""

    spoken: dict[str, Spoken]

    def would_do(self, surface: Surface, phrase: str) -> str:
        """What a phrase would do now, in words; empty if nothing."""

    def order_phrases(self, surface: Surface, spoken: Spoken) -> Listen:
        """What a microphone listens for now."""

    def received(self, told: Uttered, surface: Surface) -> Heard:
        """What was heard, as it counts on a surface."""

    def tell(self) -> None:
        """Tell clients how it is now."""


class Trying:
    """What microphones are used for while nothing is sent."""

    def __init__(self, ports: Ports, hearing: HearingForTrying, folder: Path) -> None:
        self._ports, self._hearing, self._folder = ports, hearing, folder

    def hear(self, surface: Surface, spoken: Spoken, heard: Heard, sounds: tuple[str, ...]) -> str:
        """Something was said meanwhile: what to tell of it."""
        if spoken.lesson is not None:
            self._take_lesson(spoken, spoken.lesson, sounds)
            return f"learning “{spoken.lesson.word}”" if spoken.lesson is not None else "learned"
        best = heard.candidates[0] if heard.candidates else None
        near = heard.why or (f"“{best.said}”, {best.alike} % alike" if best is not None else "nothing")
        if spoken.trial is not None:
            self._tried(surface, spoken, spoken.trial, heard)
            return f"trying out: {near}"
        return f"{'recording' if spoken.records_until else 'a new phrase is said'}: {near}"

    def told(self, name: str, spoken: Spoken, told: Kept | Dictated) -> None:
        """The process of a microphone tells of a recording, or what free speech can have been."""
        if isinstance(told, Dictated):
            if spoken.dictated is not None and told.readings:
                spoken.dictated = told.readings
        else:
            spoken.records_until, spoken.trouble = 0, told.why
            spoken.recorded = self.length(name)
        self._hearing.tell()

    def interrupted(self, name: str, spoken: Spoken) -> None:
        """A microphone is not heard any more: what was kept until then stays."""
        if spoken.records_until:
            spoken.records_until, spoken.recorded = 0, self.length(name)

    def lost(self, name: str, spoken: Spoken) -> None:
        """Its microphone is another one, or none: whatever it was used for is over, so that phrases count again."""
        self.interrupted(name, spoken)
        self._leave(spoken)

    # Trying out.

    def try_out(self, client: int, surface_id: str, phrase: Phrase, step: str) -> None:
        """Try a phrase out for a client: `say` it, `talk`, `end` it, or `leave` it."""
        spoken = self._hearing.spoken[surface_id]
        now = self._ports.now()
        if step == "say":
            self._occupy(client, surface_id)
            spoken.trial, spoken.trial_until = Trial(phrase.id, phrase.strict), 0
            self._begin_list(spoken)
        elif step == "talk" and spoken.trial is not None:
            spoken.trial.talks, spoken.trial_until = True, now + TALKS
            self._ports.alarms.at(f"trial of {surface_id}", spoken.trial_until, lambda now: self._hearing.tell())
        elif step in ("end", "leave"):
            spoken.trial = None
            spoken.tried = []
        self._hearing.tell()

    def _begin_list(self, spoken: Spoken) -> None:
        # What would come of it is worked out by a listener beside the one that counts.
        spoken.tried, spoken.tries, spoken.tried_from = [], copy.copy(spoken.listener), self._ports.now()

    def _tried(self, surface: Surface, spoken: Spoken, trial: Trial, heard: Heard) -> None:
        best, now = heard.candidates[0] if heard.candidates else None, self._ports.now()
        if not trial.talks or now < spoken.trial_until:
            trial.hear(best.phrase if best is not None else "", best.alike if best is not None else 0)
        self._note(surface, spoken, heard, now, (heard.began or now) - spoken.tried_from)

    def _note(self, surface: Surface, spoken: Spoken, heard: Heard, now: int, at: int) -> None:
        """One more utterance of a trial, and what would come of it."""
        assert spoken.tries is not None
        decision = spoken.tries.hear(heard, now)
        row = tried(heard, decision, max(0, at) / 1e9, lambda phrase: self._hearing.would_do(surface, phrase))
        spoken.tried = [*spoken.tried, row][-MOST_TRIED:]

    def _occupy(self, client: int, surface_id: str) -> None:
        """A client uses a microphone for itself: it counts again when the client leaves, and after a time by itself."""
        spoken = self._hearing.spoken[surface_id]
        self._leave(spoken)
        spoken.used_by = client
        self._ports.alarms.at(f"use of {surface_id}", self._ports.now() + LONGEST_USE,
                              lambda now: self._free(surface_id))

    def _free(self, surface_id: str) -> None:
        spoken = self._hearing.spoken.get(surface_id)
        if spoken is not None and spoken.occupied:
            self._leave(spoken)
            self._hearing.tell()

    def _leave(self, spoken: Spoken) -> None:
        spoken.trial = spoken.lesson = None
        if spoken.dictated is not None:
            self._dictate(spoken, on=False)
        if spoken.records_until:
            self._end_recording(spoken)

    def client_left(self, client: int) -> None:
        """It tries, teaches and records no more."""
        for name, spoken in self._hearing.spoken.items():
            if spoken.used_by == client:
                self._free(name)
            if spoken.replay is not None and spoken.replay.client == client:
                self.leave(name)

    # Teaching.

    def learn(self, client: int, surface_id: str, word: str, learned: Callable[[tuple[str, ...]], None]) -> None:
        """Learn how a word is pronounced from the next times that something is said; without a word, no longer."""
        self._occupy(client, surface_id)
        self._hearing.spoken[surface_id].lesson = Lesson(word, learned) if word else None
        self._hearing.tell()

    def _take_lesson(self, spoken: Spoken, lesson: Lesson, sounds: tuple[str, ...]) -> None:
        known = tuple(sound for sound in sounds if is_sound(sound))
        if len(known) >= 2:
            lesson.heard.append(known)
        if len(lesson.heard) == LESSONS:
            spoken.lesson = None
            lesson.learned(middle(lesson.heard))

    # A new phrase that is said.

    def hear_words(self, client: int, surface_id: str, *, on: bool) -> None:
        """Have the words of what is said told, whatever they are, until they are enough.

        Raises:
            Refusal: nobody hears this microphone.
        """
        spoken = self._hearing.spoken[surface_id]
        if on:
            self._check(spoken)
            self._occupy(client, surface_id)
            self._dictate(spoken, on=True)
        elif spoken.dictated is not None:
            self._dictate(spoken, on=False)
        self._hearing.tell()

    def _dictate(self, spoken: Spoken, *, on: bool) -> None:
        spoken.dictated = [] if on else None
        if spoken.source is not None:
            spoken.source.order(Dictate(on=on))

    def _check(self, spoken: Spoken) -> None:
        if spoken.source is None or spoken.state != HEARS:
            raise Refusal(f"nothing can be heard now: {spoken.why or 'the microphone is not read'}",
                          "Try again when the Phrases view says that it listens, or type the words")

    # Recordings.

    def file(self, surface_id: str) -> Path:
        """Where the recording of a surface is, if there is one: it goes with everything else of this login."""
        return self._folder / f"{surface_id}.wav"

    def length(self, surface_id: str) -> float:
        """How long the recording of a surface is, in s; 0 where there is none."""
        with contextlib.suppress(OSError, EOFError, wave.Error), wave.open(str(self.file(surface_id))) as sound:
            return float(sound.getnframes() / sound.getframerate())
        return 0.0

    def record(self, client: int, surface_id: str, seconds: float) -> None:
        """Keep what is said from now on for so long, in place of what was kept before; 0: it is enough.

        Raises:
            Refusal: nobody hears this microphone, or there is no place for it.
        """
        spoken = self._hearing.spoken[surface_id]
        if not seconds:
            self._end_recording(spoken)
            return
        self._check(spoken)
        if spoken.records_until:
            raise Refusal("this microphone is being recorded already", "Stop that first")
        assert spoken.source is not None
        self._occupy(client, surface_id)
        self.leave(surface_id)
        try:
            self._folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        except OSError as error:
            raise Refusal(f"{self._folder} cannot be made ({error.strerror})",
                          "Make room, or look at its rights") from None
        spoken.recorded, spoken.trouble = 0.0, ""
        spoken.records_until = self._ports.now() + int(seconds * 1e9)
        spoken.source.order(Keep(file=str(self.file(surface_id)), seconds=seconds))
        # Its process tells when it is whole; one that hangs must not leave it open for ever.
        self._ports.alarms.at(f"recording of {surface_id}", spoken.records_until + PATIENCE,
                              lambda now: self._never_told(surface_id))
        self._hearing.tell()

    def _never_told(self, surface_id: str) -> None:
        spoken = self._hearing.spoken.get(surface_id)
        if spoken is not None and 0 < spoken.records_until <= self._ports.now() - PATIENCE:
            self.interrupted(surface_id, spoken)
            self._hearing.tell()

    def _end_recording(self, spoken: Spoken) -> None:
        # How much was kept is told by its process.
        if spoken.records_until and spoken.source is not None:
            spoken.source.order(Keep())

    def erase(self, surface_id: str) -> bool:
        """Erase the recording of a surface; false if there was none.

        Raises:
            Refusal: it cannot be erased.
        """
        spoken = self._hearing.spoken[surface_id]
        self._end_recording(spoken)
        self.leave(surface_id)
        try:
            self.file(surface_id).unlink()
        except FileNotFoundError:
            return False
        except OSError as error:
            raise Refusal(f"{self.file(surface_id)} cannot be erased ({error.strerror})",
                          "Erase it with another program") from None
        finally:
            spoken.recorded, spoken.trouble = self.length(surface_id), ""
            self._hearing.tell()
        return True

    def kept_files(self) -> list[Message]:
        """Every recording that there is, as a row of what is told about privacy."""
        return [{"node": str(self.file(name)), "device": self._ports.desk.surfaces[name].name,
                 "why": "sound that you recorded for trying things out; F10 in the Phrases view erases it",
                 "known": True}
                for name, spoken in self._hearing.spoken.items()
                if (spoken.recorded or spoken.records_until) and name in self._ports.desk.surfaces]

    def try_recording(self, client: int, surface_id: str) -> None:
        """Find out what the recording of a surface would do now.

        Raises:
            Refusal: there is none.
        """
        spoken, surface = self._hearing.spoken[surface_id], self._ports.desk.surfaces[surface_id]
        if spoken.records_until or not self.length(surface_id):
            raise Refusal(f"“{surface.name}” has no recording", "Record something first")
        self.leave(surface_id)
        source = MicrophoneInput(microphone_facts(f"{RECORDING}:{self.file(surface_id)}", "a recording"))
        replay = spoken.replay = Replay(source, client)
        self._begin_list(spoken)
        assert spoken.tries is not None
        spoken.tries.attentive_until, spoken.tries.speaks_until, spoken.tries.choices = 0, 0, ()
        source.told = lambda told: self._replayed(surface_id, spoken, replay, told)
        source.order(self._hearing.order_phrases(surface, spoken))
        for fileno in source.filenos():
            self._ports.loop.watch(fileno, lambda events, fileno=fileno: self._read(replay, fileno))  # type: ignore[misc]
        self._hearing.tell()

    def _read(self, replay: Replay, fileno: int) -> None:
        try:
            replay.source.read(fileno)
        except DeviceGone as gone:
            replay.source.told(Gone(why=str(gone)))

    def _replayed(self, name: str, spoken: Spoken, replay: Replay, told: Told) -> None:
        surface = self._ports.desk.surfaces.get(name)
        if replay is not spoken.replay or surface is None:
            return
        if isinstance(told, Uttered):
            # The recording's own time is what passes for its listener.
            self._note(surface, spoken, self._hearing.received(told, surface), told.ended, told.began)
        elif isinstance(told, Over | Gone):
            if isinstance(told, Gone):
                spoken.trouble = told.why
            replay.over = True
            self._close(replay)
        else:
            return
        self._hearing.tell()

    def _close(self, replay: Replay) -> None:
        for fileno in replay.source.filenos():
            self._ports.loop.forget(fileno)
        replay.source.close()

    def leave(self, surface_id: str) -> None:
        """What the recording would do need not be shown any more."""
        spoken = self._hearing.spoken[surface_id]
        if spoken.replay is not None:
            replay, spoken.replay = spoken.replay, None
            spoken.tried = []
            if not replay.over:
                self._close(replay)
            self._hearing.tell()

    def gone(self, surface_id: str, spoken: Spoken) -> None:
        """A surface has gone: its recording goes with it."""
        if spoken.replay is not None and not spoken.replay.over:
            self._close(spoken.replay)
        with contextlib.suppress(OSError):
            self.file(surface_id).unlink()


def recordings(desk: Path) -> Path:
    """The folder of a desk's recordings: where sockets are, which others cannot enter and a restart empties."""
    return paths.runtime_folder() / "recordings" / paths.desk_key(desk)

