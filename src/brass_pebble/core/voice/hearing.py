"""What a recogniser tells of one utterance.  Data only; it knows nothing of phrases."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class HeardWord:
    """A word, from when to when since the utterance began, in s, and how sure it is, 0 to 1."""

    text: str
    start: float = 0.0
    end: float = 0.0
    sure: float = 1.0


@dataclass(frozen=True)
class Hypothesis:
    """One way to understand an utterance.  `share` is its part of all the evidence, 0 to 1 over all hypotheses;
    `sounds` is how its words are pronounced (ARPAbet); `fit` is how well what was heard fits its words, and
    `worst` the word that fits least: the logarithm of how likely its sounds are beside the likeliest of each 10 ms, 0
    the best; None where nobody compared.  `covers` is which part of the sounds that were heard lies within its words,
    0 to 1: less where a phrase is only a part of what was said."""

    words: tuple[HeardWord, ...]
    share: float = 1.0
    sounds: tuple[str, ...] = ()
    fit: float | None = None
    worst: float = 0.0
    covers: float = 1.0

    @property
    def text(self) -> str:
        """Its words, as a text."""
        return " ".join(word.text for word in self.words)


@dataclass(frozen=True)
class Utterance:
    """From silence to silence.  `sounds` are what was heard when no word is expected.

    `began` and `ended` are in ns of CLOCK_MONOTONIC, `ended` where the speech ended, not the silence after it; `loud`
    is its loudness in dB below the loudest that there is; `clipped` says that the microphone is set too loud.
    """

    hypotheses: tuple[Hypothesis, ...]
    sounds: tuple[str, ...] = ()
    began: int = 0
    ended: int = 0
    loud: float = 0.0
    clipped: bool = False
