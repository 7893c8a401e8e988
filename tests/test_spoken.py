"""Spoken phrases without a microphone: numbers, wordings, what words can mean, whether to believe what was heard."""

from __future__ import annotations

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as some

from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.voice import ends
from brass_pebble.core.voice.ends import Ends
from brass_pebble.core.voice.grammar import jsgf
from brass_pebble.core.voice.hearing import HeardWord, Hypothesis, Utterance
from brass_pebble.core.voice.judging import REFUSED, SILENT, SURE, UNSURE, Verdict, judge, needed
from brass_pebble.core.voice.matching import may_go_on, read_words
from brass_pebble.core.voice.numbers import digits_to_words, number_words, read_number, say_number
from brass_pebble.core.voice.phrase import Choice, ChoiceSlot, Phrase, Slot, WordsSlot, number_slot, vocabulary
from brass_pebble.core.voice.sounds import alike, distance, is_sound, sounds_as_in, unlike
from brass_pebble.core.voice.wording import SlotPlace, Word, plain_words, read_wording


def phrase(name: str, *say: str, strict: int = 60, **slots: Slot) -> Phrase:
    return Phrase(name, tuple(read_wording(text, tuple(slots)) for text in say), slots, strict)


def number(low: str = "0", high: str = "100", step: str = "1") -> Slot:
    return number_slot(Decimal(low), Decimal(high), Decimal(step))


LEVEL = phrase("level", "[set the] level [to] {level} [per cent]", level=number())
GAIN = phrase("gain", "gain {gain}", gain=number("-10", "10", "0.5"))
CAMERA = phrase("camera", "[show the] {camera}", "{camera} camera", camera=ChoiceSlot((
    Choice((read_wording("oven"), read_wording("hot oven")), "Ctrl+Alt+3"), Choice((read_wording("bench"),), 2))))
NOTE = phrase("note", "note {text}", text=WordsSlot(4))
BELL = phrase("bell", "ring the bell", "[the] bell please")
ALL = [LEVEL, GAIN, CAMERA, NOTE, BELL]


# Numbers.


@pytest.mark.parametrize("words, value", [
    ("zero", 0), ("thirty five", 35), ("hundred", 100), ("a hundred", 100), ("one hundred five", 105),
    ("a hundred and five", 105), ("two thousand and five", 2005), ("a thousand", 1000), ("a million", 1_000_000),
    ("minus ten", -10), ("negative two hundred", -200), ("two point five", "2.5"),
    ("minus zero point two five", "-0.25"),
    ("two and a half", "2.5"), ("half", "0.5"), ("a quarter", "0.25"), ("minus half", "-0.5"),
])
def test_numbers_are_understood_as_they_are_said(words: str, value: int | str) -> None:
    assert read_number(words.split()) == Decimal(value)


@pytest.mark.parametrize("words", [
    "", "a", "and", "minus", "point five", "twenty zero", "five twenty", "one two", "three and", "two half", "thousand",
    "thousand thousand", "twenty five hundred", "hundred and", "two point", "two point ten", "level", "minus minus two",
    "one point two three four five",
])
def test_what_is_no_number_is_none(words: str) -> None:
    assert read_number(words.split()) is None


@given(some.decimals(-999_999_999, 999_999_999, places=2))
def test_every_number_is_said_in_words_that_say_it(value: Decimal) -> None:
    said = say_number(value)
    assert read_number(said.split()) == value and set(said.split()) <= set(number_words())


def test_digits_become_words() -> None:
    assert [digits_to_words(text) for text in ("40", "-3", "2.50", "1,200", "4th", "", "1.2345", "9" * 12)] == [
        "forty", "minus three", "two point five", "one thousand two hundred", None, None, None, None]


# Wordings.


def test_a_wording_has_words_optional_words_and_slots() -> None:
    assert [" ".join(item.text if isinstance(item, Word) else f"<{item.name}>" for item in way)
            for way in read_wording("[set the] level {level}", ("level",)).ways()] == [
        "set the level <level>", "level <level>"]
    assert plain_words("Oven close-up, 40 %!") == ["oven", "close", "up", "forty", "per", "cent"]
    assert plain_words("It’s -3") == ["it's", "minus", "three"]
    assert read_wording("{level}", ("level",)).items == (SlotPlace("level"),)


@pytest.mark.parametrize("text, what, column", [
    ("", "there is no word in it", 0), ("[all]", "nothing of this has to be said", 0),
    ("show [the", "this [ is not closed", 6),
    ("show the]", "there is no [ before this ]", 9), ("a [b [c]]", "brackets cannot stand in brackets", 6),
    ("go {where}", "there is no slot “where”", 4), ("go {Where}", "“Where” cannot be the name of a slot", 4),
    ("go {level", "“{” stands alone", 4), ("go to a@b", "“a@b” is not a word that can be said", 7),
    ("{level} {level}", "a slot can stand only once in a wording", 0),
    ("go " * 25, "a wording has at most 24 words", 0),
    (" ".join(f"[{word}]" for word in "abcdefghi") + " j", "this could be said in more than 256 ways", 0),
])
def test_a_wording_that_cannot_be_is_told_with_its_place(text: str, what: str, column: int) -> None:
    with pytest.raises(ProblemError) as caught:
        read_wording(text, ("level",))
    assert (caught.value.problem.what, caught.value.problem.column) == (what, column)
    assert caught.value.problem.hint


