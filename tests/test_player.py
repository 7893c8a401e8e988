"""The player against a made-up clock: fixed cases, then whatever hypothesis can think of."""

from __future__ import annotations

import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.devices.layout import read_layout
from brass_pebble.core.macro.reader import read_macro
from brass_pebble.core.macro.timetable import Timetable, chord_timetable
from brass_pebble.core.play.player import MOST_QUEUED, Effect, Player, Run
from brass_pebble.core.play.router import Router
from brass_pebble.core.play.trace import MOST_REACTIONS, MOST_SENT, Trace
from brass_pebble.core.signals.keys import key_table, parse_chord
from brass_pebble.paths import SHIPPED_LAYOUTS

MS = 1_000_000


def program(text: str) -> Timetable:
    macro, problems = read_macro(text)
    assert not problems
    return macro.timetable


def shown(out: list[Effect]) -> list[str]:
    from brass_pebble.core.signals.keys import key_table
    return [f"{planned // MS} {key_table().name(code)}{'+' if value else '-'}" for code, value, planned, _ in out]


def play_out(player: Player, out: list[Effect], now: int = 0) -> None:
    while (due := player.next_deadline()) is not None:
        now = max(now, due)
        player.advance(now, out)


def test_times_count_from_the_start_however_late_the_loop_is() -> None:
    player, out = Player(), []
    player.start(program("repeat 3 every 100ms\n  tap A"), 0, out)
    player.advance(117 * MS, out)
    # Up only now, so it stays up for long enough to be noticed; then the plan counts again.
    assert shown(out) == ["0 A+", "40 A-"] and player.next_deadline() == 135 * MS
    player.advance(135 * MS, out)
    assert shown(out)[2:] == ["100 A+"] and player.next_deadline() == 140 * MS
    # What went down late stays down as long, though its end is in time by the plan.
    player.advance(140 * MS, out)
    assert shown(out)[3:] == [] and player.next_deadline() == 153 * MS
    player.advance(153 * MS, out)
    assert shown(out)[3:] == ["140 A-"] and player.next_deadline() == 200 * MS
    player.advance(200 * MS, out)
    player.advance(240 * MS, out)
    assert shown(out)[4:] == ["200 A+", "240 A-"]


def test_events_of_two_runs_are_in_the_order_of_their_times() -> None:
    player, out = Player(), []
    player.start(program("tap A\nwait 20ms\ntap C"), 0, out)
    player.start(program("wait 10ms\ntap B"), 0, out)
    play_out(player, out)
    assert shown(out) == ["0 A+", "10 B+", "40 A-", "50 B-", "60 C+", "100 C-"]


def test_a_key_held_by_two_runs_goes_up_with_the_last() -> None:
    player, out = Player(), []
    first, _ = player.start(chord_timetable(parse_chord("Ctrl"), holds=True), 0, out)
    second, _ = player.start(program("tap Ctrl+C"), 0, out)
    assert first and second
    player.advance(50 * MS, out)
    assert shown(out) == ["0 Ctrl+", "0 C+", "40 C-"]
    assert second.shared == [29]
    player.let_go(first, 60 * MS, out)
    assert shown(out)[-1] == "60 Ctrl-"
    assert player.down == {}


def test_a_short_press_is_held_long_enough_to_be_seen() -> None:
    player, out = Player(), []
    run, _ = player.start(chord_timetable(parse_chord("Ctrl+M"), holds=True), 0, out)
    assert run
    player.let_go(run, 3 * MS, out)
    assert shown(out) == ["0 Ctrl+", "0 M+"]
    player.advance(player.next_deadline() or 0, out)
    assert shown(out)[2:] == ["40 M-", "40 Ctrl-"]
    assert run.state == "done"


@pytest.mark.parametrize(("again", "outcome", "runs"), [
    ("start over", "started", 1), ("ignore", "ignored", 1), ("queue", "queued", 1), ("both", "started", 2)])
