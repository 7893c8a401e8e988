"""A second opinion: faster-whisper with a model folder of the person's own.  Too slow to answer first; it reads free
words, other languages, and what the first recogniser is unsure of.
"""

from __future__ import annotations

import os
from array import array
from pathlib import Path
from typing import Any, Protocol

from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.voice.hearing import HeardWord, Hypothesis
from brass_pebble.core.voice.wording import plain_words

from .recogniser import NoRecogniser
from .speech import FULL

NEEDS_SECOND = "a second opinion needs its package: install it with pip install 'brass-pebble[second]'"
# Two processors leave the others to the show.
THREADS = 2


class SecondOpinion(Protocol):
    """Understands an utterance once more."""

    def understand(self, samples: bytes) -> Hypothesis | None:
        """The words of samples as a recogniser takes them; None for none."""


class Whisper:
    """One model.

    Raises:
        NoRecogniser: the package is not installed, or the folder holds no model; the text says what to do.
    """

    def __init__(self, folder: Path, language: str = "") -> None:
        if not (folder / "model.bin").exists():
            raise NoRecogniser(f"there is no model for a second opinion in {folder}: name a folder with the "
                               "“model.bin” of faster-whisper")
        # Nothing is fetched from anywhere.
        os.environ["HF_HUB_OFFLINE"] = "1"
        try:
            from faster_whisper import WhisperModel
        except ImportError:
            raise NoRecogniser(NEEDS_SECOND) from None
        self._language = language or None
        self._model: Any = WhisperModel(str(folder), device="cpu", compute_type="int8", cpu_threads=THREADS,
                                        local_files_only=True)

    def understand(self, samples: bytes) -> Hypothesis | None:
        import numpy
        values = numpy.array(array("h", samples), dtype=numpy.float32) / FULL
        pieces, _ = self._model.transcribe(values, language=self._language, beam_size=1, without_timestamps=False,
                                           condition_on_previous_text=False, word_timestamps=True, vad_filter=False)
        words: list[HeardWord] = []
        for piece in pieces:
            for word in piece.words or ():
                try:
                    plain = plain_words(word.word.strip())
                except ProblemError:
                    continue
                when, sure = (float(word.start), float(word.end)), float(word.probability)
                words += [HeardWord(text, *when, sure) for text in plain]
        return Hypothesis(tuple(words)) if words else None
