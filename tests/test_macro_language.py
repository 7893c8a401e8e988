"""Macro text to a timetable, and what is said of broken text."""

from __future__ import annotations

import json
import subprocess
import sys
import time

import pytest

from brass_pebble.core.macro.reader import have_lines_at_hand, lines_as_data, parse, read_macro, walk
from brass_pebble.core.macro.renamed import old_words
from brass_pebble.core.macro.timetable import Macro
from brass_pebble.core.macro.writer import format_macro
from brass_pebble.core.say.durations import MS
from brass_pebble.core.signals.keys import key_table
from brass_pebble.paths import PACKAGE


def timetable(text: str) -> list[str]:
    macro = good(text)
    program, names = macro.timetable, key_table()
    return [f"{at // MS} {names.name(code)}{'+' if value else '-'}"
            for at, code, value in zip(program.times, program.codes, program.values, strict=True)]


def good(text: str) -> Macro:
    macro, problems = read_macro(text, id="test", file="test.macro")
    assert problems == []
    return macro


def complaints(text: str) -> list[str]:
    return [str(problem) for problem in read_macro(text, id="test", file="test.macro")[1]]


@pytest.mark.parametrize(("text", "events"), [
    ("tap A", ["0 A+", "40 A-"]),
    ("tap A for 5ms", ["0 A+", "5 A-"]),
    ("tap Ctrl+Alt+4", ["0 Ctrl+", "0 Alt+", "0 4+", "40 4-", "40 Alt-", "40 Ctrl-"]),
    ("tap A\ntap B", ["0 A+", "40 A-", "60 B+", "100 B-"]),
    ("tap A\nwait 10ms\ntap B", ["0 A+", "40 A-", "50 B+", "90 B-"]),
    ("taps last 10ms\ngaps last 3ms\ntap A\ntap A", ["0 A+", "10 A-", "13 A+", "23 A-"]),
    ("down Shift\nwait 7ms\nup Shift", ["0 Shift+", "7 Shift-"]),
    ("down A\ndown B\nwait 9ms", ["0 A+", "0 B+", "9 B-", "9 A-"]),
    ("keep Ctrl+Alt down\n  tap 4", ["0 Ctrl+", "0 Alt+", "0 4+", "40 4-", "40 Alt-", "40 Ctrl-"]),
    ("keep Ctrl down\n  tap Ctrl+C", ["0 Ctrl+", "0 C+", "40 C-", "40 Ctrl-"]),
    ("repeat 2\n  tap A", ["0 A+", "40 A-", "60 A+", "100 A-"]),
    ("repeat 3 every 250ms\n  tap A", ["0 A+", "40 A-", "250 A+", "290 A-", "500 A+", "540 A-"]),
    ("repeat 2 times every 50ms\n  tap A\ntap B", ["0 A+", "40 A-", "50 A+", "90 A-", "110 B+", "150 B-"]),
    ("repeat 2\n  repeat 2 every 100ms\n    tap A\n  wait 60ms", ["0 A+", "40 A-", "100 A+", "140 A-", "200 A+",
                                                                "240 A-", "300 A+", "340 A-"]),
    ('type "Hi"', ["0 Shift+", "0 H+", "40 H-", "40 Shift-", "60 I+", "100 I-"]),
    ('type "ab" every 20ms', ["0 A+", "10 A-", "20 B+", "30 B-"]),
    ('type "a\\n\\"#"', ["0 A+", "40 A-", "60 Enter+", "100 Enter-", "120 Shift+", "120 Apostrophe+",
                         "160 Apostrophe-", "160 Shift-", "180 Shift+", "180 3+", "220 3-", "220 Shift-"]),
    ("# only a note\n\n   # another\n", []),
    ("tap A # with a note", ["0 A+", "40 A-"]),
])
def test_what_a_text_means(text: str, events: list[str]) -> None:
    assert timetable(text) == events


