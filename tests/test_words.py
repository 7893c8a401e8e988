"""What the grammar knows of a line: colours, what could come next, the reference; each held against the grammar."""

from __future__ import annotations

import itertools
import json
import re
import subprocess
import sys
from importlib.resources import files
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from brass_pebble.core.macro.help import words
from brass_pebble.core.macro.help.marks import MARKS, marks_of
from brass_pebble.core.macro.help.reference import condition_rows, rows_for, step_rows
from brass_pebble.core.macro.help.words import Names, offers, pieces_of
from brass_pebble.core.macro.reader import grammar, parse, read_macro, walk
from brass_pebble.core.macro.steps import SETTINGS
from brass_pebble.core.macro.world_steps import STEPS
from brass_pebble.core.macro.writer import format_macro

TOOLS = Path(__file__).parent.parent / "tools"
NAMES = Names(macros=("bell", "rye-title"), layers=("cut",), windows=("Editor",), classes=("Foot",),
              programs=("mousepad",), values={"guest": "text", "level": "whole number"})


def test_every_step_and_setting_has_a_row() -> None:
    assert step_rows().keys() == STEPS.keys() | SETTINGS.keys()


@pytest.mark.parametrize("rule", step_rows())
def test_every_example_is_read_and_has_its_step(rule: str) -> None:
    row = step_rows()[rule]
    draft = parse(row.example)
    assert draft.problems == [] and format_macro(row.example) == f"{row.example}\n"
    if rule in STEPS:
        assert any(type(step) is STEPS[rule] for step in walk(draft.steps))
        if rule != "play":
            assert read_macro(row.example)[1] == []
    assert row in rows_for(row.example.splitlines()[0]) or rule in ("otherwise", "kept", "read_level", "up")


def test_every_condition_has_a_row_and_every_example_has_it() -> None:
    text = (files("brass_pebble.core.macro") / "grammar.lark").read_text()
    body = re.search(r"^\?condition:.*?(?=^\?sum)", text, re.MULTILINE | re.DOTALL)
    assert body is not None
    assert condition_rows().keys() == set(re.findall(r"-> (\w+)", body[0]))
    for name, row in condition_rows().items():
        assert read_macro(row.example)[1] == [] and format_macro(row.example) == f"{row.example}\n"
        assert any(found.data == name for found in grammar().parse(row.example.splitlines()[0]).iter_subtrees()), name


def test_a_line_that_is_being_written_is_found_by_its_first_word() -> None:
    assert [row.rule for row in rows_for("wait unti")] == ["wait", "wait_until"]
    assert [row.rule for row in rows_for("say \"")] == ["speak"]
    assert rows_for("") == [] and rows_for("frobnicate") == []


@pytest.mark.parametrize(("line", "first"), [
    ("ta", ["tap", "tap chord", "taps"]), ("tap Ct", ["Ctrl"]), ("tap Ctrl+AltG", ["Ctrl+AltGr"]),
    ("wait u", ["until"]),
    ("let x be up", ["upper("]), ("let x be gu", ["guest"]), ("if level ", ["begins with", "contains", "ends with"]),
    ('type "a {gu', ["guest"]), ("play r", ["rye-title"]), ("layer c", ["cut"]), ("layer cut ", ["off", "on"]),
    ('focus window "Ed', ['"Editor"']), ('wait until window class "', ['"Foot"']), ("controller tap so", ["south"]),
    ('open "mo', ['"mousepad"']), ('wait until program "', ['"mousepad"']), ('close program "m', ['"mousepad"']),
    ('open "mousepad" as class "F', ['"Foot"']), ('run "mousepad" "m', []),
    ("read x from ", ["clipboard", "command", "file", "level", "shell", "window"]), ("stop ", ["others", "here"]),
    ('ask a "b" ', ["a", "at", "from", "of", "proposing", "yes"]), ("repeat 3 e", ["every"]), ("tap A # wa", []),
    ("frobnicate b", []), ("level con", ["controller x"]), ("send ", ["bend", "bytes", "cc"]), ("tap ", []),
])
def test_what_could_come_next(line: str, first: list[str]) -> None:
    found = [offer.word for offer in offers(line, len(line), NAMES)]
    assert found[:len(first)] == first if first else found == []


@settings(max_examples=300, deadline=None)
@given(st.lists(st.sampled_from([*(row.example.splitlines()[0] for row in step_rows().values()), '"', "{", "\\", "é"]),
                min_size=1, max_size=2), st.integers(0, 60))
def test_whatever_is_offered_can_stand_there(parts: list[str], at: int) -> None:
    line = " ".join(parts)[:at]
    for offer in offers(line, len(line), NAMES):
        assert 0 <= offer.start <= len(line)
        if offer.what == words.WORD:
            head = line[:offer.start] + offer.word
            # The word is one that the grammar takes: what stands up to it is no mistake.
            assert words._accepted(head) is not None, head
    pieces = pieces_of(line)
    assert all(0 <= piece.start < piece.end <= len(line) for piece in pieces)
    assert all(a.end <= b.start for a, b in itertools.pairwise(pieces))


def test_what_stands_where() -> None:
    line = '  if guest contains "a" and upper(level) > 3.5  # note'
    assert [(line[piece.start:piece.end], piece.what) for piece in pieces_of(line)] == [
        ("if", "step"), ("guest", "value"), ("contains", "word"), ('"a"', "text"), ("and", "word"),
        ("upper", "function"), ("level", "value"), ("3.5", "number"), ("# note", "note")]
    line = "tap Ctrl+A for 30ms oops"
    assert [(line[piece.start:piece.end], piece.what) for piece in pieces_of(line)] == [
        ("tap", "step"), ("Ctrl+A", "key"), ("for", "word"), ("30ms", "number")]


def test_marks_tell_what_a_macro_does() -> None:
    glyphs = {mark.word: mark.glyph for mark in MARKS}
    assert marks_of("tap A\n") == ()
    assert marks_of("kept a from 1\nrepeat 3\n  run \"x\"\nwait until held > 3\nask b \"?\"\n") == tuple(
        glyphs[word] for word in ("repeats", "waits", "asks", "keeps", "reaches outside"))
    assert marks_of("type lines\n  ask nobody\n  repeat\n") == ()


def test_the_page_and_the_grammar_for_editors_are_as_the_grammar_is() -> None:
    for tool in ("steps_page.py", "editor_grammar.py"):
        done = subprocess.run([sys.executable, TOOLS / tool, "--check"], capture_output=True, text=True, check=False)
        assert done.returncode == 0, f"make protocol: {tool} {done.stdout}{done.stderr}"


def test_the_grammar_for_editors_knows_every_first_word() -> None:
    file = Path(__file__).parent.parent / "src/brass_pebble/editors/brass-pebble-macro.tmLanguage.json"
    import re
    rules = json.loads(file.read_text())["repository"]
    steps = re.compile(rules["step"]["match"])
    for row in step_rows().values():
        first = row.example.splitlines()[-1 if row.rule in ("otherwise", "up") else 0]
        assert steps.match(first.strip()), first


def test_the_lanes_tell_what_is_asked_of_whom() -> None:
    macro, problems = read_macro('ask guest "Who?"\nread note from clipboard\nwait until program "x" is there\n'
                                 'wait until place 3 4 looks "102030"\nwait until window "x" is gone\ntap A\n')
    assert problems == []
    assert [words for _, _, words in macro.marks] == ["ask guest", "read clipboard", "program", "look", "window"]