def test_slots_say_what_they_take() -> None:
    for low, high, step, why in (("5", "1", "1", "above"), ("0", "1", "0", "more than 0"), ("0", "1e12", "1", "beyond"),
                                 ("0", "1", "0.0001", "decimals")):
        with pytest.raises(ValueError, match=why):
            number_slot(Decimal(low), Decimal(high), Decimal(step))
    assert vocabulary([CAMERA, BELL]) == ("show", "the", "camera", "oven", "hot", "bench", "ring", "bell", "please")


# What words can mean.


@pytest.mark.parametrize("words, name, values", [
    ("set the level to thirty five per cent", "level", {"level": 35}), ("level forty", "level", {"level": 40}),
    ("gain minus two and a half", "gain", {"gain": Decimal("-2.5")}),
    ("show the hot oven", "camera", {"camera": "Ctrl+Alt+3"}), ("bench camera", "camera", {"camera": 2}),
    ("note more rye for tomorrow", "note", {"text": "more rye for tomorrow"}),
    ("bell please", "bell", {}),
])
def test_words_mean_a_phrase_with_values(words: str, name: str, values: dict[str, object]) -> None:
    (reading,) = read_words(words.split(), ALL)
    assert (reading.phrase, dict(reading.values), reading.trouble, reading.said) == (name, values, "", words)


@pytest.mark.parametrize("words", ["level", "level forty please", "please", "note", "note one two three four five",
                                   "ring bell", "", "hot bench"])
def test_words_that_fit_no_phrase_whole_mean_nothing(words: str) -> None:
    assert read_words(words.split(), ALL) == []


def test_a_number_out_of_its_range_says_the_range() -> None:
    assert [read_words(text.split(), ALL)[0].trouble for text in ("level two hundred", "gain one point seven")] == [
        "200 is not from 0 to 100", "1.7 is not in steps of 0.5 from -10"]


def test_two_meanings_are_both_found() -> None:
    other = phrase("other", "{camera} [camera]", camera=CAMERA.slots["camera"])
    assert [reading.phrase for reading in read_words(["oven"], [CAMERA, other, BELL])] == ["camera", "other"]


@pytest.mark.parametrize("words, more", [
    ("level forty", True), ("level forty five", True), ("level forty five per cent", False), ("gain two", True),
    ("gain ten", False), ("oven", True), ("oven camera", False), ("ring the", True), ("ring the bell", False),
    ("note some rye", True), ("xyz", False),
])
def test_whether_more_words_could_follow(words: str, more: bool) -> None:
    assert may_go_on(words.split(), ALL) is more


def test_the_grammar_hears_more_than_the_slots_take() -> None:
    text = jsgf([LEVEL, GAIN, CAMERA, BELL])
    assert text.startswith("#JSGF V1.0;\ngrammar phrases;\n")
    assert "[set the] level [to] <hundreds> [per cent]" in text and "gain <hundreds_point_signed>" in text
    assert "(oven | hot oven | bench) camera" in text and "ring the bell | [the] bell please" in text
    # Slots of one and of three decimals share a rule that hears both.
    fine = phrase("fine", "fine {gain}", gain=number("0", "1", "0.125"))
    assert jsgf([GAIN, fine]).count("<digit> [<digit> [<digit>]]") == 2
    # Free words need a rule that only a recogniser can give.
    assert "note" not in jsgf(ALL) and "note <free>" in jsgf(ALL, free="x+") and jsgf([]) == "" == jsgf([NOTE])


# Sounds.


def test_likely_mix_ups_are_near_and_others_far() -> None:
    assert all(is_sound(sound) for sound in sounds_as_in()) and not is_sound("SIL") and len(sounds_as_in()) == 39
    assert unlike("T", "T") == 0 < unlike("T", "D") < unlike("T", "M") <= unlike("T", "AA") == 1
    assert unlike("IH", "IY") < unlike("IH", "AA") and unlike("R", "ER") < 0.5 and unlike("T", "?") == 1
    scroll, bread, heard = ["S", "K", "R", "OW", "L"], ["B", "R", "EH", "D"], ["S", "K", "R", "AO", "L", "D"]
    assert distance(scroll, scroll) == 0 < distance(scroll, heard) < 0.2
    assert distance(bread, heard) > 0.4
    assert distance(scroll, []) == distance([], scroll) == 1


@given(some.lists(some.sampled_from(sorted(sounds_as_in())), min_size=1, max_size=12),
       some.lists(some.sampled_from(sorted(sounds_as_in())), min_size=1, max_size=12))
def test_alike_is_the_same_both_ways(one: list[str], other: list[str]) -> None:
    assert alike(one, other) == alike(other, one) and 0 <= alike(one, other) <= 1 == alike(one, one)


# Whether to believe it.

