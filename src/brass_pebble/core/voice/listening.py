"""When phrases count: after an attention word, until “stop listening”, not while the program itself speaks; and what
becomes of those that could have been several.  Pure: the time is an argument, in ns of one clock.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from brass_pebble.core.say.durations import MS
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.say.setting import Choice as OneOf
from brass_pebble.core.say.setting import Flag, Text, Texts, Time, setting, write_all

from .judging import REFUSED, SILENT, SURE, UNSURE
from .numbers import say_number
from .phrase import Choice, ChoiceSlot, NumberSlot, Phrase, WordsSlot
from .wording import Optional, Word, Wording, plain_words, read_wording

SCREEN, SOUND, VOICE = "screen", "sound", "voice"
SECOND = 1_000 * MS
# Phrases that every microphone has beside those of its desk; no phrase of a desk can have such an id.
ATTENTION, START, STOP, CHOOSE = "@attention", "@start", "@stop", "@choose"
# What the slot of CHOOSE stands for where none is meant.
NONE_OF_THEM = 0
# What the program says itself is heard for so long after it has ended.
ECHO = 300 * MS
# What governs listening itself is done by no chance.
STRICT_OF_OURS = 88
# What is said to choose none of the readings.
LEAVES = ("none of them", "neither", "cancel")


@dataclass(frozen=True)
class Listening:
    """How one microphone is listened to.  Times in ns."""

    attention: tuple[str, ...] = setting(
        (), Texts("wordings"), "said before a phrase or a moment before it; without one, phrases count at any time",
        leans=True)
    attention_lasts: int = setting(
        6 * SECOND, Time(SECOND, 120 * SECOND), "how long phrases count after the attention word was said alone",
        "attention lasts", proposals=(None, "3s", "6s", "10s", "20s"))
    start: tuple[str, ...] = setting(("start listening",), Texts("wordings"), "from this on phrases count", leans=True)
    stop: tuple[str, ...] = setting(
        ("stop listening",), Texts("wordings"), "from this on no phrase counts but the one that starts it again, and "
        "those that stop everything", leans=True)
    begins: str = setting("on", OneOf(("on", "off")), "whether phrases count from the start of the program",
                          "at the start", proposals=("on", "off"))
    reply: str = setting(SCREEN, OneOf((SCREEN, SOUND, VOICE)), "how it is told that a phrase was understood: on the "
                         "screen, also by a short sound, or said by a voice", "reply", proposals=(SCREEN, SOUND, VOICE))
    choose_within: int = setting(
        8 * SECOND, Time(SECOND, 120 * SECOND), "how long readings stand to be chosen from", "choose within",
        proposals=(None, "4s", "8s", "15s", "30s"))
    second: str = setting("", Text(1_000, what="folder"), "the folder of a model of faster-whisper, for a second "
                          "opinion and for free words", "second opinion")
    language: str = setting("", Text(12), "the language that the second opinion understands, such as `de`; without it, "
                            "it finds out", "its language")
    ends_repeats: bool = setting(False, Flag(), "true: any phrase ends what repeats", "a phrase ends repeats",
                                 proposals=(False, True))


@dataclass(frozen=True)
class Candidate:
    """One thing that was perhaps said: the phrase's id, the words, what its slots are, and how sure it is."""

    phrase: str
    said: str
    values: Mapping[str, int | str]
    alike: int = 100
    needed: int = 0
    attentive: bool = False
    trouble: str = ""


@dataclass(frozen=True)
class Heard:
    """An utterance as it was judged: `kind` (see judging.py), what it can have been, why it is refused."""

    kind: str
    candidates: tuple[Candidate, ...] = ()
    why: str = ""
    began: int = 0
    ended: int = 0


@dataclass(frozen=True)
class Decision:
    """What becomes of an utterance: `do` is one of the words below, `why` tells of nothing done."""

    do: str
    candidate: Candidate | None = None
    choices: tuple[Candidate, ...] = ()
    why: str = ""


