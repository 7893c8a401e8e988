"""What surfaces were used for: counted, stored, read back, and what is proposed from it."""

from __future__ import annotations

import json
import random
import sqlite3
import time
import tomllib
from dataclasses import fields
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from brass_pebble import paths
from brass_pebble.client import EngineClient, EngineError
from brass_pebble.core.desk.look.drawn import BareDesk, BareSurface, BindingRow, LayerRow
from brass_pebble.core.label.sheet import MARGIN
from brass_pebble.core.usage.arrange import ENOUGH, FIXED, homes_of, propose, travel_of
from brass_pebble.core.usage.counter import Batch, Counter, late_bucket
from brass_pebble.core.usage.press import Press
from brass_pebble.core.usage.report import History, Used, does_of, neighbours, report
from brass_pebble.core.usage.simulate import make_habit, play
from brass_pebble.core.usage.slips import SlipWatch, opposites
from brass_pebble.engine.disk.history import VERSION, HistoryError, HistoryStore
from brass_pebble.paper.shapes import Box, Group
from brass_pebble.paper.usage_chart import usage_pages
from conftest import run_cli
from test_labels import surface, with_binding

Row = dict[str, Any]

# The tables as they were at first.
FIRST_VERSION = """
CREATE TABLE session (id INTEGER PRIMARY KEY, began INTEGER NOT NULL, ended INTEGER NOT NULL);
CREATE TABLE used (session INTEGER, day INTEGER, surface TEXT, layer TEXT, control TEXT, gesture TEXT,
    does TEXT, macro TEXT, presses INTEGER, stopped INTEGER, cancelled INTEGER, slips INTEGER, waited INTEGER,
    late INTEGER, latest INTEGER, PRIMARY KEY (surface, day, session, layer, control, gesture, does)) WITHOUT ROWID;
CREATE TABLE total (day INTEGER, session INTEGER, presses INTEGER, stopped INTEGER, slips INTEGER,
    PRIMARY KEY (day, session)) WITHOUT ROWID;
CREATE TABLE pair (day INTEGER, surface TEXT, one TEXT, other_surface TEXT, other TEXT, times INTEGER,
    PRIMARY KEY (surface, day, one, other_surface, other)) WITHOUT ROWID;
CREATE INDEX pair_to ON pair (other_surface, day);
CREATE TABLE slip (day INTEGER, surface TEXT, control TEXT, does TEXT, meant TEXT, times INTEGER,
    PRIMARY KEY (surface, day, control, does, meant)) WITHOUT ROWID;
CREATE TABLE late (day INTEGER, bucket INTEGER, presses INTEGER, PRIMARY KEY (day, bucket)) WITHOUT ROWID;
PRAGMA user_version = 1;
"""


def press(at: int, control: str = "7", chord: str = "A", **more: Any) -> Press:
    fields = {"does": f"tap {chord}", "chord": chord, **more}
    return Press(at, 20_000, "pad", "base", control, "press", **fields)


def used_of(layer: LayerRow, binding: BindingRow, times: int) -> Used:
    return Used("board", layer.id, binding.control, "press", does_of(binding), "", times, 0, 0, 0, 0, 0, 0)


def history_from(presses: Any, file: Path) -> History:
    counter = Counter()
    for one in presses:
        counter.begin(one)
        counter.finish(one)
    store = HistoryStore(file)
    store.add(counter.take(), 1_700_000_000)
    return store.read()


# Counting.


def test_an_undo_soon_after_is_a_slip_and_the_next_press_was_meant() -> None:
    watch = SlipWatch()
    found = [list(watch.watch(one)) for one in (
        press(0, "7"), press(900, "z", "Ctrl+Z"), press(1500, "8", "B"), press(9000, "z", "Ctrl+Z"))]
    assert [[(slip.press.control, slip.meant) for slip in slips] for slips in found] == [
        [], [("7", "")], [("7", "8")], []]


@pytest.mark.parametrize(("one", "other", "gap", "slipped"), [
    ("Left", "Right", 500, True), ("Left", "Right", 2500, False), ("Left", "Left", 300, False),
    ("A", "Ctrl+Shift+Z", 100, True), ("Ctrl+Z", "Ctrl+Z", 100, False), ("Tab", "Shift+Tab", 400, True)])
