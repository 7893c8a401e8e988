"""When phrases count, what becomes of those that could have been several, phrases of a desk.  No clock, no sound."""

from __future__ import annotations

import tomllib
from decimal import Decimal

import pytest

from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.say.problem import Problem
from brass_pebble.core.signals.signal import find_signal, phrase_signal, signal_name, wire
from brass_pebble.core.voice.alike import alike_pairs
from brass_pebble.core.voice.hearing import HeardWord, Hypothesis
from brass_pebble.core.voice.judging import REFUSED, SILENT, SURE, UNSURE, likeness
from brass_pebble.core.voice.listening import (
    ACT,
    ASK,
    ATTEND,
    ATTENTION,
    BEGIN,
    CHOOSE,
    CHOSE,
    END,
    LEFT,
    NOTHING,
    SECOND,
    START,
    STOP,
    Candidate,
    Decision,
    Heard,
    Listener,
    Listening,
    listened_for,
    press_values,
    without_attention,
)
from brass_pebble.core.voice.matching import read_words
from brass_pebble.core.voice.phrase import Phrase, example_of, number_slot, short_wording, tell_slot
from brass_pebble.core.voice.trial import Trial
from brass_pebble.core.voice.wording import read_wording

PLAIN = Listening()
CALLED = Listening(attention=("dear bakery",))


def said(phrase: str, words: str = "", *, at: int = 10 * SECOND, kind: str = SURE, attentive: bool = False,
         **values: int | str) -> Heard:
    return Heard(kind, (Candidate(phrase, words or phrase, values, attentive=attentive),), "why", at, at + SECOND)


def test_without_an_attention_word_a_sure_phrase_acts_at_once() -> None:
    decision = Listener(PLAIN).hear(said("bell"), 11 * SECOND)
    assert decision.do == ACT and decision.candidate is not None and decision.candidate.phrase == "bell"


@pytest.mark.parametrize("kind", [SILENT, REFUSED])
def test_what_is_not_believed_does_nothing_and_says_why(kind: str) -> None:
    assert Listener(PLAIN).hear(said("bell", kind=kind), 0) == Decision(
        NOTHING, None if kind == SILENT else said("bell").candidates[0], why="why")


def test_with_an_attention_word_ordinary_talk_does_nothing() -> None:
    listener = Listener(CALLED)
    decision = listener.hear(said("bell"), 0)
    assert (decision.do, decision.why) == (NOTHING, "heard “bell” without “dear bakery” before it")
    assert listener.hear(said("bell", attentive=True), 0).do == ACT
    listener.plain = frozenset(("bell",))
    assert listener.hear(said("bell"), 0).do == ACT


def test_the_attention_word_alone_opens_a_while_and_each_phrase_prolongs_it() -> None:
    listener = Listener(CALLED)
    assert listener.hear(said(ATTENTION, "dear bakery", attentive=True), 10 * SECOND).do == ATTEND
    assert listener.hear(said("bell", at=15 * SECOND), 16 * SECOND).do == ACT
    # An utterance counts by when it began.
    assert listener.hear(said("bell", at=16 * SECOND), 17 * SECOND).do == NOTHING


def test_listening_is_stopped_and_started_by_voice_and_what_stops_everything_goes_on() -> None:
    listener = Listener(PLAIN)
    listener.always = frozenset(("cancel",))
    assert listener.hear(said(STOP, "stop listening"), 0).do == END
    decision = listener.hear(said("bell"), 0)
    assert (decision.do, decision.why) == (NOTHING, "heard “bell”, but listening is off; say “start listening”")
    assert listener.hear(said("cancel"), 0).do == ACT
    assert listener.hear(said(START, "start listening"), 0).do == BEGIN and listener.on
    assert listener.hear(said("bell"), 0).do == ACT


def test_what_the_program_says_itself_is_no_phrase_but_stopping_is() -> None:
    listener = Listener(PLAIN)
    listener.always = frozenset(("cancel",))
    listener.speaks(9 * SECOND, 12 * SECOND)
    assert "while the program itself was speaking" in listener.hear(said("bell"), 13 * SECOND).why
    assert listener.hear(said("cancel"), 13 * SECOND).do == ACT
    assert listener.hear(said("bell", at=13 * SECOND), 14 * SECOND).do == ACT


