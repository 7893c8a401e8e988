"""Runs that are overtaken, steps that come too fast, mistakes in the middle: against a made-up clock."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise
from types import SimpleNamespace

import pytest

from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.effects.messages import merge_values, message_of, midi_send
from brass_pebble.core.effects.pointer import MESSAGES, PAD
from brass_pebble.core.macro.reader import read_macro
from brass_pebble.core.macro.timetable import Timeline, Timetable, chord_timetable
from brass_pebble.core.play.plan import Planner
from brass_pebble.core.play.player import ONCE, Effect, Live, Manner, Player, Run, hurried
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.signals.keys import parse_chord
from brass_pebble.core.signals.midi import spell_message
from brass_pebble.kinds.outputs.xkb import typist

MS = 1_000_000

TAPS = "repeat 25 every 200ms\n  tap A"


def play(text: str, player: Player, manner: Manner = ONCE) -> tuple[Run, list[Effect]]:
    """A run of a macro from the instant 0, and what it sends."""
    macro, problems = read_macro(text)
    assert not problems
    out: list[Effect] = []
    run, _ = player.start(macro.timetable, 0, out, manner=manner, again_key="x")
    assert run is not None
    return run, out


def advance(player: Player, until: int, out: list[Effect]) -> None:
    """Everything up to an instant, each in its time."""
    while (due := player.next_deadline()) is not None and due <= until:
        player.advance(due, out)


def test_a_run_that_was_overtaken_ends_and_pours_nothing() -> None:
    player = Player()
    run, out = play(TAPS, player)
    advance(player, 240 * MS, out)
    sent = len(out)
    player.advance(5_240 * MS, out)
    assert len(out) - sent <= 1 and not player.down and not player.runs
    assert (run.state, run.trouble) == ("stopped", "the computer was suspended or busy for 4.84 s")


def test_a_run_that_goes_on_goes_on_from_then() -> None:
    player = Player()
    run, out = play(TAPS, player, Manner(goes_on=True))
    advance(player, 240 * MS, out)
    player.advance(5_240 * MS, out)
    assert run.stood == 4_840 * MS
    while (due := player.next_deadline()) is not None:
        player.advance(due, out)
    assert run.state == "done" and len(out) == 50
    downs = [planned for _, value, planned, _ in out if value]
    assert downs[2] == 5_240 * MS and {b - a for a, b in pairwise(downs[2:])} == {200 * MS}


def test_less_than_the_limit_is_caught_up() -> None:
    player = Player()
    run, out = play(TAPS, player)
    player.advance(0, out)
    now = 950 * MS
    while player.runs:
        player.advance(now, out)
        now = max(now, player.next_deadline() or 0)
    assert run.state == "done" and len(out) == 50


def test_what_waited_for_a_run_that_was_overtaken_is_dropped_and_told() -> None:
    dropped: list[object] = []
    player = Player(on_drop=dropped.append)
    run, out = play(TAPS, player, Manner("queue"))
    player.start(run.timetable, MS, out, manner=Manner("queue"), again_key="x", owner="second")
    player.advance(9_000 * MS, out)
    assert dropped == ["second"] and not player.runs and player.next_deadline() is None


def test_a_suspend_ends_what_plays_and_leaves_what_is_held() -> None:
    player = Player()
    run, out = play(TAPS, player)
    held, _ = player.start(chord_timetable(parse_chord("Ctrl+M"), holds=True), MS, out)
    stays, _ = player.start(run.timetable, MS, out, manner=Manner(goes_on=True))
    assert held is not None and stays is not None
    player.slept(3_600_000 * MS, 2 * MS, out)
    assert (run.state, held.state, stays.state) == ("stopped", "playing", "playing")
    assert run.trouble == "the computer was suspended for 60 min 0 s"


@pytest.mark.parametrize(("count", "seconds"), [(40, 0.5), (100, 0.5), (8, 0.2), (250, 1.0)])
def test_detents_of_a_quick_turn_are_all_there_and_soon(count: int, seconds: float) -> None:
    desk, _ = read_desk({"surface": {"pad": {"layer": {"base": {"press": {"A": {"tap": "Ctrl+Right"}}}}}}}, text="",
                        file="", layouts=lambda name: None, layout_names=(), macros={}, broken_macros={})
    answer = Planner(desk).plan(desk.surfaces["pad"], 30, ("base",)).press
    assert answer.timetable is not None
    player, out = Player(), list[Effect]()
    for index in range(count):
        now = int(index * seconds * 1e9 / count)
        advance(player, now, out)
        player.start(answer.timetable, now, out, manner=answer.manner, again_key="knob")
    while (due := player.next_deadline()) is not None:
        player.advance(due, out)
    right = parse_chord("Right").codes[0]
    downs = [planned for code, value, planned, _ in out if code == right and value]
    ups = [planned for code, value, planned, _ in out if code == right and not value]
    assert len(downs) == len(ups) == count and not player.down
    assert ups[-1] - int((count - 1) * seconds * 1e9 / count) <= 300 * MS
    assert min(up - down for up, down in zip(ups, downs, strict=True)) >= 3 * MS


def test_a_slow_turn_keeps_the_usual_taps() -> None:
    slow, quick = chord_timetable(parse_chord("A"), tap=40 * MS), chord_timetable(parse_chord("A"), tap=3 * MS)
    assert hurried(slow, (quick,), 1, 50 * MS) is slow and hurried(slow, (quick,), 40, 50 * MS) is quick


def test_a_mistake_in_one_live_run_ends_that_run_only() -> None:
    player = Player()
    run, out = play(TAPS, player)

    def broken(given: object, *, locked: bool, rights: object) -> tuple[Timeline, object]:
        def laying() -> Iterator[None]:
            raise OverflowError("too far")
            yield
        return Timeline(tap=MS, gap=MS), laying()
    score = SimpleNamespace(start=broken)
    other, _ = player.start(Timetable(), 0, out, live=Live(score))  # type: ignore[arg-type]
    assert other is not None and other.state == "stopped" and "too far" in other.trouble
    assert run.state == "playing"


def test_caps_lock_is_on_again_however_the_run_ends() -> None:
    caps = parse_chord("CapsLock").codes[0]
    for stop_at in range(0, 700, 35):
        player, out = Player(), list[Effect]()
        macro, problems = read_macro('type "aß"', typist=typist("de"))
        assert not problems and macro.locked_timetable is not None and macro.locked_timetable.switches == caps
        run, _ = player.start(macro.locked_timetable, 0, out)
        assert run is not None
        player.advance(stop_at * MS, out)
        player.stop(run, stop_at * MS, out)
        presses = [value for code, value, _, _ in out if code == caps]
        assert presses.count(1) == presses.count(0) and presses.count(1) in (0, 2), stop_at


def test_the_length_of_a_long_run_is_that_of_all_its_events() -> None:
    player = Player()
    run, out = play("repeat 300 every 50ms\n  tap A", player)
    trace = run.owner = Trace(1, 0, 0)
    trace.run = run
    while (due := player.next_deadline()) is not None:
        player.advance(due, out)
    for code, value, planned, _ in out:
        trace.note_sent(code, value, planned, planned)
    assert trace.count == 600 and "600 key events over 14.99 s" in trace.told(0).sentence


def test_values_that_one_turn_sets_several_times_are_set_once_and_nothing_else_is_lost() -> None:
    sent = [midi_send("", bytes(message)) for message in (
        (0xB0, 7, 41), (0xB0, 7, 42), (0xB1, 7, 1), (0xB0, 7, 43), (0xC0, 5), (0xC0, 5), (0xE0, 0, 64), (0xE0, 0, 65),
        (0xB0, 99, 1), (0xB0, 98, 2), (0xB0, 6, 3), (0xB0, 99, 1), (0xB0, 98, 2), (0xB0, 6, 4))]
    out = [(30, 1, 0, None), *[(code, value, 0, None) for code, value in sent], (PAD + 2, 10, 0, None),
           (PAD + 2, 20, 0, None), (30, 0, 0, None)]
    merge_values(out, 1)
    assert [spell_message(message_of(code, value)) if code >= MESSAGES else (code, value)
            for code, value, *_ in out] == [
        (30, 1), "cc 7 on 2 = 1", "cc 7 on 1 = 43", "program 5 on 1", "program 5 on 1", f"bend on 1 = {65 << 7}",
        "cc 99 on 1 = 1", "cc 98 on 1 = 2", "cc 6 on 1 = 3", "cc 99 on 1 = 1", "cc 98 on 1 = 2", "cc 6 on 1 = 4",
        (PAD + 2, 20), (30, 0)]


def test_a_bounded_run_that_goes_on_is_set_back_by_just_what_was_lost() -> None:
    player = Player()
    run, out = play(TAPS, player, Manner(goes_on=True, longest=6_000 * MS))
    advance(player, 240 * MS, out)
    # Both its next tap and its bound lie long in the past.
    player.advance(9_240 * MS, out)
    assert run.stood == 8_840 * MS and run.until == 14_840 * MS
    while (due := player.next_deadline()) is not None:
        player.advance(due, out)
    assert run.state == "done" and len(out) == 50 and run.stood == 8_840 * MS
