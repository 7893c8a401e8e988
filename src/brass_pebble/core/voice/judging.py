"""Whether to believe what was heard: sure enough to act at once, unsure between readings, or not like any phrase.

A recogniser that only knows the phrases hears one in everything.  So what it heard is held against the sounds that were
heard without expecting anything (`sounds.distance`), and against what else it could have been.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from .hearing import Hypothesis, Utterance
from .matching import Reading, read_words
from .phrase import Phrase
from .sounds import alike, distance

SURE, UNSURE, REFUSED, SILENT = "sure", "unsure", "refused", "silent"
# What speaks for a phrase and against talk: how far its sounds are from those heard, how well they fit, how the worst
# word does, and how few sounds it has.  Found by a logistic regression on phrases of four voices, clean and with noise,
# and on talk in which a phrase was found: benchmarks/likeness.py does it again.
FAR, FIT, WORST, FEW, USUAL = -11.6, 1.34, 1.82, -21.8, 18.8
# From these odds on phrases of the usual strictness are believed; how quickly the likeness changes around them.
EVEN, SPREAD = 0.547, 0.5
# A phrase has to be this part of what was said; how much speaks against it for what is missing.
WHOLE, PART = 0.6, -8.0
# What fits worse counts no more against it.
LEAST_FIT, LEAST_WORST = -12.0, -15.0
# Where nobody told how well it fits: a phrase of fewer sounds than this has to be heard more exactly, and each that is
# missing asks for so many points more.
SHORT, POINTS_EACH = 8, 1.5
# The best reading has to outweigh the next by so much, and by more the more they sound alike from here on: “thirteen”
# and “thirty” are asked about sooner than “oven” and “lamp”.  Sounds that fit by so much better weigh e times as much.
OUTWEIGHS, ALIKE_FROM, ALIKE_TIMES, FITS_BETTER = 1.6, 0.78, 30.0, 0.03
# Where what was likeliest is no whole phrase, another one may be so much less likely.
HALF_A_PHRASE = 3.0
# Readings to choose from: at most so many, and none that weighs less than this part of the best.
MOST_READINGS, WORTH_ASKING = 5, 0.02
# A second reading may be less alike than it would have to be alone, by so many points.
NEARLY = 10
# An utterance longer than a phrase can be is talk, in s.
LONGEST = 12.0


@dataclass(frozen=True)
class Heard:
    """A reading with how alike what was heard is, 0 to 100, how alike it has to be, and how much speaks for it."""

    reading: Reading
    alike: int
    needed: int
    weight: float
    sounds: tuple[str, ...] = ()


@dataclass(frozen=True)
class Verdict:
    """What becomes of an utterance: `kind`, and the readings, the best first.  `why` tells of what is refused."""

    kind: str
    heard: tuple[Heard, ...] = ()
    why: str = ""

    @property
    def best(self) -> Heard | None:
        """The most likely reading."""
        return self.heard[0] if self.heard else None


def likeness(far: float, hypothesis: Hypothesis) -> int:
    """How alike what was heard is to a phrase, 0 to 100, where its sounds are so `far` from those heard."""
    if hypothesis.fit is None:
        return round(100 * (1 - far))
    odds = FAR * far + FIT * max(hypothesis.fit, LEAST_FIT) + WORST * max(hypothesis.worst, LEAST_WORST) + USUAL + (
        FEW / max(1, len(hypothesis.sounds)) + PART * max(0.0, WHOLE - hypothesis.covers))
    return round(100 / (1 + math.exp(-(odds * SPREAD + EVEN))))


def needed(strict: int, hypothesis: Hypothesis) -> int:
    """How alike a phrase has to be heard, 0 to 100."""
    if hypothesis.fit is not None:
        return strict
    sounds = hypothesis.sounds
    return min(100, round(strict + POINTS_EACH * max(0, SHORT - len(sounds))))


def judge(utterance: Utterance, phrases: Mapping[str, Phrase]) -> Verdict:
    """What becomes of an utterance, where these phrases are listened for."""
    if not utterance.hypotheses:
        return Verdict(SILENT, why="nothing like a phrase was heard")
    heard = _weigh(utterance, phrases)
    if not heard:
        return Verdict(SILENT, why=f"heard “{utterance.hypotheses[0].text}”, which is not a phrase here")
    best = heard[0]
    if utterance.ended - utterance.began > LONGEST * 1e9:
        return Verdict(REFUSED, heard, f"{best.alike} % like “{best.reading.said}”, but far too long for a phrase")
    if best.alike < best.needed:
        part = ", and only a part of what was said" if utterance.hypotheses[0].covers < WHOLE else ""
        return Verdict(REFUSED, heard, f"{best.alike} % like “{best.reading.said}”, not sure enough "
                                       f"({best.needed} % needed){part}")
    rivals = tuple(other for other in heard[1:] if best.weight < _margin(best, other) * other.weight
                   and other.alike >= other.needed - NEARLY and not other.reading.trouble)[:MOST_READINGS - 1]
    if best.reading.trouble:
        why = f"heard “{best.reading.said}”, but {best.reading.trouble}"
        # “two hundred” may well have been “to a hundred”.
        if rivals:
            return Verdict(UNSURE, rivals, f"{why}, or “{rivals[0].reading.said}”")
        return Verdict(REFUSED, heard, why)
    if rivals:
        return Verdict(UNSURE, (best, *rivals), f"“{best.reading.said}” or “{rivals[0].reading.said}”")
    return Verdict(SURE, heard)


def _margin(best: Heard, other: Heard) -> float:
    """How much the best reading has to outweigh another one."""
    if not (best.sounds and other.sounds):
        return OUTWEIGHS
    close = max(0.0, alike(best.sounds, other.sounds) - ALIKE_FROM) / (1 - ALIKE_FROM)
    return OUTWEIGHS * (1 + ALIKE_TIMES * close)


def _weigh(utterance: Utterance, phrases: Mapping[str, Phrase]) -> tuple[Heard, ...]:
    """Every reading of every hypothesis, once each, the weightiest first."""
    found: list[Heard] = []
    nearest: float | None = None
    likeliest = utterance.hypotheses[0]
    whole = bool(read_words([word.text for word in likeliest.words], list(phrases.values())))
    for hypothesis in utterance.hypotheses:
        if not whole and hypothesis.share < likeliest.share / HALF_A_PHRASE:
            # A part of a phrase was heard, and no more of it.
            continue
        far = distance(hypothesis.sounds, utterance.sounds) if utterance.sounds else _unsure(hypothesis)
        nearest = far if nearest is None else nearest
        for reading in read_words([word.text for word in hypothesis.words], list(phrases.values())):
            if any(reading.comes_to(each.reading) for each in found):
                continue
            strict = phrases[reading.phrase].strict
            weight = hypothesis.share * math.exp((nearest - far) / FITS_BETTER)
            found.append(Heard(reading, likeness(far, hypothesis), needed(strict, hypothesis), weight,
                               hypothesis.sounds))
    found.sort(key=lambda each: -each.weight)
    return tuple(each for each in found if each.weight >= WORTH_ASKING * found[0].weight)


def _unsure(hypothesis: Hypothesis) -> float:
    """Where no sounds are told, the words themselves say how sure they are."""
    return 1.0 - min((word.sure for word in hypothesis.words), default=0.0)
