"""What a recogniser of speech offers: sound in; hypotheses with words, times and sureness out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from brass_pebble.core.voice.hearing import Hypothesis
from brass_pebble.core.voice.phrase import Phrase

# Samples are 16-bit signed integers of one channel, little-endian, so many a second.
RATE = 16_000
NEEDS = "spoken phrases need a recogniser: install it with pip install 'brass-pebble[voice]'"


class NoRecogniser(Exception):
    """There is none on this machine; the text says what to do."""


@dataclass(frozen=True)
class Understood:
    """An utterance as the recogniser has it: hypotheses, the likeliest first, and the sounds that were heard without
    expecting anything (ARPAbet)."""

    hypotheses: tuple[Hypothesis, ...] = ()
    sounds: tuple[str, ...] = ()


class Recogniser(Protocol):
    """Follows one microphone, utterance by utterance.  One thread uses it."""

    def listen_for(self, phrases: Sequence[Phrase], pronounced: dict[str, tuple[str, ...]]) -> tuple[str, ...]:
        """Listen for these from the next utterance on; `pronounced` tells sounds of words that it may not know.

        Returns the words that it cannot pronounce; wordings with them are left out.
        """

    def begin(self) -> None:
        """An utterance begins."""

    def feed(self, samples: bytes) -> None:
        """More of it."""

    def so_far(self) -> tuple[str, ...]:
        """The words as they look now."""

    def end(self) -> Understood:
        """It is over: what it can have been."""

    def dictate(self) -> tuple[str, ...]:
        """What the utterance that was ended last can have been if it was no phrase, the likeliest first."""

    def pronounce(self, word: str) -> tuple[tuple[str, ...], ...]:
        """Every pronunciation of a word that it knows (ARPAbet); none if it does not know the word."""
