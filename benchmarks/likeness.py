"""Finds again what the likeness of phrases is made of: `python benchmarks/likeness.py`, beside what judging.py has.

Phrases of four synthetic voices, clean and with noise, against their talk; a person's announcements (people.py) are
only counted, and nothing is fitted to them.  Needs scikit-learn.
"""

from __future__ import annotations

import sys
from multiprocessing import Pool
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from brass_pebble.core.voice import judging
from brass_pebble.core.voice.listening import Listening, listened_for
from brass_pebble.core.voice.numbers import say_number
from brass_pebble.core.voice.sounds import distance
from brass_pebble.kinds.voice.follower import Follower
from brass_pebble.kinds.voice.recogniser import RATE
from brass_pebble.kinds.voice.sources import read_wav
from brass_pebble.kinds.voice.sphinx import Sphinx
from people import announcements, fetched, recording
from said import VOICES, spoken, with_noise
from voice_corpus import PHRASES, phrases, short_talk, talk

# Talk that may pass for a phrase, of 396 remarks that were chosen to be near.
PASSES = 3
TRUE = ("clean", "20 dB", "10 dB")
TALK = ("talk", "remarks")
Row = tuple[str, bool, list[float]]
FOLLOWERS: list[Follower] = []


def _jobs() -> list[tuple[str, str, str]]:
    texts = [*PHRASES, *(f"level {say_number(number)}" for number in range(101))]
    jobs = [(name, text, str(with_noise(spoken(text, voice), noise) if noise else spoken(text, voice)))
            for voice in VOICES for name, noise in zip(TRUE, (0, 20, 10), strict=True) for text in texts]
    jobs += [("talk", "", str(spoken(text, VOICES[index % 4]))) for index, text in enumerate(talk(300))]
    jobs += [("remarks", "", str(spoken(text, voice))) for text in short_talk() for voice in VOICES]
    return jobs + [("a person", "", str(recording(name))) for name in (announcements() if fetched() else ())]


def _features(job: tuple[str, str, str]) -> list[Row]:
    """For each utterance in which a phrase was found: whether it is the right one, and what speaks for it."""
    if not FOLLOWERS:
        FOLLOWERS.append(Follower(Sphinx()))
        FOLLOWERS[0].listen_for(listened_for(phrases().values(), Listening()), {})
    name, text, file = job
    rows = []
    for judged in FOLLOWERS[0].take(read_wav(Path(file)) + bytes(RATE * 2), 0):
        if judged.verdict.best is not None and judged.utterance.hypotheses[0].fit is not None:
            best = judged.utterance.hypotheses[0]
            far = distance(best.sounds, judged.utterance.sounds)
            assert best.fit is not None
            rows.append((name, best.text == text, [far, max(best.fit, judging.LEAST_FIT),
                                                   max(best.worst, judging.LEAST_WORST),
                                                   1 / max(1, len(best.sounds))]))
    FOLLOWERS[0].drop()
    return rows


def _passing(rows: list[Row], weights: list[float], usual: float) -> None:
    """How much passes where as few remarks do as may."""
    odds = {name: sorted((sum(map(float.__mul__, weights, each)) + usual for which, right, each in rows
                          if which == name and (right or which not in TRUE)), reverse=True)
            for name in dict.fromkeys(name for name, *_ in rows)}
    even = odds["remarks"][PASSES]
    print("  ", ", ".join(f"{name} {sum(each > even for each in found)} of {len(found)}"
                          for name, found in odds.items()), f"(odds above {even:.2f})")


def main() -> None:
    """Collect, fit, print."""
    from sklearn.linear_model import LogisticRegression
    with Pool(2) as pool:
        rows = [row for found in pool.map(_features, _jobs(), chunksize=24) for row in found]
    fitted = [row for row in rows if (row[0] in TRUE and row[1]) or row[0] in TALK]
    model = LogisticRegression(C=1e6, max_iter=20_000, class_weight="balanced").fit(
        [row[2] for row in fitted], [row[0] in TRUE for row in fitted])
    print("far, fit, worst, few; usual, as found now:", model.coef_[0].round(2), model.intercept_.round(2))
    _passing(rows, list(map(float, model.coef_[0])), float(model.intercept_[0]))
    print("as judging.py has them:", judging.FAR, judging.FIT, judging.WORST, judging.FEW, judging.USUAL)
    _passing(rows, [judging.FAR, judging.FIT, judging.WORST, judging.FEW], judging.USUAL)


if __name__ == "__main__":
    main()