def close(*phrases: str, at: int = 10 * SECOND, attentive: bool = False) -> Heard:
    return Heard(UNSURE, tuple(Candidate(phrase, phrase, {}, attentive=attentive) for phrase in phrases), "a or b", at,
                 at + SECOND)


def test_readings_are_chosen_by_number_and_vanish_after_a_time() -> None:
    listener = Listener(PLAIN)
    decision = listener.hear(close("thirty", "thirteen"), 11 * SECOND)
    assert decision.do == ASK and [each.phrase for each in decision.choices] == ["thirty", "thirteen"]
    assert listener.choosing(18 * SECOND) and not listener.choosing(19 * SECOND)
    assert listener.choose(1, 19 * SECOND).do == NOTHING
    listener.hear(close("thirty", "thirteen"), 20 * SECOND)
    chosen = listener.hear(said(CHOOSE, "two", number=2), 21 * SECOND)
    assert chosen.do == CHOSE and chosen.candidate is not None and chosen.candidate.phrase == "thirteen"
    listener.hear(close("thirty", "thirteen"), 22 * SECOND)
    assert listener.choose(0, 23 * SECOND).do == LEFT
    assert not listener.choosing(23 * SECOND)


def test_another_phrase_takes_readings_away() -> None:
    listener = Listener(PLAIN)
    listener.hear(close("thirty", "thirteen"), 0)
    assert listener.hear(said("bell"), SECOND).do == ACT and not listener.choosing(SECOND)


def test_nothing_is_asked_without_the_attention_word_and_stopping_asks_nothing() -> None:
    listener = Listener(CALLED)
    assert listener.hear(close("thirty", "thirteen"), 0).do == NOTHING
    assert listener.hear(close("thirty", "thirteen", attentive=True), 0).do == ASK
    # What is left when the likeliest does not count is what was not meant.
    listener.plain = frozenset(("thirteen",))
    assert listener.hear(close("thirty", "thirteen"), 0).do == NOTHING
    listener.always = frozenset(("cancel",))
    assert listener.hear(close("cancel", "thirteen"), 0).do == ACT


def test_one_reading_that_is_left_is_asked_about_and_what_governs_listening_is_not() -> None:
    listener = Listener(PLAIN)
    decision = listener.hear(close("to_a_hundred"), 0)
    assert decision.do == ASK and [each.phrase for each in decision.choices] == ["to_a_hundred"]
    assert listener.choose(1, SECOND).do == CHOSE
    assert listener.hear(close("bell", STOP, "lamp"), 2 * SECOND).choices == tuple(close("bell", "lamp").candidates)
    assert listener.choose(0, 3 * SECOND).do == LEFT
    unsure = listener.hear(close(STOP, "bell"), 4 * SECOND)
    assert unsure.do == NOTHING and "say it again" in unsure.why
    assert listener.on and not listener.choosing(5 * SECOND)


def phrase(name: str, *say: str, **more: object) -> Phrase:
    return Phrase(name, tuple(map(read_wording, say)), **more)  # type: ignore[arg-type]


def test_what_is_listened_for_has_the_attention_word_before_it_and_what_governs_listening() -> None:
    phrases = [phrase("bell", "ring the bell"), phrase("cancel", "cancel everything")]
    found = listened_for(phrases, CALLED, always=("cancel",))
    assert list(found) == ["bell", "cancel", START, STOP, ATTENTION]
    for words in ("ring the bell", "dear bakery ring the bell"):
        assert [reading.phrase for reading in read_words(words.split(), list(found.values()))] == ["bell"]
    assert [reading.phrase for reading in read_words(["dear", "bakery"], list(found.values()))] == [ATTENTION]
    off = listened_for(phrases, CALLED, on=False, always=("cancel",))
    assert list(off) == ["cancel", START]
    choosing = listened_for([], PLAIN, choices=2)[CHOOSE]
    assert [reading.values["number"] for words in ("two", "number one", "none of them")
            for reading in read_words(words.split(), [choosing])] == [2, 1, 0]
    assert read_words(["three"], [choosing]) == []