def test_opposites_take_back(one: str, other: str, gap: int, slipped: bool) -> None:
    watch = SlipWatch()
    list(watch.watch(press(0, "7", one)))
    assert bool(list(watch.watch(press(gap, "8", other)))) is slipped
    assert "any" in opposites()


def test_stopping_a_macro_at_once_and_turning_back() -> None:
    watch = SlipWatch()
    list(watch.watch(press(0, "7", "", does="play oven", macro="oven")))
    assert list(watch.watch(press(700, "minus", "", does="do stop everything")))
    list(watch.watch(press(10_000, "7", "A")))
    assert not list(watch.watch(press(10_500, "minus", "", does="do stop everything")))
    list(watch.watch(press(20_000, "knob", "Left", quick=True)))
    assert not list(watch.watch(press(20_100, "knob", "Right", quick=True)))


def test_counts_pairs_waits_and_lateness() -> None:
    counter = Counter()
    for at, control, chord in ((0, "7", "A"), (1000, "8", "B"), (6000, "7", "A"), (7000, "8", "B")):
        counter.begin(press(at, control, chord, waited=120))
    counter.finish(press(0, "7", "A", late=900, stopped=True))
    batch = counter.take()
    first = batch.counts[20_000, ("pad", "base", "7", "press", "tap A", "")]
    assert (first.presses, first.waited, first.stopped, first.latest) == (2, 240, 1, 900)
    assert batch.pairs == {(20_000, ("pad", "tap A"), ("pad", "tap B")): 2}
    assert batch.late == {(20_000, late_bucket(900)): 1} and late_bucket(900) == 10
    assert counter.waiting == 0 and counter.take().size == 0


# The store.


def test_stored_counts_add_up_over_sessions_and_days(tmp_path: Path) -> None:
    file = tmp_path / "h" / "x.sqlite"
    for session in range(3):
        store, counter = HistoryStore(file), Counter()
        for day in (100, 101):
            one = Press(day * 86_400_000 + session, day, "pad", "base", "7", "press", "tap A", late=session * 10)
            counter.begin(one)
            counter.finish(one)
        store.add(counter.take(), 1_000_000 + session)
        store.add(counter.take(), 1_000_010 + session)
    found = HistoryStore(file).read()
    assert found.days == [(100, 3), (101, 3)] and found.presses == 6
    assert [row[2] for row in found.sessions] == [2, 2, 2] and found.sessions[0][0] == 1_000_002
    assert found.used[0].latest == 20
    assert HistoryStore(file).read(101).presses == 3
    HistoryStore(file).erase()
    assert HistoryStore(file).read() == History()
    assert b"tap A" not in b"".join(part.read_bytes() for part in file.parent.iterdir())


def test_a_history_that_is_none_is_told_and_kept(tmp_path: Path) -> None:
    file = tmp_path / "x.sqlite"
    file.write_text("not a database, and longer than the header of one would be" * 4)
    with pytest.raises(HistoryError, match="Move the file away"):
        HistoryStore(file).read()
    assert file.read_text().startswith("not a database")
    later = tmp_path / "later.sqlite"
    with sqlite3.connect(later) as base:
        base.execute(f"PRAGMA user_version = {VERSION + 1}")
    with pytest.raises(HistoryError, match="later version"):
        HistoryStore(later).add(Counter().take(), 0)
    assert HistoryStore(tmp_path / "none.sqlite").read() == History()


def days_later(batch: Batch, days: int) -> Batch:
    """The same presses, so many days later."""
    def moved(counts: dict[Any, Any]) -> dict[Any, Any]:
        return {(day + days, *rest): count for (day, *rest), count in counts.items()}
    return Batch(*(moved(getattr(batch, field.name)) for field in fields(Batch)))