SAID = {"ring the bell": "R IH NG DH AH B EH L", "bell please": "B EH L P L IY Z",
        "level thirty": "L EH V AH L TH ER D IY",
        "level thirteen": "L EH V AH L TH ER T IY N", "level two hundred": "L EH V AH L T UW HH AH N D R AH D",
        "level a hundred": "L EH V AH L AH HH AH N D R AH D", "what a smell": "W AH T AH S M EH L"}


def heard(sounds: str, *texts: tuple[str, float], seconds: float = 1.0) -> Verdict:
    hypotheses = tuple(Hypothesis(tuple(map(HeardWord, text.split())), share, tuple(SAID[text].split()))
                       for text, share in texts)
    return judge(Utterance(hypotheses, tuple(sounds.split()), 0, round(seconds * 1e9)), {each.id: each for each in ALL})


def test_what_is_clear_is_sure() -> None:
    verdict = heard("R IH NG DH AH B EH L", ("ring the bell", 1.0))
    assert verdict.kind == SURE and verdict.best is not None
    assert (verdict.best.reading.phrase, verdict.best.alike) == ("bell", 100)


def test_talk_in_which_a_phrase_was_found_is_refused_with_how_alike() -> None:
    verdict = heard(SAID["what a smell"], ("ring the bell", 1.0))
    assert verdict.kind == REFUSED and verdict.why.endswith("like “ring the bell”, not sure enough (60 % needed)")
    assert heard("R IH NG DH AH B EH L", ("ring the bell", 1.0), seconds=13).why.endswith("far too long for a phrase")
    assert heard("", ).why == "nothing like a phrase was heard"
    assert heard(SAID["what a smell"], ("what a smell", 1.0)).why == "heard “what a smell”, which is not a phrase here"
    assert heard(SAID["what a smell"], ("what a smell", 1.0)).kind == SILENT


def test_two_that_are_close_are_both_proposed() -> None:
    verdict = heard("L EH V AH L TH ER T IY", ("level thirty", 0.3), ("level thirteen", 0.7))
    assert verdict.kind == UNSURE and [each.reading.values["level"] for each in verdict.heard] == [30, 13]
    assert verdict.why == "“level thirty” or “level thirteen”"
    # What the sounds say clearly is asked by nobody.
    assert heard(SAID["level thirteen"], ("level thirteen", 0.9), ("level thirty", 0.1)).kind == SURE
    # Two wordings that come to the same are one.
    assert heard("B EH L P L IY Z", ("bell please", 0.5), ("ring the bell", 0.5)).kind == SURE


def test_a_number_out_of_its_range_is_refused_with_the_range() -> None:
    assert heard(SAID["level two hundred"], ("level two hundred", 1.0)).why == (
        "heard “level two hundred”, but 200 is not from 0 to 100")


def test_a_number_out_of_its_range_is_not_proposed_and_hides_no_other() -> None:
    near, far = ("level a hundred", 0.45), ("level two hundred", 0.55)
    verdict = heard("L EH V AH L UW HH AH N D R AH D", far, near)
    assert verdict.kind == UNSURE and [each.reading.values for each in verdict.heard] == [{"level": 100}]
    assert verdict.why == "heard “level two hundred”, but 200 is not from 0 to 100, or “level a hundred”"
    # What is clear needs no choosing.
    assert heard(SAID["level two hundred"], far, near).kind == REFUSED
    assert heard(SAID["level a hundred"], near, far).kind == SURE


def test_the_shorter_a_phrase_the_stricter() -> None:
    assert [needed(60, Hypothesis((), sounds=tuple("S" * length))) for length in (2, 5, 8, 20)] == [69, 64, 60, 60]


# Where an utterance begins and ends.


def frames(follow: Ends, text: str) -> list[int]:
    """Which frames begin an utterance; “x” is speech."""
    return [place for place, each in enumerate(text) if follow.step(speech=each == "x") == "begins"]


def test_an_utterance_begins_with_speech_and_not_with_a_click() -> None:
    follow = Ends()
    assert frames(follow, "..x...x.x....") == [] and frames(follow, "xx.xx") == [4]


@pytest.mark.parametrize("whole, more, silence", [(True, False, ends.WHOLE), (True, True, ends.MAY_GO_ON),
                                                  (False, False, ends.MIDDLE)])
def test_how_long_silence_lasts_depends_on_what_was_said(whole: bool, more: bool, silence: int) -> None:
    follow = Ends()
    frames(follow, "xxxxx")
    frames(follow, "." * (silence // ends.FRAME - 1))
    assert not follow.over(whole=whole, may_go_on=more)
    frames(follow, ".")
    assert follow.over(whole=whole, may_go_on=more)
    follow.end()
    assert not follow.over(whole=whole, may_go_on=more) and frames(follow, "xxxx") == [3]


def test_what_never_ends_is_ended() -> None:
    follow = Ends()
    frames(follow, "x" * round(ends.LONGEST * 1000 / ends.FRAME))
    assert not follow.over(whole=False, may_go_on=False)
    frames(follow, "xxxxx")
    assert follow.over(whole=False, may_go_on=False)
