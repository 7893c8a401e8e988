"""Values of macros: whole numbers, exact decimals and texts; what the check says of mixing them up; questions with
made-up answers; values that are kept.  All of it without an engine."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Mapping
from datetime import datetime
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from brass_pebble.core.macro.asking_steps import read_answer
from brass_pebble.core.macro.asks import CatchUp, Errand, Finish, GaveUp, Question
from brass_pebble.core.macro.reader import read_macro
from brass_pebble.core.macro.value.functions import FUNCTIONS
from brass_pebble.core.macro.value.kept_text import read_kept, write_kept
from brass_pebble.core.macro.value.kinds import (
    DECIMAL,
    LARGEST,
    TEXT,
    WHOLE,
    Given,
    NothingKept,
    Value,
    read_number,
    tell_value,
)
from brass_pebble.core.macro.writer import format_macro
from brass_pebble.core.say.problem import ProblemError
from standstill import took

NOON = datetime(2026, 3, 14, 12, 5, 9)


def play(text: str, *, values: Mapping[str, Value] | None = None, answers: Mapping[str, str] | None = None,
         kept: NothingKept | None = None, said: Mapping[str, object] | None = None) -> tuple[list[Any], Any, str]:
    """Lay a macro's events with made-up answers (`said`, by the name of a value or the kind of an errand): what was
    asked, the values at its end, and why it gave up."""
    macro, problems = read_macro(text, id="test")
    assert not problems, problems[0]
    assert macro.score is not None
    timeline, laying = macro.score.start(Given(dict(values or {}), answers=answers or {}, kept=kept or NothingKept(),
                                               wall=lambda: NOON))
    asked: list[Any] = []
    answer: object = None
    try:
        while True:
            ask = laying.send(answer)
            answer = None
            if isinstance(ask, CatchUp):
                continue
            asked.append(ask)
            if isinstance(ask, Question):
                found = (said or {}).get(ask.name)
                answer = read_answer(ask, found) if isinstance(found, str) else found
            elif isinstance(ask, Errand):
                answer = (said or {}).get(ask.kind, True)
    except (StopIteration, Finish):
        return asked, timeline.values, ""
    except GaveUp as error:
        return asked, timeline.values, f"line {error.line}: {error}"
    except ProblemError as error:
        return asked, timeline.values, f"line {error.problem.line}: {error.problem.what}"


def value_of(expression: str, **values: Value) -> Value:
    """What an expression comes to."""
    _, found, trouble = play(f"let result be {expression}\nshow \"{{result}}\"\n", values=values)
    assert not trouble, trouble
    return found["result"]


def wrong(text: str) -> str:
    """What the check says first: line, column, words."""
    _, problems = read_macro(text, id="test")
    assert problems
    return f"{problems[0].line}:{problems[0].column}: {problems[0].what}"


@pytest.mark.parametrize("name", FUNCTIONS)
def test_every_function_does_what_its_example_says(name: str) -> None:
    asks, comes = FUNCTIONS[name].example
    if name == "json":
        _, values, trouble = play(f"read reply from clipboard\nlet result be {asks}\n",
                                  said={"read clipboard": '{"cameras": [{"name": "oven"}]}'})
        assert not trouble
    else:
        _, values, _ = play(f"let result be {asks}\n")
    assert tell_value(values["result"]) == (NOON.strftime("%H:%M") if name == "now" else comes)


@pytest.mark.parametrize(("expression", "comes"), [
    ("0.10 + 0.20", "0.30"), ("10.00 / 3", "3.33"), ("-10.00 / 3", "-3.33"), ("7 / 2", "3"), ("-7 / 2", "-3"),
    ("-7 % 2", "-1"), ("7.5 % 2", "1.5"), ("2.50 * 4", "10.00"), ("1 - 0.001", "0.999"), ("-(2.5)", "-2.5"),
    ('"rye" + " " + "bread"', "rye bread"), ('upper("ß")', "SS"), ("round(2.5, 0)", "3"), ("whole(-2.5)", "-3"),
    ('part("Ažžé", 2, 3)', "žž"), ('part("rye", -2, -1)', "ye"), ('part("rye", 5, 9)', ""), ('length("")', "0"),
    ('word("a b", 5)', ""), ('before("a", "")', "a"), ('after("a,b,c", ",")', "b,c"),
    ("9007199254740993 + 0.0", "9007199254740993.0"), (f"{LARGEST} - 0.000000000001", f"{LARGEST - 1}.999999999999"),
])
def test_reckoning_is_exact(expression: str, comes: str) -> None:
    assert tell_value(value_of(expression)) == comes


@settings(max_examples=200, deadline=None)
@given(st.decimals(-10**9, 10**9, places=3), st.decimals(-10**9, 10**9, places=2))
def test_decimals_add_like_on_paper(a: Decimal, b: Decimal) -> None:
    both = f"({a:f}) + ({b:f})".replace("(-", "-(")
    assert value_of(both) == a + b


@settings(max_examples=300, deadline=None)
@given(st.one_of(st.integers(-LARGEST, LARGEST), st.text(max_size=200),
                 st.decimals(-10**12, 10**12, places=5).map(lambda number: number.normalize() + Decimal("0.00000"))))
def test_a_kept_value_is_read_as_it_was_written(value: Value) -> None:
    if isinstance(value, str):
        value = value.encode("utf-8", "replace").decode()
    found = read_kept(write_kept(value))
    assert found == value and type(found) is type(value)


@settings(max_examples=300, deadline=None)
@given(st.one_of(st.integers(-LARGEST, LARGEST), st.decimals(-10**15, 10**15, places=4)))
def test_a_number_is_read_as_it_is_told(number: int | Decimal) -> None:
    found = read_number(tell_value(number))
    assert found == number and tell_value(found) == tell_value(number)


@pytest.mark.parametrize(("text", "says"), [
    ('let a be "x" + 1', "1:10: “+” has a text before it and a whole number behind it"),
    ("let a be 1\nlet a be 1.5", "2:5: “a” is a whole number since line 1, and this is a number with decimals"),
    ('let a be 1\nlet a be "x"', "2:5: “a” is a whole number since line 1, and this is a text"),
    ('repeat "x"\n  tap A', "1:8: a whole number is needed here, and this is a text"),
    ("let a be 0.5\nscroll down a", "2:13: a whole number is needed here, and this is a number with decimals"),
    ('if "a" < "b"\n  tap A', "1:4: texts are not compared by <"),
    ('if strength = "hard"\n  tap A', "1:4: a whole number is compared with a text"),
    ('if 1 contains "2"\n  tap A', "1:4: a whole number is compared with a text"),
    ("if 1 contains 2\n  tap A", "1:4: only a text contains another"),
    ('let a be uper("x")', "1:10: “uper” cannot be asked of a value"),
    ("let a be upper(1)", "1:16: upper takes a text here, and this is a whole number"),
    ('let a be part("x", 1)', "1:10: part takes 3 values, and here are 2"),
    ('let a be - "x"', "1:12: a text has no minus"), ('let a be "a" * "b"', "1:10: texts cannot be joined by *"),
    ('type "{guest}"', "1:7: there is no value called “guest”"),
    ('let a be "x"\ntype "{upper(a)}"', "2:7: braces hold the name of a value, and nothing is reckoned there"),
    ('type "{"', "1:7: this brace names no value"),
    ("let a be 1.2.3", "1:10: “1.2.3” is not a number"), ("let held be 1", "1:5: “held” is how long"),
    ("kept number from 1", "1:6: “number” is a value of the press"),
    ("kept a from strength", "1:6: “a” has to begin with the same value every time"),
    ('kept a from 1\nlet a be "x"', "2:5: “a” is a whole number since line 1"),
    ('ask a "?" from "x" to 2', "1:0: a range goes from a number to a number"),
    ('ask a "?" of "one"', "1:0: there have to be 2 to 50 to choose from"),
    ('ask a "?" from 1 to 9 proposing "x"', "1:5: a whole number is asked for, and a text is proposed"),
    ('keep Ctrl down\n  ask a "?"', "2:0: a question is asked while Ctrl is down"),
    ('read a from file "x" first 0 lines', "1:28: “0” is not a number of lines"),
    ('let a be json("[1]", "0") + 1', "1:10: “+” has a text before it"),
])
def test_mixing_up_is_told_before_the_run(text: str, says: str) -> None:
    assert wrong(text).startswith(says)


@pytest.mark.parametrize(("expression", "says"), [
    ("number(said)", "number: “x12” is not a whole number"), ("decimal(said)", "decimal: “x12” is not a number"),
    ('json(said, "a")', "json: it is not JSON"), ('json(trim(" [1] "), said)', "json: there is no “x12” in it"),
    ("0.000001 * (number + 0.0000001)", "0.000001 * 5.0000001 has more than 12 decimals"),
    (f"{LARGEST} + number", f"{LARGEST} + 5 is too large a number"), ("1.5 / (number - 5)", "this divides by zero"),
    ("round(1.5, number * 8)", "round: a number cannot have 40 decimals"), ("now(said + \"%\")", ""),
])
def test_what_cannot_be_reckoned_ends_the_run_with_a_sentence(expression: str, says: str) -> None:
    text = f'let a be {expression}\nshow "{{a}}"\n'
    assert play(text, values={"said": "x12", "number": 5})[2] == (f"line 1: {says}" if says else "")


@pytest.mark.parametrize(("number", "says"), [
    ("1e-999999999", "out of range"), ("1e-99999999", "out of range"), ("1E+999999999", "out of range"),
    ("0." + 200 * "1", "out of range"), ("1.5e42", "out of range"), ("1e999999999999999999999", "out of range"),
    ("1.5e3", ""), ("-2.5e-7", ""), ("0.10", ""), ("1" + 39 * "0" + ".0", ""),
])
def test_a_few_letters_of_another_program_never_become_many_digits(number: str, says: str) -> None:
    """18 bytes from a web server once held every press for seven seconds, and took two gigabytes."""
    began = time.monotonic()
    _, values, gave_up = play('let a be json(said, "a")\nshow "{a}"\n', values={"said": f'{{"a": {number}}}'})
    assert says in gave_up and bool(gave_up) == bool(says), gave_up
    if not says:
        assert values["a"] == format(Decimal(number), "f")
    assert took(began) < 1
    with pytest.raises(ProblemError):
        read_kept("value = 1e-999999999")


@given(st.text(st.characters(exclude_characters="\x00", exclude_categories=["Cs"]), max_size=60))
@settings(max_examples=20)
def test_a_quoted_text_is_one_word_of_the_shell_and_commands_nothing(text: str) -> None:
    _, values, _ = play('let a be quoted(said)\nshow "{a}"\n', values={"said": text})
    done = subprocess.run(["sh", "-c", f"printf %s {values['a']}"], capture_output=True, check=True)
    assert done.stdout.decode() == text


def test_what_can_never_be_reckoned_is_told_by_the_check() -> None:
    assert wrong("let a be 5 / 0") == "1:0: this divides by zero"
    assert wrong('let a be number("x")') == "1:0: number: “x” is not a whole number"


def test_a_text_grows_only_so_far() -> None:
    text = 'let a be "0123456789"\nrepeat 30\n  let a be a + a\n'
    assert play(text)[2] == "line 3: the text has more than 1,000,000 characters"


def test_a_question_is_put_and_its_answer_is_a_value() -> None:
    text = ('ask guest "Name of the guest"\nask hours "How long, {guest}?" from 1 to 48 proposing 24 at most 9s\n'
            'ask bread "Which" of "Rye" "Wheat {hours}"\nask sure "Really" yes or no\n'
            'ask price "Price" from 0.50 to 9.99\n'
            'if sure = "yes"\n  type "{guest} {hours} {bread} {price}"\n')
    asked, values, trouble = play(text, said={"guest": "Ada", "hours": "30", "bread": "2", "sure": "YES", "price": "3"})
    assert not trouble
    assert [(one.words, one.kind, one.choices, one.proposal) for one in asked] == [
        ("Name of the guest", TEXT, (), ""), ("How long, Ada?", WHOLE, (), "24"),
        ("Which", TEXT, ("Rye", "Wheat 30"), ""),
        ("Really", TEXT, ("yes", "no"), ""), ("Price", DECIMAL, (), "")]
    assert (asked[1].low, asked[1].high, asked[1].limit) == (1, 48, 9_000_000_000)
    assert {name: values[name] for name in ("guest", "hours", "bread", "sure", "price")} == {
        "guest": "Ada", "hours": 30, "bread": "Wheat 30", "sure": "yes", "price": Decimal("3")}
    assert isinstance(values["price"], Decimal)


def test_without_an_answer_nothing_is_sent_or_the_other_way_is_taken() -> None:
    _, _, trouble = play('ask guest "Name"\ntap A\n')
    assert trouble == "line 1: “Name” was not answered"
    asked, values, trouble = play('ask guest "Name"\notherwise\n  let guest be "nobody"\nshow "{guest}"\n')
    assert not trouble and values["guest"] == "nobody" and asked[-1].words == ("nobody",)


def test_answers_given_beforehand_are_not_asked_for() -> None:
    text = 'ask hours "How long" from 1 to 48\nread clip from clipboard\nshow "{hours} {clip}"\n'
    asked, _, trouble = play(text, answers={"hours": "7", "clip": "rye"})
    assert not trouble and [one.words for one in asked] == [("7 rye",)]
    _, _, trouble = play(text, answers={"hours": "70"})
    assert trouble == ("line 1: the answer to “hours” does not fit: 70 is out of range. Answer with a whole number "
                       "from 1 to 48")


def test_what_is_read_is_a_text_or_the_other_way() -> None:
    text = ('read names from file "guests.txt" first 2 lines\nread day from command "date" "+%F" at most 2s\n'
            'let all be names + day\n')
    asked, values, _ = play(text, said={"read file": "Ada\nBo", "read command": "monday"})
    assert values["all"] == "Ada\nBomonday"
    assert [(one.kind, one.words, one.limit) for one in asked] == [
        ("read file", ("guests.txt", "2"), 5_000_000_000), ("read command", ("date", "+%F"), 2_000_000_000)]
    _, _, trouble = play(text, said={"read file": False})
    assert trouble == "line 1: “names” could not be read from the file"


def test_a_kept_value_is_asked_for_anew_and_set_at_once() -> None:
    kept = NothingKept()
    text = "kept take from 1\nlet take be take + 1\nwait 10ms\nlet take be take * 10\n"
    assert play(text, kept=kept)[2] == "" and kept.get("take") == 20
    assert play(text, kept=kept)[2] == "" and kept.get("take") == 210
    kept.put("take", "nonsense")
    assert play(text, kept=kept)[2] == (
        "line 2: the kept value “take” is a text now, and this macro needs a whole number")


def test_a_played_macro_has_values_of_its_own() -> None:
    from brass_pebble.core.macro.reader import link, parse
    inner, outer = parse('let x be "text"\nshow "{x} {number}"\n', id="inner"), parse(
        "let x be 5\nlet number be 35\nplay inner\nlet x be x + 1\n", id="outer")
    link({"inner": inner, "outer": outer})
    assert not inner.problems and not outer.problems and outer.macro.score is not None
    timeline, laying = outer.macro.score.start(Given())
    shown = [ask.words for ask in laying if isinstance(ask, Errand)]
    assert shown == [("text 35",)] and timeline.values["x"] == 6


@pytest.mark.parametrize("line", [
    'ask guest "Name {number}" proposing last at most 30s',
    'ask hours "How long" from 1 to most(number, 48) proposing 24',
    'ask bread "Which" of "Rye" "Wheat"', 'ask sure "Really" yes or no', 'ask n "How many" a number',
    'ask n "Price" a decimal proposing clipboard', "read x from clipboard", "read x from window title at most 2s",
    'read x from file "a b.txt" first 1 line', 'read x from command "date" "+%F"', 'read x from shell "date | cat"',
    "kept take from -1", 'kept last_guest from "nobody"', 'let x be upper("a" + said) + part(said, 1, -1)',
    "let x be -(1.50 + 2) * 3", 'let x be now("%H:%M")',
])
def test_the_formatter_writes_it_as_it_is(line: str) -> None:
    assert format_macro(f"{line}\n") == f"{line}\n"
    assert format_macro("  ".join(line.split(" ")).replace("  ", " ", 1) + "\n").split() == line.split()


def test_a_very_long_text_is_laid_in_pieces() -> None:
    macro, problems = read_macro('type "{said}"\n', id="test")
    assert not problems and macro.score is not None
    timeline, laying = macro.score.start(Given({"said": "rye " * 25_000}))
    for _ in range(5):
        next(laying)
    assert 0 < len(timeline.timetable.times) < 2_000


@pytest.mark.parametrize(("text", "says"), [
    ("value = [1]", "this is not one number or text"), ("value = 1e400", "this number is too large, or has too many"),
    ("nonsense", "this is not TOML"), ("value = 1\nother = 2", "this is not one number or text"),
    ("", "this is not one"),
    ("value = true", "this is not one number or text"), (f"value = {LARGEST}0", "this number is too large"),
])
def test_a_kept_file_of_nonsense_is_refused(text: str, says: str) -> None:
    with pytest.raises(ProblemError, match=says):
        read_kept(text)


def test_what_a_stranger_s_macro_reaches_outside_by() -> None:
    from brass_pebble.core.macro.guests.reach import Guest, put_to_sleep, reaches
    from brass_pebble.core.macro.reader import parse
    text = ('kept greeting from "hello"\nlet mine be 1\nlet greeting be "rm -rf"\nread a from clipboard\n'
            'request get "http://x" into b\nopen "x"\nclose window "y"\ntype lines\n  {a}\npaste file "z"\nask c "?"\n')
    draft = parse(text)
    assert draft.problems == []
    assert [row.does for row in reaches(draft.steps)] == [
        "sets a kept value", "reads the clipboard", "calls an address", "starts a program", "closes a window",
        "types a text", "pastes a file"]
    # The lines below are part of what is approved.
    lines = next(row for row in reaches(draft.steps) if row.does == "types a text")
    other = next(row for row in reaches(parse(text.replace("  {a}", "  {a};")).steps) if row.does == "types a text")
    assert lines.text == "type lines\n{a}" and lines.mark != other.mark
    assert put_to_sleep(draft.steps, Guest("them", lambda mark: False)) == 7


def test_a_value_that_no_step_has_set_is_told_with_its_name() -> None:
    text = 'ask guest "Who"\notherwise\n  show "nobody"\ntype "{guest}"\n'
    assert play(text)[2] == "line 4: “guest” has no value here: what sets it was not played"
    _, problems = read_macro('if strength > 126\n  tap A\notherwise\n  let x be 1\nlet y be x + 1\n', id="test")
    assert problems == []