def test_settings() -> None:
    macro = good('name "Oven close-up"\nlabel "oven"\nnote "for the crust"\ntint clay\nagain start over\ntap A')
    assert (macro.name, macro.label, macro.note, macro.tint, macro.again) == \
        ("Oven close-up", "oven", "for the crust", "clay", "start over")


def test_the_shortest_time_between_two_events_is_known() -> None:
    assert good("tap A for 8ms\nwait 30ms\ntap B").timetable.closest_pair() == 8 * MS
    assert good("wait 1s").timetable.closest_pair() is None


@pytest.mark.parametrize(("text", "complaint"), [
    ("tpa 4", "test.macro:1:1: “tpa” is not a step. Did you mean tap?"),
    ("tap Ctlr+4", "test.macro:1:5: there is no key called “Ctlr”. Did you mean Ctrl?"),
    ("tap A\n\ntap Ctrl+Alt+Delte", "test.macro:3:14: there is no key called “Delte”. Did you mean Delete?"),
    ("wait 300", "test.macro:1:6: “300” has no unit. Write 300ms or 300s"),
    ("wait -3ms", "test.macro:1:6: “-3ms” is below zero. Time only runs forward: use 0ms or more"),
    ("tap A fro 3ms", "test.macro:1:7: “fro” does not fit here. Did you mean for?"),
    ("tap", "test.macro:1:4: the line is incomplete. Expected a key or chord, like Ctrl+Alt+F4"),
    ("repeat 0\n  tap A", "test.macro:1:8: repeat 0 does nothing. Repeat once or more, or put a # before the "
                          "block"),
    ("repeat 3 evry 1s\n  tap A", "test.macro:1:10: “evry” does not fit here. Did you mean every?"),
    ("repeat 3", "test.macro:1: this repeat has no steps. Write them below it, indented by two spaces"),
    ("repeat 2.5\n  tap A", "test.macro:1:8: “2.5” is not a whole number of times. Write repeat 3, or repeat 3 every "
                            "250ms"),
    ("repeat 3 every 10ms\n  tap A", "test.macro:1: the block takes 40 ms, longer than the 10 ms it has. Give it more "
                                     "time, or shorten its taps and waits"),
    ("keep Ctrl\n  tap A", "test.macro:1:10: the line is incomplete. Expected “down”"),
    ("tap A\n  tap B", "test.macro:2:3: this line is indented more than its block. Only the lines under "
                       "repeat, keep, beat, if and otherwise are indented"),
    ("repeat 2\n    tap A\n  tap B", "test.macro:3:3: the indentation of this line does not match any block above "
                                     "it. Use 0 "
                                     "spaces, as the block above"),
    ("repeat 2\n\ttap A", "test.macro:2:1: this line is indented with a tab. Indent with two spaces for each block"),
    ('type "abc', 'test.macro:1:6: the text is not closed. End it with a double quote; a quote inside is written \\"'),
    ('type "café"', "test.macro:1:10: the us layout cannot type “é”. Leave it out, or write paste instead of "
     "type: that goes through the clipboard"),
    ('type "a\\q"', 'test.macro:1:8: “\\q” is not an escape. Available: \\n, \\t, \\", \\\\, \\{ and \\}'),
    ("down A\ndown A", "test.macro:2:6: A is already down since line 1. Write an up for it in between"),
    ("up A", "test.macro:1:4: A is not down here. Write a down for it before, or leave this line out"),
    ("tint wheet\ntap A", "test.macro:1:6: there is no tint called “wheet”. Did you mean wheat?"),
    ('label "much too long"', "test.macro:1:7: a label has at most 12 characters, this one has 13. Shorten it"),
    ('tap A\nname "late"', "test.macro:2:1: “name” is a setting and comes too late. Put it at the top, before the "
                           "first step"),
    ("repeat 999999\n  tap A", "test.macro:1: the macro has more than 250,000 events. Repeat fewer times, or split it "
                               "into several macros"),
])
def test_a_broken_text_is_explained(text: str, complaint: str) -> None:
    assert complaint in complaints(text)
    assert list(read_macro(text)[0].timetable.times) == []


