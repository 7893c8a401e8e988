"""Stage programs: shortcuts, state, and the quirks that make rehearsing worth it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from brass_pebble.core.macro.reader import read_macro
from brass_pebble.core.macro.timetable import Timetable
from brass_pebble.core.signals.keys import key_table, parse_chord
from brass_pebble.core.stage.program import Reaction, StageProgram
from brass_pebble.demo import HERE
from brass_pebble.engine.runs.rehearsal import rehearse_here
from brass_pebble.kinds.outputs.stage import StageOutput, read_programs

MS = 1_000_000


def rehearse(programs: list[StageProgram], program: Timetable) -> list[Reaction]:
    """Play a program into stage programs with a made-up clock, and return what they did."""
    out: list[Reaction] = []
    for time, code, value in zip(program.times, program.codes, program.values, strict=True):
        for receiver in programs:
            receiver.take_key(code, value, time, None, out)
    for receiver in programs:
        while (due := receiver.next_deadline()) is not None:
            receiver.advance(due, out)
    return out


@pytest.fixture
def ovenlight() -> StageProgram:
    return read_programs(HERE / "stage", ["ovenlight"])["ovenlight"]


def play(program: StageProgram, text: str) -> list[str]:
    macro, problems = read_macro(text)
    assert not problems
    return [reaction.text for reaction in rehearse([program], macro.timetable)]


def test_a_chord_changes_what_is_on_air(ovenlight: StageProgram) -> None:
    assert play(ovenlight, "tap Ctrl+Alt+3") == ["camera oven on air"]
    assert ovenlight.values["camera"] == "oven"


def test_a_tap_shorter_than_a_frame_is_missed(ovenlight: StageProgram) -> None:
    assert play(ovenlight, "tap Ctrl+Alt+3 for 5ms") == ["missed 3: 5 ms is too short, it looks every 16 ms"]
    assert ovenlight.values["camera"] == "wide"


def test_typing_before_the_window_is_open_is_missed(ovenlight: StageProgram) -> None:
    told = play(ovenlight, 'tap Ctrl+Alt+E\ntype "a"\nwait 150ms\ntype "Rye, 24"\ntap Enter')
    assert told[:2] == ["title editor opening", "missed A: title editor is still opening"]
    assert ovenlight.values["words"] == "Rye, 24" and ovenlight.window == ""


def test_a_held_chord_acts_for_as_long_as_it_is_down(ovenlight: StageProgram) -> None:
    out: list[Reaction] = []
    for code in parse_chord("Ctrl+M").codes:
        ovenlight.take_key(code, 1, 0, None, out)
    ovenlight.advance(20 * MS, out)
    assert ovenlight.values["mic"] == "muted"
    ovenlight.take_key(key_table().find("M").code, 0, 900 * MS, None, out)
    assert ovenlight.values["mic"] == "live"
    assert [(r.text, r.at // MS) for r in out] == [("microphone muted", 16), ("microphone live", 900)]


def test_levels_stop_at_their_ends_and_stings_fade(ovenlight: StageProgram) -> None:
    play(ovenlight, "repeat 9\n  tap Ctrl+Alt+Up")
    assert ovenlight.values["music"] == 100
    out: list[Reaction] = []
    ovenlight.take_key(key_table().find("F13").code, 1, 0, None, out)
    ovenlight.advance(20 * MS, out)
    assert ovenlight.values["sting"] == "bell"
    ovenlight.advance(3000 * MS, out)
    assert ovenlight.values["sting"] == "none"


def test_unknown_chords_are_told(ovenlight: StageProgram) -> None:
    assert play(ovenlight, "tap Ctrl+Q") == ["has no shortcut Ctrl+Q"]


# So many reactions of those that do little where nothing was said; tests/test_phrases.py says something.
UNSAID = {"camera-said": 0, "light-to": 1, "stop-scrolling": 0}


@pytest.mark.parametrize("file", sorted((HERE / "desk" / "macros").glob("*.macro")), ids=lambda file: file.stem)
def test_every_demo_macro_is_noticed_by_the_stage(ovenlight: StageProgram, file: Path) -> None:
    macro, problems = read_macro(file.read_text(), id=file.stem)
    assert problems == []
    if macro.live:
        # What waits for a dialog has to be played in real time.
        events: dict[int, dict[str, Any]] = {}
        rehearse_here(macro, StageOutput({"ovenlight": ovenlight}), events.__setitem__)
        assert all(reaction["good"] for event in events.values() for reaction in event["reactions"]), events
        assert sum(len(event["reactions"]) for event in events.values()) >= UNSAID.get(file.stem, 2)
        return
    reactions = rehearse([ovenlight], macro.timetable)
    assert reactions
    assert all(reaction.good for reaction in reactions), [r.text for r in reactions if not r.good]
