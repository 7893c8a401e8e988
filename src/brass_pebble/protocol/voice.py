"""Spoken phrases: what is listened for, what was heard, and how phrases are given their words."""

from __future__ import annotations

from typing import Annotated, ClassVar

from msgspec import Meta, Struct, UnsetType

from brass_pebble.core.desk.look.drawn import PhraseSlot

from .base import UNSET, Changed, Id, Reply, Request, Text, Word, said

Wordings = Annotated[list[Word], Meta(max_length=12)]


class ReadingRow(Struct, frozen=True, kw_only=True):
    """One thing that was perhaps said; it is chosen by its place in the list, from 1."""

    phrase: str
    said: str
    does: Annotated[str, said("what it would do")]
    alike: Annotated[int, said("how alike what was heard is, 0 to 100")]
    values: Annotated[dict[str, str], said("of its slots, as text")]


class LastHeard(Struct, frozen=True, kw_only=True):
    """The last utterance, and what came of it."""

    said: str
    do: Annotated[str, said("`act`, `ask`, `attend`, `begin`, `end`, `chose`, `left` or `nothing`")]
    words: Annotated[str, said("what came of it")]
    phrase: Annotated[str, said("the nearest one, by id; those of listening itself begin with @")]
    alike: int
    needed: int
    at: Annotated[float, said("s since 1970: when the speech ended")]
    waited_ms: Annotated[float, said("for silence, until it was over")]
    trace: int


class TriedRow(Struct, frozen=True, kw_only=True):
    """One utterance of a trial, or of a recording that was tried: nothing was sent."""

    at: Annotated[float, said("s since the trial began, or into the recording")]
    said: str
    alike: int
    needed: int
    do: Annotated[str, said("what would have been done, as in `last`")]
    words: Annotated[str, said("that in words, or why nothing")]


class RecordingRow(Struct, frozen=True, kw_only=True):
    """Sound that was kept for trying things out."""

    seconds: Annotated[float, said("how much is kept; 0 while it is recorded")]
    records: Annotated[bool, said("whether it is recorded now")]
    left_ms: Annotated[float, said("until it ends by itself")]
    heard: Annotated[bool, said("whether it was heard to its end")]
    trouble: Annotated[str, said("what went wrong")] = ""


class TrialRow(Struct, frozen=True, kw_only=True):
    """A phrase that is tried out: nothing is sent meanwhile."""

    phrase: str
    said: Annotated[list[int], said("how alike it was each time it was said, 0 to 100")]
    talked: Annotated[list[int], said("how alike talk came to it")]
    times: Annotated[int, said("how often it is to be said")]
    talks: Annotated[bool, said("whether somebody is to talk about anything now")]
    left_ms: Annotated[float, said("of talking")]
    strict: Annotated[int, said("what is proposed")]
    why: str


class LessonRow(Struct, frozen=True, kw_only=True):
    """A word whose pronunciation is learned by saying it."""

    word: str
    heard: Annotated[list[str], said("the sounds of each time")]
    times: int


class VoiceRow(Struct, frozen=True, kw_only=True):
    """A microphone of the desk as it is now."""

    surface: str
    name: str
    state: Annotated[str, said("`starting`, `hears`, `gone`, `cannot`, or `typed` (on the bench: no real microphone)")]
    why: str
    reads: Annotated[bool, said("whether sound is read now")]
    on: Annotated[bool, said("whether phrases count")]
    recogniser: str
    second: Annotated[str, said("`ready`, or why there is no second opinion; empty without one")] = ""
    attention: list[str]
    attentive_ms: Annotated[float, said("for how long phrases still count that need the attention word")]
    listens: Annotated[list[str], said("the phrases that mean something now, by id")]
    unknown: Annotated[list[str], said("words that the recogniser cannot pronounce")]
    loud: Annotated[float, said("dB below the loudest, -120 for silence")]
    speaking: bool
    words: Annotated[str, said("of what is being said")]
    choices: list[ReadingRow]
    left_ms: Annotated[float, said("for choosing")]
    last: LastHeard | None
    trial: TrialRow | None = None
    lesson: LessonRow | None = None
    dictated: Annotated[list[str] | None, said("what a new phrase can have been that is being said; null while none "
                                               "is")] = None
    recording: RecordingRow | None = None
    tried: Annotated[list[TriedRow], said("what was heard in a trial, or in a recording, the latest last")] = []
    tries_recording: bool = False


class Voices(Reply, frozen=True, kw_only=True):
    """Every microphone of the desk."""

    voices: list[VoiceRow]


class AskVoices(Request, frozen=True, kw_only=True, tag="voices"):
    """Every microphone of the desk: what it listens for, what it heard last."""

    reply: ClassVar[type[Reply]] = Voices