def test_a_million_presses_are_read_and_shown_at_once(tmp_path: Path) -> None:
    """A page of the Usage view comes in half the time in which its rows are only fetched: the file sums them."""
    rows = [surface(name, id=f"s{number}") for number, name in enumerate(("numpad", "full-iso", "pads-16"))]
    file = tmp_path / "big.sqlite"
    for number, row in enumerate(rows):
        counter = Counter()
        for one in play(make_habit(row, number), 33_400, number, start=19_000, days=36):
            counter.begin(one)
            counter.finish(one)
        batch = counter.take()
        for part in range(10):
            HistoryStore(file).add(days_later(batch, 36 * part), 1_600_000_000 + part * 100_000 + number)
    desk = BareDesk(surfaces=rows, macros=[])
    began = time.process_time()
    with sqlite3.connect(file) as base:
        for table in ("used", "pair", "slip"):
            assert len(base.execute(f"SELECT * FROM {table}").fetchall()) > 10_000
    once = time.process_time() - began
    for row in rows:
        began = time.process_time()
        found = HistoryStore(file).read(0, row.id)
        read = time.process_time() - began
        assert found.presses > 1_000_000
        began = time.process_time()
        told = report(desk, row, found)
        took = time.process_time() - began
        began = time.process_time()
        propose(row, row.layers[0], found)
        proposed = time.process_time() - began
        assert told.presses > 300_000 and read + took < once / 2 and proposed < 2 * once, (once, read, took, proposed)


def test_a_history_of_the_first_version_is_taken_over(tmp_path: Path) -> None:
    file, fresh = tmp_path / "old.sqlite", tmp_path / "fresh.sqlite"
    counter = Counter()
    for one in play(make_habit(small(), 1), 500, 1, start=19_000, days=20):
        counter.begin(one)
        counter.finish(one)
    batch = counter.take()
    HistoryStore(fresh).add(batch, 1_600_000_000)
    with sqlite3.connect(file) as base:
        base.executescript(FIRST_VERSION)
        base.execute("ATTACH ? AS fresh", (str(fresh),))
        for table in ("session", "used", "total", "pair", "slip", "late"):
            base.execute(f"INSERT INTO main.{table} SELECT * FROM fresh.{table}")
    base.close()
    assert HistoryStore(file).read() == HistoryStore(fresh).read()
    HistoryStore(file).add(batch, 1_600_000_100)
    assert HistoryStore(file).read().presses == 1000
    with sqlite3.connect(file) as base:
        assert base.execute("PRAGMA user_version").fetchone() == (VERSION,)
        assert base.execute("SELECT name FROM sqlite_master WHERE name LIKE 'old%'").fetchall() == []


# What it says.


def small() -> BareSurface:
    return surface("numpad")


def test_a_report_has_the_most_used_the_unused_the_slips_and_the_pairs() -> None:
    row = small()
    one, other, third = row.layers[0].bindings[:3]
    layer = row.layers[0].id

    def row_of(binding: BindingRow, times: int, slips: int = 0) -> Used:
        return Used("board", layer, binding.control, "press", does_of(binding), "", times, 1, 2, slips, 30,
                    times * 100, 900)
    history = History([row_of(one, 50), row_of(other, 20, 2)],
                      slips=[("board", other.control, does_of(other), one.control, 2)],
                      pairs=[("board", does_of(one), "board", does_of(other), 9)])
    told = report(BareDesk(surfaces=[row], macros=[]), row, history)
    assert told.presses == 70 and told.heat[one.control] == 50
    assert told.bindings[0][1:2] == (one.control,) and (third.control in {place[1] for place in told.unused})
    assert told.slipped[0].control == other.control and told.slipped[0].meant == ((one.control, 2),)
    place = next(c for c in row.controls if c.id == other.control)
    assert told.slipped[0].neighbours == tuple(neighbours(row, place))
    assert told.stopped == 2 and told.cancelled == 4
    assert told.pairs[0].words == (one.label, other.label) and told.mean_late == 100 and told.lost == 60


def test_neighbours_are_those_side_by_side() -> None:
    row = small()
    five = next(control for control in row.controls if control.id == "5")
    assert set(neighbours(row, five)) == {"8", "4", "6", "2"}


# A better arrangement.


def shuffled(row: BareSurface, seed: int) -> dict[str, str]:
    """Every face somewhere else, at random, on controls of the same sort."""
    places = [binding.control for binding in row.layers[0].bindings]
    mixed = list(places)
    random.Random(seed).shuffle(mixed)
    return dict(zip(places, mixed, strict=True))


