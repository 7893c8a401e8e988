"""Gestures, layers and caught chords with real kernel devices."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import evdev
import pytest
from hid import three_pedals

from brass_pebble.client import EngineClient, find_engine
from conftest import Reader, World, console_holds_ctrl

TIME = 400


def keys(world: World, count: int, seconds: float = 10.0) -> list[str]:
    return [f"{name.removeprefix('KEY_')}{'+' if value else '-'}" for name, value, _ in world.sent.read(count, seconds)]


@pytest.fixture
def desk(world: World) -> Iterator[EngineClient]:
    """Gestures and a layer on the left pad; what was bound is put back."""
    file = world.desk / "desk.toml"
    before = file.read_text()
    with EngineClient(find_engine(world.desk), "test") as client:
        client.set_timeout(20)
        client.ask("set_times", what="hold_after", value=f"{TIME}ms")
        client.ask("set_times", what="second_within", value=f"{TIME}ms")
        layer = client.ask("add_layer", surface="left", name="Two")["layer"]
        for control, gesture, kind, target, where in (
                ("1", "tap", "tap", "F1", "base"), ("1", "hold", "sustain", "F2", "base"),
                ("2", "tap", "tap", "F3", "base"), ("2", "double tap", "tap", "F4", "base"),
                ("3", "press", "layer", f"while held {layer} on left", "base"), ("4", "press", "tap", "F5", "base"),
                ("4", "press", "tap", "F6", layer), ("4", "with right/1", "tap", "F7", "base"),
                ("6", "press", "latch", "F8", "base")):
            client.ask("bind", surface="left", layer=where, control=control, gesture=gesture, kind=kind, target=target)
        yield client
        client.ask("stop")
    file.write_text(before)
    world.running.wait_until("left:taken right:taken")
    time.sleep(0.5)


def test_a_tap_a_hold_and_a_double_tap_on_a_real_pad(world: World, desk: EngineClient) -> None:
    world.left.tap("1", 0.05)
    assert keys(world, 2) == ["F1+", "F1-"]
    world.left.press("1")
    assert keys(world, 1) == ["F2+"]
    world.left.release("1")
    assert keys(world, 1) == ["F2-"]
    world.left.tap("2", 0.05)
    assert keys(world, 2) == ["F3+", "F3-"]
    assert any(remark.startswith(f"waited {TIME} ms") for remark in world.running.traces()[-1]["remarks"])
    for _ in range(4):
        world.left.tap("2", 0.03)
        world.left.tap("2", 0.03)
        told = keys(world, 4, 1.0)
        # An emulated machine may stall between the two taps.
        if told == ["F4+", "F4-"]:
            break
    assert told == ["F4+", "F4-"]


def test_a_held_layer_a_control_of_the_twin_and_a_latch(world: World, desk: EngineClient) -> None:
    world.left.press("3")
    world.left.tap("4")
    world.left.release("3")
    time.sleep(0.3)
    world.left.tap("4")
    assert keys(world, 4) == ["F6+", "F6-", "F5+", "F5-"]
    world.right.press("1")
    time.sleep(0.3)
    world.left.tap("4")
    world.right.release("1")
    # The right pad passes on what nothing answers: its 1 goes to the programs.
    told = keys(world, 4)
    assert [key for key in told if key.startswith("F7")] == ["F7+", "F7-"], told
    world.left.tap("6")
    assert keys(world, 1) == ["F8+"]
    world.left.tap("6")
    assert keys(world, 1) == ["F8-"]


def test_a_layer_that_is_held_ends_with_the_plug(world: World, desk: EngineClient) -> None:
    from hid import twin_numpad
    world.left.press("3")
    world.left.tap("6")
    assert keys(world, 1) == ["F8+"]
    world.left.pull_out()
    world.left = twin_numpad("left")
    world.running.wait_until("left:taken right:taken")
    assert "two" not in desk.ask("focus")["on"]["left"]
    # What was latched stays down until somebody lets it go: its control is back.
    world.left.tap("6")
    assert keys(world, 1) == ["F8-"]
    world.left.tap("4")
    assert keys(world, 2) == ["F5+", "F5-"]


def test_a_chord_is_caught_and_reaches_nobody_else(world: World) -> None:
    other = Reader(world.main.node)
    with EngineClient(find_engine(world.desk), "test") as client:
        client.set_timeout(20)
        client.ask("follow", topics=["chord"])
        # A key that is down at that moment, as the one that asked for it may be, is waited for.
        world.main.press("A")
        reply = client.ask("catch_chord")
        assert "Harbour keyboard" in reply["keyboards"] and not reply["bench_only"]
        world.main.release("A")
        time.sleep(1.0)
        other.read(20, 0.3)
        for deed in (world.main.press, world.main.release):
            for key in ("ctrl", "shift", "B") if deed == world.main.press else ("B", "shift", "ctrl"):
                deed(key)
                time.sleep(0.05)
        told: list[Any] = []
        for message in client.news():
            told.append((message["state"], message["chord"]))
            if message["state"] not in ("listening", "caught"):
                break
        assert told[-1] == ("done", "Ctrl+Shift+B"), told
    assert other.read(1, 0.5) == [] and not console_holds_ctrl()
    # It is given back: the next key reaches everybody.
    world.main.tap("H")
    assert [name for name, _, _ in other.read(2)] == ["KEY_H", "KEY_H"]


def test_a_catch_that_nobody_ends_gives_the_keyboard_back(world: World) -> None:
    other = Reader(world.main.node)
    with EngineClient(find_engine(world.desk), "test") as client:
        client.set_timeout(20)
        client.ask("catch_chord")
        time.sleep(0.5)
    # The client has gone without a word.
    time.sleep(1.0)
    world.main.tap("I")
    assert [name for name, _, _ in other.read(2)] == ["KEY_I", "KEY_I"]


def test_presses_of_a_foot_as_the_kernel_tells_them(tmp_path: Path) -> None:
    """Writes what the kernel told of a row of presses to the job's folder: the recorded streams are made of it."""
    pedals = three_pedals()
    try:
        device, lines = evdev.InputDevice(pedals.node), list[str]()
        # The kernel shows a node before its driver is ready, and drops what is reported until then.
        by = time.monotonic() + 10
        while device.read_one() is None and time.monotonic() < by:
            pedals.tap("C", 0.02)
        time.sleep(0.2)
        while device.read_one() is not None:
            pass
        for key, seconds, pause in (("A", 0.08, 0.6), ("A", 0.7, 0.6), ("A", 0.06, 0.09), ("A", 0.07, 0.6),
                                    ("B", 0.12, 0.05), ("A", 0.09, 0.6), ("C", 0.05, 0.3), ("C", 0.05, 0.6)):
            pedals.tap(key, seconds)
            time.sleep(pause)
            # Read on: the kernel keeps only a few events for a slow reader.
            while (event := device.read_one()) is not None:
                if event.type == evdev.ecodes.EV_KEY and event.value in (0, 1):
                    name = evdev.ecodes.KEY[event.code].removeprefix("KEY_")
                    lines.append(f"{event.sec * 1_000_000_000 + event.usec * 1000}\t{name}\t{event.value}")
        assert len(lines) == 16
        if os.path.isdir("/run/job"):
            Path("/run/job/pedals.tsv").write_text("\n".join(lines) + "\n")
    finally:
        pedals.pull_out()
