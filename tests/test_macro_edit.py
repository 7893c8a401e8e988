"""What the lanes do to the text, lanes themselves, and what a recording becomes."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brass_pebble.core.effects.pointer import REL_WHEEL, REL_X, REL_Y
from brass_pebble.core.macro.edit import Edited, close_gap, delete, duplicate, insert, lengthen, move, scale, snap
from brass_pebble.core.macro.lanes import lanes_of
from brass_pebble.core.macro.reader import link, parse, read_macro
from brass_pebble.core.macro.record import EVEN, NONE, PLAYED, without_stop, write_recording
from brass_pebble.core.say.durations import MS
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keys import key_table

TEXT = """name "x"
# first
tap A  # note
wait 100ms
keep Ctrl down
  tap B
  tap C for 80ms
tap D
"""


def starts(text: str) -> dict[str, int]:
    macro, problems = read_macro(text)
    assert problems == []
    program, names = macro.timetable, key_table()
    found: dict[str, int] = {}
    for at, code, value in zip(program.times, program.codes, program.values, strict=True):
        if value:
            found.setdefault(names.name(code), at // MS)
    return found


def lines(edited: Edited) -> list[str]:
    return edited.text.splitlines()


def test_lengths() -> None:
    assert lines(lengthen(TEXT, 3, 10 * MS))[2] == "tap A for 50ms  # note"
    assert lines(lengthen(TEXT, 7, -30 * MS))[6] == "  tap C for 50ms"
    assert lines(lengthen(TEXT, 7, -900 * MS))[6] == "  tap C for 1ms"
    assert lines(lengthen(TEXT, 4, 1 * MS))[3] == "wait 101ms"
    assert lines(lengthen('type "abc"', 1, 10 * MS)) == ['type "abc" every 70ms']
    with pytest.raises(ProblemError, match="no length of its own"):
        lengthen(TEXT, 5, MS)
    with pytest.raises(ProblemError, match="no step is selected"):
        lengthen(TEXT, 2, MS)


def test_moving_a_step_leaves_what_comes_behind_in_its_place() -> None:
    before = starts("tap A\nwait 100ms\ntap B\nwait 200ms\ntap C")
    edited = move("tap A\nwait 100ms\ntap B\nwait 200ms\ntap C", 3, 50 * MS)
    assert lines(edited) == ["tap A", "wait 150ms", "tap B", "wait 150ms", "tap C"]
    assert starts(edited.text) == {**before, "B": before["B"] + 50}
    # Two taps in a row: their gap becomes a wait of its own.
    edited = move("tap A\ntap B\ntap C", 2, 30 * MS)
    assert lines(edited) == ["tap A", "wait 50ms", "tap B", "tap C"] and edited.line == 3
    edited = move("tap A\ntap B\ntap C", 2, -20 * MS)
    assert starts(edited.text) == {"A": 0, "B": 40, "C": 120}
    with pytest.raises(ProblemError, match="no room before it"):
        move("tap A\ntap B", 2, -30 * MS)
    assert starts(move("tap A", 1, 100 * MS).text) == {"A": 100}


def test_gaps_and_stretches() -> None:
    assert starts(close_gap(TEXT, 5).text)["Ctrl"] == 40
    with pytest.raises(ProblemError, match="no wait before it"):
        close_gap(TEXT, 8)
    doubled = scale(TEXT, 1, 8, 2)
    assert lines(doubled)[2:] == ["tap A for 80ms  # note", "wait 200ms", "keep Ctrl down", "  tap B for 80ms",
                                  "  tap C for 160ms", "tap D for 80ms"]
    assert lines(scale(doubled.text, 4, 4, 0.5))[3] == "wait 100ms"


def test_snapping_to_a_rhythm() -> None:
    edited = snap("tap A\nwait 190ms\ntap B\nwait 230ms\ntap C", 1, 5, 250 * MS)
    assert starts(edited.text) == {"A": 0, "B": 250, "C": 500}
    assert edited.words == "2 steps moved to a rhythm of 250ms"


def test_taking_away_doubling_and_putting_in() -> None:
    assert "keep" not in delete(TEXT, 5).text
    assert "keep" not in delete(delete(TEXT, 7).text, 6).text
    assert lines(duplicate(TEXT, 5))[4:11] == TEXT.splitlines()[4:7] * 2 + ["tap D"]
    assert lines(insert(TEXT, 6, "wait 1s"))[6] == "  wait 1s"
    assert lines(insert("", 0, "tap A")) == ["tap A"]
    with pytest.raises(ProblemError, match="not a step"):
        insert(TEXT, 6, "wiat 1s")


@given(st.sampled_from(["longer", "later", "earlier", "half", "copy", "gone", "snap"]), st.integers(3, 8))
def test_every_edit_leaves_a_macro_that_reads(what: str, line: int) -> None:
    calls = {"longer": lambda: lengthen(TEXT, line, 10 * MS), "later": lambda: move(TEXT, line, 100 * MS),
             "earlier": lambda: move(TEXT, line, -10 * MS), "half": lambda: scale(TEXT, line, 8, 0.5),
             "copy": lambda: duplicate(TEXT, line), "gone": lambda: delete(TEXT, line),
             "snap": lambda: snap(TEXT, line, 8, 50 * MS)}
    try:
        edited = calls[what]()
    except ProblemError:
        return
    assert read_macro(edited.text)[1] == []
    assert "# first" in edited.text


def test_lanes_show_overlaps_and_typed_text() -> None:
    text = 'keep Ctrl down\n  tap A\n  tap A\ntype "Hi"\nscroll up\nspeak "done"'
    draft = parse(text)
    link({"": draft})
    lanes = lanes_of(draft)
    told = {lane.name: [(bar.start // MS, bar.end // MS, bar.line, bar.number, bar.text) for bar in lane.bars]
            for lane in lanes.lanes}
    assert told["Ctrl"] == [(0, 100, 1, 1, "")]
    assert told["A"] == [(0, 40, 2, 1, ""), (60, 100, 3, 2, "")]
    assert [bar[4] for bar in told["text"]] == ["H", "I"]
    assert told["wheel up"][0][4] == "+1" and told["speak"][0][4] == "speak done"
    assert lanes.events == 13


A, B, CTRL, ESC = (key_table().find(name).code for name in ("A", "B", "Ctrl", "Escape"))


def events(*items: tuple[int, int, int]) -> list[tuple[int, int, int]]:
    return [(code, value, ms * MS) for code, value, ms in items]


@pytest.mark.parametrize(("played", "keep", "text"), [
    (events((A, 1, 0), (A, 0, 41), (B, 1, 141), (B, 0, 241)), PLAYED, "tap A\nwait 100ms\ntap B for 100ms\n"),
    (events((A, 1, 0), (A, 0, 90), (B, 1, 141), (B, 0, 241)), NONE, "tap A\ntap B\n"),
    (events((CTRL, 1, 0), (A, 1, 50), (A, 0, 95), (CTRL, 0, 140)), PLAYED, "tap Ctrl+A\n"),
    (events((CTRL, 1, 0), (A, 1, 50), (A, 0, 90), (B, 1, 150), (B, 0, 190), (CTRL, 0, 240)), PLAYED,
     "keep Ctrl down\n  tap A\n  wait 60ms\n  tap B\n"),
    (events((A, 1, 0), (B, 1, 50), (A, 0, 100), (B, 0, 150)), PLAYED,
     "down A\nwait 50ms\ndown B\nwait 50ms\nup A\nwait 50ms\nup B\n"),
    (events((A, 1, 0), (A, 0, 40), (B, 1, 205), (B, 0, 240), (A, 1, 395), (A, 0, 430)), EVEN,
     "beat 200ms\n  tap A\n  tap B\n  tap A\n"),
    (events((CTRL, 1, 0), (A, 1, 0), (A, 0, 40), (CTRL, 0, 40)), PLAYED, "tap Ctrl+A\n"),
    (events((A, 0, 5), (0x110, 1, 10), (0x110, 0, 60)), PLAYED, "click\n"),
    ([], PLAYED, ""),
    (events((REL_X, 5, 0), (REL_Y, -2, 10), (REL_X, 5, 20), (REL_X, 7, 60), (0x110, 1, 150), (0x110, 0, 190),
            (REL_WHEEL, -2, 300)), PLAYED,
     "move by 10 -2\nwait 60ms\nmove by 7 0\nwait 90ms\nclick\nwait 110ms\nscroll down 2\n"),
    (events((REL_X, 5, 0), (A, 1, 500), (A, 0, 540)), NONE, "move by 5 0\ntap A\n"),
])
def test_a_recording_becomes_ordinary_text(played: list[tuple[int, int, int]], keep: str, text: str) -> None:
    assert write_recording(played, end=300 * MS, keep=keep) == text
    assert read_macro(text)[1] == []


def test_the_key_that_stops_is_left_out() -> None:
    played = events((ESC, 1, 0), (ESC, 0, 40), (A, 1, 100), (A, 0, 140), (ESC, 1, 500), (ESC, 0, 540))
    assert write_recording(without_stop(played, ESC), end=600 * MS, keep=NONE) == "tap Escape\ntap A\n"


@given(st.lists(st.tuples(st.sampled_from([A, B, CTRL]), st.integers(5, 300), st.integers(5, 300)), max_size=8),
       st.sampled_from([PLAYED, EVEN, NONE]))
def test_whatever_is_played_can_be_read_and_keeps_its_order(played: list[tuple[int, int, int]], keep: str) -> None:
    made, at = [], 0
    for code, gap, length in played:
        at += gap
        made += [(code, 1, at * MS), (code, 0, (at + length) * MS)]
        at += length
    text = write_recording(made, end=(at + 10) * MS, keep=keep)
    macro, problems = read_macro(text)
    assert problems == [], text
    assert [code for code, value in zip(macro.timetable.codes, macro.timetable.values, strict=True) if value] == \
        [code for code, _, _ in played]