ACT, ASK, ATTEND, BEGIN, END, CHOSE, LEFT, NOTHING = (
    "act", "ask", "attend", "begin", "end", "chose", "left", "nothing")


class Listener:
    """The state of one microphone.  `always` are phrases that count at any time; `plain` those without attention."""

    def __init__(self, settings: Listening = Listening()) -> None:
        self.settings = settings
        self.on = settings.begins == "on"
        self.always: frozenset[str] = frozenset()
        self.plain: frozenset[str] = frozenset()
        self.attentive_until = 0
        self.speaks_until = 0
        self.choices: tuple[Candidate, ...] = ()
        self.choose_until = 0

    def attentive(self, at: int) -> bool:
        """Whether phrases count that need the attention word."""
        return not self.settings.attention or at < self.attentive_until

    def speaks(self, began: int, ended: int) -> None:
        """The program itself speaks from then until then."""
        self.speaks_until = max(self.speaks_until, ended + ECHO)

    def choosing(self, now: int) -> bool:
        """Whether readings stand to be chosen from."""
        if self.choices and now >= self.choose_until:
            self.choices = ()
        return bool(self.choices)

    def choose(self, number: int, now: int) -> Decision:
        """One of the readings, counted from 1, or none of them; however it was chosen."""
        choices = self.choices if self.choosing(now) else ()
        self.choices = ()
        if not choices:
            return Decision(NOTHING, why="there is nothing to choose from any more")
        if not 1 <= number <= len(choices):
            return Decision(LEFT, why="none of them was chosen, so nothing was sent")
        return Decision(CHOSE, choices[number - 1])

    def hear(self, heard: Heard, now: int) -> Decision:
        """An utterance was heard: what becomes of it."""
        if heard.kind == SILENT or not heard.candidates:
            return Decision(NOTHING, why=heard.why)
        best = heard.candidates[0]
        if heard.kind == REFUSED:
            return Decision(NOTHING, best, why=heard.why)
        if best.phrase not in self.always and heard.began < self.speaks_until:
            return Decision(NOTHING, best, why=f"heard “{best.said}” while the program itself was speaking")
        if heard.kind == SURE and best.phrase.startswith("@"):
            return self._of_ours(best, now)
        if kept := self._kept_from(best, heard.began):
            # What is left when the likeliest does not count is what was not meant.
            return Decision(NOTHING, best, why=kept)
        if heard.kind == UNSURE and best.phrase not in self.always:
            return self._ask(heard, best, now)
        if best.phrase not in self.always and self.attentive_until and best.attentive:
            self.attentive_until = now + self.settings.attention_lasts
        self.choices = ()
        return Decision(ACT, best)

    def _ask(self, heard: Heard, best: Candidate, now: int) -> Decision:
        """What is not sure is asked about, even where one reading is left; what governs listening is just not done."""
        if best.phrase.startswith("@"):
            return Decision(NOTHING, best, why=f"heard “{best.said}”, but not surely enough; say it again")
        able = tuple(each for each in heard.candidates
                     if not (each.phrase.startswith("@") or self._kept_from(each, heard.began)))
        self.choices, self.choose_until = able, now + self.settings.choose_within
        return Decision(ASK, None, able, heard.why)

    def _of_ours(self, best: Candidate, now: int) -> Decision:
        if best.phrase == START:
            was, self.on = self.on, True
            return Decision(BEGIN, best, why="it listens already" if was else "")
        if not self.on:
            return Decision(NOTHING, best, why=self._kept_from(best, now))
        if best.phrase == STOP:
            if not self._listens_to(best, now):
                return Decision(NOTHING, best, why=self._without_attention(best))
            self.on, self.choices = False, ()
            return Decision(END, best)
        if best.phrase == ATTENTION:
            self.attentive_until = now + self.settings.attention_lasts
            return Decision(ATTEND, best)
        return self.choose(int(best.values.get("number", NONE_OF_THEM)), now)

    def _listens_to(self, each: Candidate, at: int) -> bool:
        return each.attentive or self.attentive(at) or each.phrase in self.always or each.phrase in self.plain

    def _without_attention(self, each: Candidate) -> str:
        return f"heard “{each.said}” without “{self.settings.attention[0]}” before it"

    def _kept_from(self, each: Candidate, at: int) -> str:
        """Why a phrase does not count now; empty if it does."""
        if each.phrase in self.always:
            return ""
        if not self.on:
            return f"heard “{each.said}”, but listening is off" + (
                f"; say “{self.settings.start[0]}”" if self.settings.start else "")
        if not self._listens_to(each, at):
            return self._without_attention(each)
        return each.trouble