class Said(Reply, frozen=True, kw_only=True):
    """What came of words."""

    words: str
    trace: int


class Say(Request, frozen=True, kw_only=True, tag="say"):
    """Take words as if they had been said into a surface's microphone."""

    reply: ClassVar[type[Reply]] = Said
    surface: Id
    words: Word


class Took(Reply, frozen=True, kw_only=True):
    """What came of a choice."""

    words: str


class TakeReading(Request, frozen=True, kw_only=True, tag="take_reading"):
    """Choose one of the readings that stand."""

    reply: ClassVar[type[Reply]] = Took
    number: Annotated[int, Meta(ge=0, le=9), said("from 1; 0 for none of them")]
    surface: Annotated[Id, said("without it, the one that asks")] = ""


class SetHearing(Request, frozen=True, kw_only=True, tag="set_hearing"):
    """Let phrases count, or not."""

    on: bool
    surface: Annotated[Id, said("without it, every microphone")] = ""


class LookAtVoice(Request, frozen=True, kw_only=True, tag="look_at_voice"):
    """Be told, by the topic `loudness`, how loud it is and the words as they come, for some seconds."""

    seconds: Annotated[float, Meta(ge=0, le=600), said("0 for no longer")] = 60


class NewPhrase(Changed, frozen=True, kw_only=True):
    """There is a phrase now."""

    phrase: str


class AddPhrase(Request, frozen=True, kw_only=True, tag="add_phrase"):
    """Give a surface a phrase, with its first wordings: `[set the] level [to] {level}`."""

    reply: ClassVar[type[Reply]] = NewPhrase
    surface: Id
    say: Wordings
    slots: dict[Id, PhraseSlot] = {}


class SetPhrase(Request, frozen=True, kw_only=True, tag="set_phrase"):
    """Change a phrase: what is given changes, the rest stays."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    phrase: Id
    say: Wordings | UnsetType = UNSET
    slots: dict[Id, PhraseSlot] | UnsetType = UNSET
    strict: Annotated[int, Meta(ge=0, le=100)] | UnsetType = UNSET
    attention: bool | UnsetType = UNSET
    reply_text: Annotated[Text | UnsetType, said("what is told when it was understood")] = UNSET


class RemovePhrase(Request, frozen=True, kw_only=True, tag="remove_phrase"):
    """Take a phrase away, with all that it means."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    phrase: Id


class TryPhrase(Request, frozen=True, kw_only=True, tag="try_phrase"):
    """Try a phrase out: say it a few times, then talk about anything.

    Nothing is sent meanwhile.  How strict it should be is told with the microphone's row.
    """

    surface: Id
    phrase: Id
    step: Annotated[Id, said("`say`, then `talk`, then `end`; or `leave`")]


class HearWords(Request, frozen=True, kw_only=True, tag="hear_words"):
    """Have the words of what is said told, whatever they are, for a new phrase; nothing is sent meanwhile."""

    surface: Id
    on: bool = True


class RecordVoice(Request, frozen=True, kw_only=True, tag="record_voice"):
    """Keep what is said from now on, for trying things out; nothing is sent meanwhile.

    It replaces what was kept before.  Only you can read it: it is in
    the runtime folder, or in /tmp where a login has none.
    """

    surface: Id
    seconds: Annotated[float, Meta(ge=0, le=120), said("at most; 0: it is enough")] = 60


class TryRecording(Request, frozen=True, kw_only=True, tag="try_recording"):
    """Find out what the recording would do now; nothing is sent.  It is told with the microphone's row."""

    surface: Id
    on: Annotated[bool, said("false: it need not be shown any more")] = True


class EraseRecording(Request, frozen=True, kw_only=True, tag="erase_recording"):
    """Erase the recording."""

    surface: Id


class LearnWord(Request, frozen=True, kw_only=True, tag="learn_word"):
    """Learn how a word is pronounced, by hearing it three times; without a word, no longer."""

    surface: Id
    word: Id = ""


class SetPronunciation(Request, frozen=True, kw_only=True, tag="set_pronunciation"):
    """Say how a word is pronounced, in ARPAbet: `R EH S AH P IY`."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    word: Id
    sounds: Annotated[Word, said("empty: as without it")] = ""


class SayWord(Request, frozen=True, kw_only=True, tag="say_word"):
    """Have sounds said aloud, so that a pronunciation can be heard."""

    sounds: Word


class SetListening(Request, frozen=True, kw_only=True, tag="set_listening"):
    """Change how a surface's microphone is listened to."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    what: Annotated[Id, said("a setting's name, as docs/desk-files.md lists them")]
    value: Annotated[Word | bool | Wordings | None, said("as desk.toml has it; null: as without it")] = None