def test_the_attention_word_is_no_part_of_what_was_said() -> None:
    assert without_attention("dear bakery ring the bell", CALLED) == ("ring the bell", True)
    assert without_attention("dear bakery", CALLED) == ("dear bakery", True)
    assert without_attention("ring the bell", CALLED) == ("ring the bell", False)


def test_likeness_falls_with_everything_that_speaks_against_a_phrase() -> None:
    def alike(far: float, fit: float, worst: float, count: int = 10) -> int:
        return likeness(far, Hypothesis((HeardWord("x"),), 1.0, tuple("S" * count), fit, worst))
    usual = alike(0.2, -1.6, -2.1)
    assert usual > 95 and alike(0.55, -5.5, -6.5) < 10
    assert usual > alike(0.4, -1.6, -2.1) > alike(0.4, -3.0, -2.1) > alike(0.4, -3.0, -5.0) > alike(0.4, -3.0, -5.0, 3)


def test_signals_of_phrases_are_named_and_carry_what_was_said() -> None:
    signal = phrase_signal("oven-close", {"number": 35}, {"level": "35"})
    assert signal == find_signal("phrase oven-close") == phrase_signal("oven-close")
    assert signal_name(signal) == wire(signal) == "phrase oven-close"
    assert signal != phrase_signal("oven") and signal.values == {"number": 35} and signal.answers == {"level": "35"}


# Phrases of a desk.

HEAD = '[surface.booth]\nlayout = "phrases"\n'


def read(text: str) -> tuple[Desk, list[Problem]]:
    return read_desk(tomllib.loads(HEAD + text), text=HEAD + text, file="desk.toml", layouts=lambda name: None,
                     layout_names=(), macros={}, broken_macros={})


PHRASES = """
[surface.booth.phrase.level]
say = ["[set the] level [to] {level}", "volume {level}"]
slot.level = { from = -10, to = 10, step = 0.5 }
strict = 75
attention = false
reply = "level {level}"
[surface.booth.phrase.camera]
say = "camera {camera}"
slot.camera = { one_of = { oven = "Ctrl+3", "hot oven" = "Ctrl+3", bench = 4 } }
[surface.booth.phrase.title]
say = ["title {words}"]
slot.words = { words = 5 }
[surface.booth.phrase.two-bells]
[surface.booth.listening]
attention = ["dear bakery"]
attention_lasts = "10s"
reply = "voice"
"""


def test_phrases_of_a_desk_are_controls_that_are_drawn() -> None:
    desk, problems = read(PHRASES)
    assert not problems
    booth = desk.surfaces["booth"]
    level, *_, bells = booth.phrases
    assert (level.strict, level.attention, level.reply, level.legend) == (75, False, "level {level}", "level …")
    assert level.slots["level"] == number_slot(Decimal(-10), Decimal(10), Decimal("0.5"))
    assert [tell_slot(slot) for each in booth.phrases for slot in each.slots.values()] == [
        "a number from -10 to 10 in steps of 0.5", "one of oven, hot oven, bench", "up to 5 free words"]
    assert [example_of(each) for each in booth.phrases] == ["level zero", "camera oven", "title some words",
                                                            "two bells"]
    # Without words of its own it is said as it is called.
    assert [wording.text for wording in bells.say] == ["two bells"]
    assert short_wording(read_wording("[the] bell please")) == "bell please"
    assert [(control.id, control.code, control.legend) for control in booth.layout.controls][1] == (
        "camera", phrase_signal("camera"), "camera …")
    assert (booth.listening.attention, booth.listening.attention_lasts, booth.listening.reply) == (
        ("dear bakery",), 10 * SECOND, "voice")


