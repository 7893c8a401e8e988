"""The engine's sense of time, with a clock that jumps: to the nanosecond, and without waiting."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from brass_pebble.core.play.player import Effect
from brass_pebble.core.say.durations import MS, SECOND
from brass_pebble.core.signals.key_places import Places
from brass_pebble.core.signals.keys import key_table
from brass_pebble.engine.assemble import assemble
from brass_pebble.engine.clients.problems import ProblemList
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.engine import Engine
from brass_pebble.engine.loop import Loop
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.inputs.bench import read_bench
from brass_pebble.kinds.outputs.base import POINTING, Abilities
from brass_pebble.paths import PACKAGE
from jumping_clock import JumpingClock


@dataclass
class Notebook(Abilities):
    """An output that writes down what left when."""

    takes = POINTING

    now: Callable[[], int]
    sent: list[tuple[int, int, str, int]] = field(default_factory=list)

    def send(self, effects: list[Effect], now: int) -> None:
        """Real time and planned time, key, down or up."""
        self.sent += [(self.now(), planned, key_table().name(code), value) for code, value, planned, _ in effects]

    def press(self, codes: tuple[int, ...]) -> bool:
        return False

    def use(self, places: Places) -> None:
        """Names are enough."""

    def left_down(self) -> list[int]:
        return []

    def next_deadline(self) -> int | None:
        return None

    def advance(self, now: int) -> None:
        """Nothing is due."""

    def close(self) -> None:
        """Nothing to close."""


@dataclass
class Room:
    engine: Engine
    clock: JumpingClock
    output: Notebook

    def after(self, ns: int, call: Callable[[], object]) -> None:
        self.engine.ports.alarms.at(f"test {ns} {id(call)}", self.clock.now() + ns, lambda now: call())

    def run(self, ns: int) -> float:
        """Let so much time pass; how long it really took, in s."""
        self.after(ns, self.engine.quit)
        began = time.perf_counter()
        self.engine.ports.loop.run()
        return time.perf_counter() - began


@pytest.fixture
def room(desk: Path, tmp_path: Path) -> Iterator[Room]:
    (desk / "macros" / "evening.macro").write_text(
        "wait 10s\nrepeat 100 every 17ms\n  down A\n  wait 4ms\n  up A\nwait 3600s\ntap B\n")
    store = DeskStore(desk, tmp_path / "versions")
    clock = JumpingClock()
    output = Notebook(clock.now)
    engine = assemble(Setup(store, tmp_path / "socket", lambda desk: output,
                            read_bench(PACKAGE / "demo" / "bench.toml", store.layout), real_devices=False), clock)
    yield Room(engine, clock, output)
    for call in engine.ends:
        call()


def test_an_hour_of_a_macro_is_played_to_the_nanosecond(room: Room) -> None:
    engine, clock = room.engine, room.clock
    start = clock.now()
    engine.requests.control.play(engine.ports.desk.macros["evening"], "test")
    took = room.run(2 * 3600 * SECOND)
    taps = [(at - start, key, down) for at, planned, key, down in room.output.sent]
    assert all(at == planned for at, planned, _, _ in room.output.sent)
    assert taps[:200] == [(10 * SECOND + count * 17 * MS + (0 if down else 4 * MS), "A", down)
                          for count in range(100) for down in (1, 0)]
    assert [key for _, key, _ in taps[200:]] == ["B", "B"]
    # A hundred taps, an hour's wait and the engine's own alarms: thousands of times faster than it would really be.
    assert took < 30 and clock.now() - start >= 2 * 3600 * SECOND


def test_hands_off_end_by_themselves_on_time(room: Room) -> None:
    engine, clock = room.engine, room.clock
    aside = engine.requests.aside
    aside.hands_off(["left-numpad"], 90)
    seen: list[tuple[int, bool]] = []
    start = clock.now()
    for seconds in (89, 91):
        room.after(seconds * SECOND, lambda: seen.append((clock.now() - start, aside.holds("left-numpad"))))
    room.run(100 * SECOND)
    assert seen == [(89 * SECOND, True), (91 * SECOND, False)]


def test_what_a_run_pressed_goes_up_in_the_same_moment_when_everything_stops(room: Room) -> None:
    engine, clock = room.engine, room.clock
    start = clock.now()
    engine.requests.control.play(engine.ports.desk.macros["evening"], "test")
    # In the middle of a tap.
    room.after(10 * SECOND + 2 * MS, engine.requests.control.stop_all)
    room.run(60 * SECOND)
    assert [(at - start, key, down) for at, _, key, down in room.output.sent] == [
        (10 * SECOND, "A", 1), (10 * SECOND + 2 * MS, "A", 0)]


def test_an_alarm_that_fails_is_told_and_harms_no_other(room: Room) -> None:
    engine, rang = room.engine, []
    room.after(SECOND, lambda: 1 // 0)
    room.after(2 * SECOND, lambda: rang.append(room.clock.now()))
    room.run(3 * SECOND)
    problems: ProblemList = engine.problems
    assert len(rang) == 1 and "ZeroDivisionError" in problems.listed[-1].what


def test_an_engine_ends_in_order_without_a_mishap(desk: Path, tmp_path: Path, caplog: pytest.LogCaptureFixture) -> None:
    store = DeskStore(desk, tmp_path / "versions")
    engine = assemble(Setup(store, tmp_path / "socket", lambda desk: Notebook(lambda: 0), real_devices=False),
                      JumpingClock())
    engine.ports.loop.soon(engine.quit)
    engine.run()
    # A number that is still known when its descriptor is closed is in the way of the next that gets it.
    assert not engine.ports.loop._calls
    assert not [record.message for record in caplog.records if "could not end in order" in record.message]


def test_a_descriptor_that_was_closed_unseen_leaves_its_number_to_the_next() -> None:
    loop, rang = Loop(JumpingClock()), []
    first = os.eventfd(0, os.EFD_NONBLOCK)
    loop.watch(first, lambda events: rang.append("first"))
    os.close(first)
    second = os.eventfd(1, os.EFD_NONBLOCK)
    assert second == first
    loop.watch(second, lambda events: rang.append("second"))
    loop.serve_ready()
    assert rang == ["second"]
    os.close(second)
    loop.close()