def test_what_a_second_press_does(again: str, outcome: str, runs: int) -> None:
    player, out, ended = Player(), [], []
    player.on_end = lambda run, now: ended.append((run.id, run.state, now // MS))
    player.start(program("tap A for 100ms"), 0, out, again=again, again_key="k")
    _, told = player.start(program("tap A for 100ms"), 30 * MS, out, again=again, again_key="k")
    assert (told, len(player.runs)) == (outcome, runs)
    play_out(player, out)
    assert player.down == {} and player.runs == {}
    assert ended == {"start over": [(1, "stopped", 30), (2, "done", 130)], "ignore": [(1, "done", 100)],
                     "queue": [(1, "done", 100), (2, "done", 200)],
                     "both": [(1, "done", 100), (2, "done", 130)]}[again]
    if again == "start over":
        assert shown(out) == ["0 A+", "30 A-", "30 A+", "130 A-"]


def test_a_queue_has_an_end_and_a_stop_empties_it() -> None:
    player, out = Player(), []
    told = [player.start(program("tap A"), 0, out, again="queue", again_key="k")[1] for _ in range(MOST_QUEUED + 3)]
    assert told == ["started"] + ["queued"] * MOST_QUEUED + ["queue full"] * 2
    player.stop_all(5 * MS, out)
    assert player.next_deadline() is None and player.runs == {} and player.down == {}


def test_a_stop_releases_in_reverse_order_at_once() -> None:
    player, out = Player(), []
    player.start(program("down Ctrl\ndown Alt\ndown T\nwait 10s"), 0, out)
    assert player.stop_all(7 * MS, out) == 1
    assert shown(out)[3:] == ["7 T-", "7 Alt-", "7 Ctrl-"]


def test_a_long_run_keeps_a_short_account() -> None:
    trace = Trace(1, 0, 0)
    for index in range(1000):
        trace.note_reaction("Ovenlight", str(index), index, True)
        trace.note_sent(30, index % 2, index, index)
    told = trace.told(0)
    assert (len(told.reactions), told.reactions[-1].text) == (MOST_REACTIONS, "999")
    assert (len(told.sent), told.count) == (MOST_SENT, 1000)


KEYS = ["A", "B", "C", "Ctrl", "Shift"]
STEP = st.one_of(
    st.builds(lambda k, ms: f"tap {k} for {ms}ms", st.sampled_from(KEYS), st.integers(0, 30)),
    st.builds(lambda ms: f"wait {ms}ms", st.integers(0, 50)),
    st.builds(lambda k, n: f"repeat {n} every 70ms\n  tap {k}", st.sampled_from(KEYS), st.integers(1, 4)),
    st.builds(lambda a, b: f"keep {a} down\n  tap {b} for 9ms", st.sampled_from(KEYS), st.sampled_from(KEYS)),
    st.sampled_from(['type "Hi"', "tap Ctrl+Shift+A"]))
MACRO = st.builds(lambda steps, tail: "\n".join([*steps, *tail]), st.lists(STEP, min_size=1, max_size=5),
                  st.sampled_from([[], ["down A"], ["down Ctrl", "down B"]]))
ACTION = st.one_of(
    st.tuples(st.just("start"), MACRO, st.sampled_from(["start over", "ignore", "queue", "both"]), st.integers(0, 2)),
    st.tuples(st.just("hold"), st.sampled_from(["Ctrl+A", "B", "Shift+Ctrl"])),
    st.tuples(st.just("let go"), st.integers(0, 5)), st.tuples(st.just("stop one"), st.integers(0, 5)),
    st.tuples(st.just("stop all")), st.tuples(st.just("pass"), st.integers(0, 120)))


@given(st.lists(ACTION, max_size=25))
def test_whatever_happens_the_rules_hold(actions: list[tuple]) -> None:
    out: list[Effect] = []
    player, now = Player(), 0
    sent_at: list[int] = []
    held: list[Run] = []

    def note() -> None:
        sent_at.extend([now] * (len(out) - len(sent_at)))

    for action in actions:
        runs = list(player.runs.values())
        match action:
            case ("start", text, again, key):
                player.start(program(text), now, out, again=again, again_key=key)
            case ("hold", chord):
                run, _ = player.start(chord_timetable(parse_chord(chord), holds=True), now, out)
                assert run
                held.append(run)
            case ("let go", index) if held:
                player.let_go(held[index % len(held)], now, out)
            case ("stop one", index) if runs:
                player.stop(runs[index % len(runs)], now, out)
            case ("stop all",):
                player.stop_all(now, out)
                assert player.down == {}
            case ("pass", ms):
                now += ms * MS
                player.advance(now, out)
        note()
    for run in held:
        player.let_go(run, now, out)
    note()
    while (due := player.next_deadline()) is not None:
        now = max(now, due)
        player.advance(now, out)
        note()

    assert player.down == {} and player.runs == {}
    down: set[int] = set()
    for (code, value, planned, _), at in zip(out, sent_at, strict=True):
        assert at >= planned, "a step ran early"
        assert (code in down) != bool(value), "a key went down twice, or up without being down"
        (down.add if value else down.discard)(code)
    assert down == set(), "something stayed down"
    for run in {id(e[3]): e[3] for e in out}.values():
        planned = [e[2] for e in out if e[3] is run and run.state == "done"]
        assert planned == sorted(planned), "steps of a run left out of order"


@given(st.lists(st.sampled_from(["Ctrl", "Alt", "Shift", "A", "B", "F13"]), min_size=1, max_size=6, unique=True))
def test_releases_mirror_presses(keys: list[str]) -> None:
    player, out = Player(), []
    player.start(program("\n".join(f"down {key}" for key in keys) + "\nwait 10ms"), 0, out)
    play_out(player, out)
    codes = [code for code, _, _, _ in out]
    assert codes == codes[:len(keys)] + list(reversed(codes[:len(keys)]))


ROUTED = """
[surface.s]
layout = "numpad"
unbound = "pass"
[surface.s.layer.base.press]
1 = { tap = "Ctrl+A" }
2 = { sustain = "Ctrl+B" }
3 = { play = "later" }
4 = { play = "both" }
5 = { do = "stop everything" }
6 = { do = "swallow" }
7 = { sustain = "B" }
"""


@given(st.lists(st.tuples(st.integers(0, 9), st.integers(0, 1), st.integers(0, 70)), max_size=40))
def test_what_is_sure_to_come_first_comes_first(presses: list[tuple[int, int, int]]) -> None:
    macros = {}
    for name, text in {"later": "wait 10ms\ntap C", "both": "again both\ntap A\ntap B"}.items():
        macros[name], problems = read_macro(text, id=name)
        assert not problems
    layout, _ = read_layout(tomllib.loads((SHIPPED_LAYOUTS / "numpad.toml").read_text()), id="numpad", file="")
    desk, problems = read_desk(tomllib.loads(ROUTED), text=ROUTED, file="", layouts=lambda name: layout,
                               layout_names=["numpad"], macros=macros, broken_macros={})
    assert not problems
    router, now = Router(Player()), 0
    router.load(desk)
    for digit, value, ms in presses:
        now += ms * MS
        router.player.advance(now, [])
        code = desk.surfaces["s"].code_of(str(digit))
        assert code
        first = router.sure_first("s", code) if value else ()
        out: list[Effect] = []
        router.feed("s", code, value, now, now, out)
        assert [(c, v) for c, v, _, _ in out[:len(first)]] == [(c, 1) for c in first]


def test_after_a_pause_of_the_machine_a_tap_is_still_long_enough_and_the_rest_catches_up() -> None:
    player, out = Player(), list[Effect]()
    macro, problems = read_macro("tap A\nwait 10ms\ntap A\nwait 200ms\ntap B")
    assert problems == []
    player.start(macro.timetable, 0, out)
    sent = [(code, value, 0) for code, value, _, _ in out]
    # Nothing runs for 100 ms; then the clock goes on in single milliseconds.
    for now in range(100 * MS, 500 * MS, MS):
        del out[:]
        if (due := player.next_deadline()) is not None and due <= now:
            player.advance(now, out)
        sent += [(code, value, now // MS) for code, value, _, _ in out]
    a, b = key_table().find("A").code, key_table().find("B").code
    # The first A was down all the time; its gap and the second tap last as long as a frame or as planned.
    assert sent == [(a, 1, 0), (a, 0, 100), (a, 1, 108), (a, 0, 126), (b, 1, 290), (b, 0, 330)]