def test_every_broken_line_is_told_at_once() -> None:
    assert len(complaints("tpa A\nwait 3\nrepeat x\n  tap A\n  tap Bb\ntap C")) == 4


def test_long_macros_are_read_quickly() -> None:
    text = "\n".join(f"tap {'AB'[i % 2]}\nwait {i % 50 + 1}ms" for i in range(5000))
    began = time.perf_counter()
    assert len(good(text).timetable.times) == 10_000
    # Half a second where nothing else runs; the benchmarks measure it.
    assert time.perf_counter() - began < 20


def test_lines_at_hand_read_as_they_did_when_the_grammar_read_them() -> None:
    """As plain data and back, in another process that never puts the grammar together."""
    texts = [file.read_text() for file in sorted((PACKAGE / "demo" / "desk" / "macros").glob("*.macro"))]
    texts += ["let x be 3 + (number * 2)\nif x > 4\n  tap A\notherwise\n"
              "  wait until window \"Oven*\" is there at most 2s\n", "tapp A\n", "# only a note\n"]
    lines = {line: data for text in texts for line, data in lines_as_data(text).items()}
    assert "tapp A" not in lines and len(lines) > 30
    job = ("import json, sys\nfrom brass_pebble.core.macro import reader\n"
           "reader.have_lines_at_hand(json.load(sys.stdin))\n"
           f"for text in {texts[:-2]!r}:\n    draft = reader.parse(text)\n"
           "    print(json.dumps([[step.account() for step in reader.walk(draft.steps)],\n"
           "                      [str(p) for p in draft.problems]]))\n"
           "assert not reader.grammar.cache_info().currsize\n")
    said = subprocess.run([sys.executable, "-c", job], input=json.dumps(lines), capture_output=True, text=True,
                          check=True).stdout.splitlines()
    assert [json.loads(line) for line in said] == [
        [[step.account() for step in walk(draft.steps)], [str(problem) for problem in draft.problems]]
        for draft in map(parse, texts[:-2])]


DEEP: list[object] = []
for _ in range(5000):
    DEEP = [{"chord": DEEP}]


@pytest.mark.parametrize(("key", "data"), list(enumerate([
    None, 4, [], ["tap"], ["tap", 4], ["tapp", []], [[], []], ["tap", [["CHORD", "A"]]], ["tap", [{"a": 1, "b": 2}]],
    ["tap", [["CHORD", "A", "x"]]], ["tap", DEEP]], start=1)))
def test_a_line_at_hand_that_is_none_is_read_anew(key: int, data: object) -> None:
    # Another line each time: one that was read stays read.
    line = f"tap   F{key}"
    have_lines_at_hand({line: data})
    try:
        draft = parse(f"{line}\n")
        assert not draft.problems and len(draft.steps) == 1
    finally:
        have_lines_at_hand({})


def test_words_that_have_been_renamed_are_read_and_hinted_at() -> None:
    old = 'set n to 2\nrepeat n\n  say "round {n}"\n  beep\n'
    draft = parse(old)
    assert not draft.problems
    assert format_macro(old) == 'let n be 2\nrepeat n\n  speak "round {n}"\n  ring\n'
    assert [(hint.line, hint.column, hint.what) for hint in old_words(old)] == [
        (1, 1, "“set” is now “let … be …”"), (3, 3, "“say” is now “speak”"), (4, 3, "“beep” is now “ring”")]
    assert not old_words(format_macro(old)) and not old_words('# say nothing\ntap A\n')
    # What is offered for a word that is no step has the new words only.
    assert "ring" in parse("rnig").problems[0].hint and "beep" not in parse("beap").problems[0].hint
