"""The key table against the kernel's own header, chords, durations, and what the us layout types."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brass_pebble.core.say.durations import MS, parse_duration, say_duration
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keymap import as_held, keymap
from brass_pebble.core.signals.keys import PLACED, key_table, parse_chord

HEADER = Path("/usr/include/linux/input-event-codes.h")
NOT_KEYS = {"KEY_RESERVED", "KEY_MAX", "KEY_CNT", "KEY_MIN_INTERESTING", "KEY_UNKNOWN", "BTN_MISC", "BTN_MOUSE",
            "BTN_JOYSTICK", "BTN_GAMEPAD", "BTN_DIGI", "BTN_WHEEL", "BTN_TRIGGER_HAPPY"}


def test_every_key_of_the_kernel_is_there_with_its_code() -> None:
    defined = re.findall(r"#define\s+((?:KEY|BTN)_\w+)\s+(0x[0-9a-f]+|\d+)\b", HEADER.read_text())
    wanted = {name: int(code, 0) for name, code in defined if name not in NOT_KEYS}
    table = key_table()
    assert len(wanted) > 600
    for name, code in wanted.items():
        if code in table.by_code:
            assert table.find(name).code == code
    assert set(wanted.values()) <= set(table.by_code)


def test_names_are_unique_and_lead_back() -> None:
    table = key_table()
    assert len({name.casefold() for name in table.names()}) == len(table.by_code)
    for key in table.by_code.values():
        assert table.find(key.name) is key
        assert table.find(key.name.upper()) is key


SENDABLE = [key.code for key in key_table().by_code.values() if not key.button]


@given(st.lists(st.sampled_from(SENDABLE), min_size=1, max_size=5, unique=True))
def test_chords_round_trip(codes: list[int]) -> None:
    text = "+".join(key_table().name(code) for code in codes)
    assert parse_chord(text).codes == tuple(codes)
    assert str(parse_chord(text)) == text


@pytest.mark.parametrize(("text", "codes"), [
    ("Ctrl+Alt+F4", (29, 56, 62)), ("ctrl + alt + f4", (29, 56, 62)), ("AltGr+E", (100, 18)),
    ("RightCtrl+PadPlus", (97, 78)), ("Ctrl+ButtonSide", (29, 0x113)), ("Ctrl+PlaceZ", (29, PLACED + 44)),
    ("F24", (194,)), ("KEY_A", (30,)), ("Esc", (1,)), ("VolumeUp", (115,)),
])
def test_chords_as_people_write_them(text: str, codes: tuple[int, ...]) -> None:
    assert parse_chord(text).codes == codes


@pytest.mark.parametrize(("text", "what", "column", "hint"), [
    ("Ctlr+4", "no key called “Ctlr”", 1, "Did you mean Ctrl?"),
    ("Ctrl+Alt+Entre", "no key called “Entre”", 10, "Did you mean Enter?"),
    ("Ctrl++", "lacks a key name", 6, "PadPlus"),
    ("", "lacks a key name", 1, "Ctrl+Alt+F4"),
    ("A+A", "stands twice", 3, "once"),
    ("Ctrl+ButtonSouth", "a button of a controller", 6, "a button of a pointer"),
])
def test_broken_chords_are_explained(text: str, what: str, column: int, hint: str) -> None:
    with pytest.raises(ProblemError) as error:
        parse_chord(text)
    problem = error.value.problem
    assert what in problem.what
    assert problem.column == column
    assert hint in problem.hint


@pytest.mark.parametrize(("text", "ns"), [("300ms", 300 * MS), ("1.5s", 1500 * MS), ("250us", 250_000), ("0ms", 0),
                                          ("2min", 120_000 * MS), (".5 s", 500 * MS), ("0.1ms", 100_000)])
def test_durations(text: str, ns: int) -> None:
    assert parse_duration(text) == ns


@pytest.mark.parametrize(("text", "what"), [("300", "no unit"), ("-3ms", "below zero"), ("3 hours", "not a unit"),
                                            ("soon", "not a duration"), ("25min0", "not a duration"),
                                            ("9999min", "longer than a day"), ("1e9s", "not a duration")])
def test_broken_durations(text: str, what: str) -> None:
    with pytest.raises(ProblemError, match=what):
        parse_duration(text)


@pytest.mark.parametrize(("ns", "text"), [(300_000, "0.3 ms"), (4 * MS, "4 ms"), (40 * MS, "40 ms"),
                                          (1840 * MS, "1.84 s"), (2000 * MS, "2 s"), (125_000 * MS, "2 min 5 s")])
def test_durations_said(ns: int, text: str) -> None:
    assert say_duration(ns) == text


def test_the_us_layout_types_all_of_ascii_and_says_what_it_cannot() -> None:
    layout = keymap()
    for char in map(chr, range(32, 127)):
        assert layout.characters[as_held(layout.strokes(char)[0])] == char
    with pytest.raises(ProblemError, match="cannot type “é”"):
        layout.strokes("é")