@pytest.mark.parametrize("text, what, line", [
    ('[surface.booth.phrase.a]\nsay = ["go [on"]\n', "“go [on”: this [ is not closed", 4),
    ('[surface.booth.phrase.a]\nsay = []\n', "“a” has no words", 4),
    ('[surface.booth.phrase."A b"]\nsay = ["go"]\n', "“A b” cannot be the id of a phrase", 3),
    ('[surface.booth.phrase.a]\nsay = ["go {n}"]\nslot.n = { from = 5, to = 1 }\n',
     "such a number cannot be said: from (5) is above to (1)", 5),
    ('[surface.booth.phrase.a]\nsay = ["go {n}"]\nslot.n = { one_of = {} }\n', "there is nothing to choose from", 5),
    ('[surface.booth.phrase.a]\nsay = ["go {n}"]\nslot.n = { words = 99 }\n', "free words are 1 to 40", 5),
    ('[surface.booth.phrase.a]\nstrict = 120\n', "“strict” must be between 0 and 100", 4),
    ('[surface.booth.listening]\nattention = ["a@b"]\n', "“a@b”: “a@b” is not a word that can be said", 4),
    ('[surface.booth.listening]\nreply = "loud"\n', "“loud” is not a value for “reply”", 4),
    ('[surface.booth.phrase.a]\n[surface.booth.layer.base.hold]\na = { tap = "A" }\n',
     "“a” is a phrase, and there is no “hold” of what is said", 5),
    ('[surface.booth.phrase.a]\n[surface.booth.layer.base.press]\na = { sustain = "A" }\n',
     "“a” is a phrase, and over when it was said: nothing can be sustained as long as it is held", 5),
])
def test_what_cannot_be_is_told_with_its_line(text: str, what: str, line: int) -> None:
    _, problems = read(text)
    assert [(problem.what, problem.line) for problem in problems] == [(what, line)]
    assert problems[0].hint or "“loud”" in what or "strict" in what


def test_a_surface_that_is_not_spoken_to_has_no_phrases() -> None:
    text = '[surface.pad]\n[surface.pad.phrase.a]\nsay = ["go"]\n'
    _, problems = read_desk(tomllib.loads(text), text=text, file="desk.toml", layouts=lambda name: None,
                            layout_names=(), macros={}, broken_macros={})
    assert [problem.what for problem in problems] == ["“pad” has no phrase, since it is not spoken to"]


def test_values_reach_the_macro_by_their_usual_names_and_by_those_of_the_slots() -> None:
    desk, _ = read(PHRASES)
    level, camera, title, _ = desk.surfaces["booth"].phrases
    assert press_values(level, Candidate("level", "level two", {"level": "2.5"})) == (
        {"said": "level two", "number": 2}, {"level": "2.5"})
    assert press_values(camera, Candidate("camera", "camera oven", {"camera": "Ctrl+3"}))[0] == {"said": "Ctrl+3"}
    assert press_values(camera, Candidate("camera", "camera bench", {"camera": 4})) == (
        {"said": "camera bench", "number": 4}, {"camera": "4"})
    assert press_values(title, Candidate("title", "title more rye", {"words": "more rye"}))[0] == {"said": "more rye"}


# Trying out, and what sounds alike.


@pytest.mark.parametrize("said, talked, strict, words", [
    ([90, 95, 97, 92, 99], [10, 30], 60, "said 5 times it was 90 to 99 % alike; talk came up to 30 %"),
    ([90, 95], [70, 80], 83, "talk came up to 80 %"),
    ([60, 70, 75], [], 45, "nobody talked"),
    ([60, 70, 75], [80], 81, "nearer than it: longer words would be safer"),
    ([0, 0, 90], [], 60, "it was understood 1 time of 3"),
    ([], [50], 60, "it was not said"),
])
def test_strictness_is_proposed_from_saying_and_talking(said: list[int], talked: list[int], strict: int,
                                                        words: str) -> None:
    trial = Trial("bell", 60)
    for alike in said:
        trial.hear("bell" if alike else "other", alike)
    trial.talks = True
    for alike in talked:
        trial.hear("bell", alike)
    found, why = trial.proposal()
    assert (found, words in why) == (strict, True), (found, why)


def test_phrases_that_sound_alike_are_found_with_how_alike() -> None:
    sounds = {"lamp": "L AE M P", "lamb": "L AE M", "on": "AA N", "off": "AO F", "the": "DH AH",
              "recipe": "R EH S AH P IY", "scroll": "S K R OW L"}
    phrases = [phrase("one", "[the] lamp on"), phrase("two", "lamb on"), phrase("three", "scroll the recipe"),
               phrase("four", "zorkle")]
    found = [pair for pair in alike_pairs({each.id: each for each in phrases}, lambda word: [
        tuple(sounds[word].split())] if word in sounds else []) if pair]
    assert [pair[:2] for pair in found] == [("one", "two")] and 72 <= found[0][2] < 100