@pytest.mark.parametrize("layout", ["numpad", "pads-16", "grid-4x4", "compact-60-iso"])
def test_the_proposal_saves_way_on_days_it_has_not_seen(layout: str, tmp_path: Path) -> None:
    """Worked out from half of a simulated history, measured on the other, beside the original and 40 random ones."""
    for seed in range(2):
        row = surface(layout)
        layer = row.layers[0]
        habit = make_habit(row, seed, unused=0.0)
        known = history_from(play(habit, 3000, seed), tmp_path / f"{layout}{seed}a")
        later = travel_of(row, layer, history_from(play(habit, 3000, seed + 99), tmp_path / f"{layout}{seed}b"))
        found = propose(row, layer, known, free=False)
        same = {binding.control: binding.control for binding in layer.bindings}
        assert found.moves and found.after < found.before
        original, proposed = later.total(same), later.total(same | dict(found.moves))
        by_chance = sorted(later.total(shuffled(row, number)) for number in range(40))
        assert proposed < 0.93 * original, (layout, proposed / original)
        assert proposed < by_chance[0], (layout, proposed, by_chance[0])


def test_what_is_never_used_is_freed_and_what_must_be_found_blind_stays() -> None:
    row = with_binding(small(), 0, kind="do", target="stop everything")
    layer = row.layers[0]
    stop = layer.bindings[0]
    used = [used_of(layer, b, 40) for b in layer.bindings[1:-1]]
    found = propose(row, layer, History(used))
    unused = layer.bindings[-1].control
    assert found.freed == (unused,) and does_of(stop) in FIXED
    assert stop.control not in {name for move in found.moves for name in move}
    assert propose(row, layer, History(used), free=False).freed == ()
    few = propose(row, layer, History(used[:1]))
    assert few.empty and str(ENOUGH) in few.why
    assert homes_of(row, ["5"]) == [(1.5, 2.5)] and homes_of(row) == [(2.0, 2.5)]


def test_strokes_stay_on_what_is_struck_and_moving_controls_are_left_alone() -> None:
    row = surface("knobs-sliders-8")
    row = replace(row, controls=[replace(control, moves=1) for control in row.controls])
    layer = row.layers[0]
    assert propose(row, layer, History([used_of(layer, b, 40) for b in layer.bindings]), free=False).moves == ()


def test_charts_have_a_bar_for_each_day_and_stay_on_the_page() -> None:
    row = small()
    layer = row.layers[0]
    used = [used_of(layer, b, 9) for b in layer.bindings]
    pages = usage_pages(BareDesk(surfaces=[row], macros=[]), History(used, days=[(100, 5), (103, 10)]), "x")
    bars = [shape for shape in pages[0].shapes if isinstance(shape, Box) and shape.role == "day"]
    assert len(pages) == 1 and [round(bar.height, 2) for bar in bars] == [19.0, 38.0]
    boxes = [inner for shape in pages[0].shapes for inner in (shape.shapes if isinstance(shape, Group) else (shape,))
             if isinstance(inner, Box)]
    assert all(one.x >= MARGIN - 0.1 and one.x + one.width <= 297 - MARGIN + 0.1 for one in boxes)
    assert all(one.y + one.height < 205 for one in boxes)


# In a running engine.


def tap(client: EngineClient, control: str, surface_id: str = "left-numpad") -> None:
    client.ask("press", surface=surface_id, control=control)
    client.ask("press", surface=surface_id, control=control, down=False)


def wait_for(client: EngineClient, what: Any, seconds: float = 10) -> Row:
    end = time.monotonic() + seconds
    while True:
        reply = client.ask("usage")
        if what(reply) or time.monotonic() > end:
            return reply
        time.sleep(0.05)


def test_presses_are_counted_switched_off_and_erased(client: EngineClient, desk: Path) -> None:
    for control in ("7", "8", "7", "times"):
        tap(client, control)
    tap(client, "4")
    reply = wait_for(client, lambda found: sum(row["presses"] for row in found["used"]) >= 4)
    counts = {(row["control"], row["does"], row["macro"]): row["presses"] for row in reply["used"]}
    # What is bound to nothing is not counted.
    assert counts == {("7", "tap Ctrl+Alt+1", ""): 2, ("8", "tap Ctrl+Alt+2", ""): 1, ("4", "play oven-close-up",
                                                                                     "oven-close-up"): 1}
    assert reply["on"] and [row[1] for row in reply["days"]] == [4] and len(reply["sessions"]) == 1
    tap(client, "minus")
    reply = wait_for(client, lambda found: sum(row["stopped"] for row in found["used"]) >= 1)
    assert "4" in [row["control"] for row in reply["used"] if row["stopped"]]
    client.ask("count_usage", on=False)
    assert tomllib.loads((desk / "desk.toml").read_text())["history"] is False
    tap(client, "9")
    time.sleep(0.3)
    assert "9" not in {row["control"] for row in client.ask("usage")["used"]}
    client.ask("erase_usage")
    assert client.ask("usage")["used"] == []
    client.ask("undo")
    tap(client, "9")
    assert wait_for(client, lambda found: found["used"])["used"][0]["control"] == "9"