def listened_for(phrases: Iterable[Phrase], settings: Listening, *, on: bool = True, always: Collection[str] = (),
                 choices: int = 0) -> dict[str, Phrase]:
    """What a recogniser is to listen for: these phrases, with the attention word before them or without, and what
    governs listening itself."""
    opens = _wordings(settings.attention)
    found = {phrase.id: _with_attention(phrase, opens) for phrase in phrases if on or phrase.id in always}
    ours = [(START, settings.start), *(((STOP, settings.stop), (ATTENTION, settings.attention)) if on else ())]
    for name, texts in ours:
        if say := _wordings(texts):
            phrase = Phrase(name, say, strict=STRICT_OF_OURS)
            found[name] = _with_attention(phrase, opens) if name == STOP else phrase
    if choices:
        numbers = tuple(Choice((read_wording(say_number(number)),), number) for number in range(1, choices + 1))
        none = Choice(_wordings(LEAVES), NONE_OF_THEM)
        found[CHOOSE] = Phrase(CHOOSE, (read_wording("[number] {number}", ("number",)),),
                               {"number": ChoiceSlot((*numbers, none))})
    return found


def _with_attention(phrase: Phrase, opens: tuple[Wording, ...]) -> Phrase:
    if not opens:
        return phrase
    say = tuple(replace(wording, items=(Optional(tuple(Word(word) for word in each.words)), *wording.items))
                for wording in phrase.say for each in opens)
    return replace(phrase, say=say)


def _wordings(texts: Iterable[str]) -> tuple[Wording, ...]:
    found = []
    for text in texts:
        try:
            found.append(read_wording(text))
        except ProblemError:
            # Told where the desk is read.
            continue
    return tuple(found)


def without_attention(words: str, settings: Listening) -> tuple[str, bool]:
    """Words without the attention word that they begin with, and whether they do; that word alone stays."""
    said = words.split()
    for text in settings.attention:
        opens = _plain(text)
        if opens and said[:len(opens)] == opens:
            return " ".join(said[len(opens):]) or words, True
    return words, False


def _plain(text: str) -> list[str]:
    try:
        return plain_words(text)
    except ProblemError:
        return []


def write_listening(settings: Listening) -> dict[str, Any]:
    """The settings that are not as usual, as desk.toml has them."""
    usual = Listening()
    return {**write_all(settings), **{name: list(getattr(settings, name)) for name in ("attention", "start", "stop")
                                      if getattr(settings, name) != getattr(usual, name)}}


def press_values(phrase: Phrase, candidate: Candidate) -> tuple[dict[str, int | str], Mapping[str, str]]:
    """What a phrase brings to its macro: `number` and `said`, and answers to what is asked for by the slots' names."""
    values: dict[str, int | str] = {"said": candidate.said}
    for name, slot in phrase.slots.items():
        value = candidate.values.get(name)
        if value is None:
            continue
        if isinstance(value, int):
            values.setdefault("number", value)
        elif isinstance(slot, NumberSlot):
            values.setdefault("number", round(float(value)))
        elif isinstance(slot, ChoiceSlot | WordsSlot):
            values["said"] = value
    return values, {name: str(value) for name, value in candidate.values.items()}
