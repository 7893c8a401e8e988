"""One surface that is spoken to: what is known of it now, and the row that clients get."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass, field

from brass_pebble.core.desk.model import Surface
from brass_pebble.core.voice.listening import Listener
from brass_pebble.core.voice.phrase import Phrase
from brass_pebble.core.voice.trial import TIMES, Trial, Tried
from brass_pebble.engine.clients.server import Message
from brass_pebble.kinds.inputs.microphones import HearsSpeech, MicrophoneInput

MS = 1_000_000
# A word is learned from so many times.
LESSONS = 3
# So many utterances of a trial are shown.
SHOWN = 40
STARTING, HEARS, GONE, CANNOT, TYPED = "starting", "hears", "gone", "cannot", "typed"


@dataclass
class Replay:
    """A recording that is heard by a process of its own, so that its microphone goes on being heard; `over` when it was
    heard to its end, `client` is who asked for it."""

    source: MicrophoneInput
    client: int
    over: bool = False


@dataclass
class Lesson:
    """A word that is learned by being said; `learned` gets its sounds."""

    word: str
    learned: Callable[[tuple[str, ...]], None]
    heard: list[tuple[str, ...]] = field(default_factory=list)


@dataclass
class Spoken:
    """One surface that is spoken to."""

    listener: Listener
    source: HearsSpeech | None = None
    state: str = STARTING
    why: str = ""
    recogniser: str = ""
    phrases: dict[str, Phrase] = field(default_factory=dict)
    made_of: object = None
    number: int = 0
    unknown: list[str] = field(default_factory=list)
    loud: float = -120.0
    speaking: bool = False
    words: str = ""
    last: Message | None = None
    waited: int = 0
    worked: int = 0
    alike: list[tuple[str, str, int]] = field(default_factory=list)
    second: str = ""
    trial: Trial | None = None
    trial_until: int = 0
    lesson: Lesson | None = None
    # What a new phrase that is being said can have been; None while nobody says one.
    dictated: list[str] | None = None
    # Until when what is said is kept, in ns, 0 for not; how much was kept, in s; what went wrong with it.
    records_until: int = 0
    recorded: float = 0.0
    trouble: str = ""
    replay: Replay | None = None
    # What was heard in a trial, or in a recording; the listener that tells what would come of it; since when, in ns.
    tried: list[Tried] = field(default_factory=list)
    tries: Listener | None = None
    tried_from: int = 0
    used_by: int = 0

    @property
    def occupied(self) -> bool:
        """Whether nothing is sent now, since somebody tries, teaches or records."""
        return bool(self.trial or self.lesson or self.dictated is not None or self.records_until)


def voice_row(surface: Surface, spoken: Spoken, now: int, *, rests: bool, does: Callable[[str], str]) -> Message:
    """A microphone as it is now; `does` tells what a phrase would do."""
    listener, lesson = spoken.listener, spoken.lesson
    standing = listener.choosing(now)
    return {
        "surface": surface.id, "name": surface.name, "state": spoken.state, "why": spoken.why,
        "reads": spoken.state == HEARS, "on": listener.on and not rests,
        "recogniser": spoken.recogniser, "second": spoken.second if surface.listening.second else "",
        "attention": list(surface.listening.attention),
        "attentive_ms": max(0, listener.attentive_until - now) / MS if surface.listening.attention else 0.0,
        "listens": [phrase.id for phrase in spoken.phrases.values() if not phrase.id.startswith("@")],
        "unknown": spoken.unknown, "loud": round(max(-120.0, spoken.loud), 1), "speaking": spoken.speaking,
        "words": spoken.words,
        "choices": [{"phrase": each.phrase, "said": each.said, "alike": each.alike, "does": does(each.phrase),
                     "values": {name: str(value) for name, value in each.values.items()}}
                    for each in listener.choices] if standing else [],
        "left_ms": max(0, listener.choose_until - now) / MS if standing else 0.0, "last": spoken.last,
        "trial": _trial_row(spoken, now),
        "lesson": {"word": lesson.word, "times": LESSONS, "heard": [" ".join(row) for row in lesson.heard]}
        if lesson is not None else None,
        "dictated": spoken.dictated, "recording": _recording_row(spoken, now),
        "tried": [asdict(row) for row in spoken.tried[-SHOWN:]] if spoken.trial or spoken.replay else [],
        "tries_recording": spoken.replay is not None}


def _recording_row(spoken: Spoken, now: int) -> Message | None:
    if not (spoken.records_until or spoken.recorded or spoken.trouble):
        return None
    left = max(0, spoken.records_until - now) / MS
    return {"seconds": round(spoken.recorded, 1), "left_ms": left, "records": bool(spoken.records_until),
            "heard": spoken.replay.over if spoken.replay is not None else False, "trouble": spoken.trouble}


def _trial_row(spoken: Spoken, now: int) -> Message | None:
    trial = spoken.trial
    if trial is None:
        return None
    strict, why = trial.proposal()
    return {"phrase": trial.phrase, "said": trial.said, "talked": trial.talked, "times": TIMES, "talks": trial.talks,
            "left_ms": max(0, spoken.trial_until - now) / MS if trial.talks else 0.0, "strict": strict, "why": why}