def test_a_double_tap_that_was_waited_for_and_a_pass_through(client: EngineClient) -> None:
    client.ask("bind", surface="left-numpad", layer="class", control="7", gesture="double tap", kind="tap", target="A")
    client.ask("bind", surface="left-numpad", layer="class", control="7", gesture="tap", kind="tap", target="B")
    client.ask("bind", surface="left-numpad", layer="class", control="7", gesture="press")
    client.ask("bind", surface="left-numpad", layer="class", control="8", kind="do", target="pass through")
    tap(client, "7")
    tap(client, "8")
    reply = wait_for(client, lambda found: found["used"])
    assert [(row["gesture"], row["waited"] > 0) for row in reply["used"]] == [("tap", True)] or \
        [row["gesture"] for row in reply["used"]] == ["tap"]
    assert not any("pass" in row["does"] for row in reply["used"])


def test_an_arrangement_is_one_change(client: EngineClient, desk: Path) -> None:
    def bound() -> Row:
        read = tomllib.loads((desk / "desk.toml").read_text())
        return dict(read["surface"]["left-numpad"]["layer"]["class"]["press"])
    before = bound()
    client.ask("arrange", surface="left-numpad", layer="class", moves=[["7", "5"], ["5", "7"], ["8", "times"]],
               freed=["1"])
    after = bound()
    assert (after["5"], after["7"], after["times"]) == (before["7"], before["5"], before["8"])
    assert "8" not in after and "1" not in after
    client.ask("undo")
    assert bound() == before
    for wrong in ({"moves": [["7", "5"], ["8", "5"]]}, {"moves": [["7", "zz"]]}, {"moves": []}):
        with pytest.raises(EngineError):
            client.ask("arrange", surface="left-numpad", layer="class", **wrong)
    client.ask("home", surface="left-numpad", home=["5"])
    assert client.ask("desk")["desk"]["surfaces"][0]["home"] == ["5"]


def test_usage_on_the_command_line(desk: Path, tmp_path: Path) -> None:
    at = ["--desk", str(desk)]
    habit_file = paths.history_file(desk)
    counter = Counter()
    for number in range(5):
        one = Press(number * 5000, int(time.time() // 86_400), "left-numpad", "class", "7", "press", "tap Ctrl+Alt+1",
                    chord="Ctrl+Alt+1")
        counter.begin(one)
        counter.finish(one)
    HistoryStore(habit_file).add(counter.take(), int(time.time()))
    done = run_cli("usage", *at, "--since", "7d", "--surface", "left-numpad")
    assert "Left numpad: 5 presses" in done.stdout and "wide" in done.stdout and "never used: hob" in done.stdout
    row = json.loads(run_cli("usage", *at, "--json").stdout.splitlines()[0])
    assert row["controls"] == {"7": 5}
    done = run_cli("usage", *at, "-o", str(tmp_path / "use.pdf"))
    assert done.returncode == 0 and (tmp_path / "use.pdf").read_bytes().startswith(b"%PDF")
    assert run_cli("usage", *at, "-o", str(tmp_path / "use.svg")).stdout.count("Saved ") == 7
    assert run_cli("usage", *at, "--since", "soon").returncode == 2
    assert "Counting is off" in run_cli("usage", *at, "--off").stdout
    assert "history = false" in (desk / "desk.toml").read_text()
    assert "Counting is off" in run_cli("usage", *at).stdout
    run_cli("usage", *at, "--on")
    assert "history" not in (desk / "desk.toml").read_text()
    assert "erased" in run_cli("usage", *at, "--erase", "--yes").stdout
    assert "Left numpad: 0 presses" in run_cli("usage", *at).stdout
