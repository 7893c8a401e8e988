"""Meeting real kernel devices: listened to, taken over, known again in other ports, plugged in and out 200 times."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import evdev
import pytest
from hid import HidDevice, HidPair, big_keyboard, keypad_with_knob, three_pedals, twin_numpad
from test_devices import is_free, keys

from brass_pebble.client import EngineClient, EngineError, find_engine
from brass_pebble.kinds.inputs.base import InputError
from brass_pebble.kinds.inputs.evdev import EvdevInput
from brass_pebble.kinds.kernel.listing import list_devices
from conftest import Reader, World, output_node

Row = dict[str, Any]
Plugged = list[HidDevice | HidPair]
STORM = 200
CHECK_EVERY = 20


@pytest.fixture
def plugged() -> Iterator[Plugged]:
    """Devices that a test plugs in; pulled out at its end."""
    devices: Plugged = []
    yield devices
    for device in devices:
        device.pull_out()


def follow(world: World, *topics: str) -> EngineClient:
    client = EngineClient(find_engine(world.desk), "test")
    client.set_timeout(30)
    client.ask("follow", topics=list(topics))
    return client


def wait_device(client: EngineClient, name: str, nodes: int = 1) -> Row:
    end = time.monotonic() + 20
    while time.monotonic() < end:
        for row in client.ask("devices")["devices"]:
            if row["name"].startswith(name) and len(row["nodes"]) == nodes:
                return dict(row)
        time.sleep(0.1)
    raise AssertionError(f"{name} never came: {client.ask('devices')['devices']}")


def heard(client: EngineClient, count: int) -> list[Row]:
    found: list[Row] = []
    for message in client.news():
        if message["topic"] == "heard" and message["down"]:
            found.append(message)
            if len(found) == count:
                break
    return found


def test_a_composite_keypad_is_one_device_heard_without_being_taken(world: World, plugged: Plugged) -> None:
    pad = keypad_with_knob()
    plugged.append(pad)
    with follow(world, "heard") as client:
        row = wait_device(client, "Kettle keypad", nodes=3)
        assert row["can"] == "15 keys, a knob"
        programs = Reader(next(n for n in row["nodes"] if 30 in evdev.InputDevice(n).capabilities().get(1, [])))
        client.ask("listen", seconds=20)
        time.sleep(1)
        pad.tap("A")
        pad.media("louder")
        pad.turn(1)
        told = heard(client, 3)
        assert {t["device"] for t in told} == {row["id"]}
        assert [(t["key"], t["kernel"], t["usage"]) for t in told[:2]] == [
            ("A", "KEY_A", "07:04"), ("VolumeUp", "KEY_VOLUMEUP", "0c:e9")]
        assert told[2]["turned"] == "dial"
        # Nothing was taken over: other programs got the key, and could have the device.
        assert keys(programs.read(2)) == ["A+", "A-"]
        assert all(is_free(node) for node in row["nodes"])
        # Taken over, all its nodes are silent for other programs, and its media key is a control like any other.
        name = client.ask("take", device=row["id"], name="Knob pad")["surface"]
        client.ask("hush")
        client.ask("bind", surface=name, control="VolumeUp", kind="tap", target="F16")
        programs.read(10, seconds=0.2)
        pad.media("louder")
        pad.tap("B")
        assert keys(world.sent.read(2)) == ["F16+", "F16-"]
        assert programs.read(1, seconds=0.5) == []
        assert not any(is_free(node) for node in row["nodes"])
        client.ask("remove", surface=name)
        assert all(is_free(node) for node in row["nodes"])


def test_pedals_that_send_letters_and_a_keyboard_of_two_nodes(world: World, plugged: Plugged) -> None:
    plugged += [three_pedals(), big_keyboard()]
    with follow(world, "heard") as client:
        pedals, keyboard = wait_device(client, "Tern"), wait_device(client, "Lantern", nodes=2)
        assert client.ask("proposals", device=pedals["id"])["proposals"][0]["layout"] == "pedals-3"
        assert client.ask("proposals", device=keyboard["id"])["proposals"][0]["layout"].startswith("full-")
        assert keyboard["full"] and not keyboard["last_keyboard"]
        name = client.ask("take", device=pedals["id"], layout="pedals-3")["surface"]
        client.ask("bind", surface=name, control="left", kind="sustain", target="Ctrl+M")
        plugged[0].press("A")
        assert keys(world.sent.read(2)) == ["LEFTCTRL+", "M+"]
        plugged[0].release("A")
        assert keys(world.sent.read(2)) == ["M-", "LEFTCTRL-"]
        client.ask("remove", surface=name)


def test_lamps_of_the_device_show_that_it_is_armed_and_are_given_back(world: World, plugged: Plugged) -> None:
    plugged.append(big_keyboard())
    with follow(world, "heard") as client:
        row = wait_device(client, "Lantern", nodes=2)
        node = next(n for n in row["nodes"] if evdev.ecodes.EV_LED in evdev.InputDevice(n).capabilities())
        before = set(evdev.InputDevice(node).leds())
        name = client.ask("take", device=row["id"], layout="full-ansi")["surface"]
        client.ask("set", surface=name, what="scroll", value="armed")
        scroll = evdev.ecodes.LED_SCROLLL
        wait_lamp(node, scroll, lit=True)
        client.ask("rest", surface=name)
        wait_lamp(node, scroll, lit=scroll in before)
        client.ask("wake", surface=name)
        wait_lamp(node, scroll, lit=True)
        # A lamp that shows a layer is lit while the layer is on.
        layer = client.ask("add_layer", surface=name, name="Cut")["layer"]
        client.ask("set", surface=name, what="scroll", value=layer)
        wait_lamp(node, scroll, lit=False)
        client.ask("layer", surface=name, layer=layer, how="on")
        wait_lamp(node, scroll, lit=True)
        client.ask("layer", surface=name, layer=layer, how="off")
        wait_lamp(node, scroll, lit=False)
        # While something is recorded without the screen, every lamp of the surface says so.
        caps = evdev.ecodes.LED_CAPSL
        client.ask("bind", surface=name, control="a", kind="do", target="record")
        plugged[0].tap("A")
        wait_lamp(node, caps, lit=True)
        plugged[0].tap("A")
        wait_lamp(node, caps, lit=caps in before)
        client.ask("remove", surface=name)
        wait_lamp(node, scroll, lit=scroll in before)


def wait_lamp(node: str, lamp: int, *, lit: bool) -> None:
    end = time.monotonic() + 5
    while (lamp in evdev.InputDevice(node).leds()) != lit:
        assert time.monotonic() < end, f"lamp {lamp} is not {'lit' if lit else 'dark'}"
        time.sleep(0.05)


def plays(world: World, side: str) -> None:
    """The pad does what its own surface says."""
    first = {"left": ["LEFTCTRL+", "A+"], "right": ["F13+"]}[side]
    world.sent.read(100, seconds=0.05)
    getattr(world, side).tap("5")
    told = keys(world.sent.read(len(first)))
    # In a slow machine more may have come in the same moment.
    assert told[:len(first)] == first, (side, told, world.running.ask())
    world.sent.read(100, seconds=0.5)


def test_twins_in_swapped_and_in_new_ports(world: World) -> None:
    # Swapped while both are out: without a serial number, the port is who they are.
    world.left.pull_out()
    world.right.pull_out()
    world.running.wait_until("left:missing right:missing")
    world.right, world.left = twin_numpad("right"), twin_numpad("left")
    world.running.wait_until("left:taken right:taken")
    plays(world, "left")
    plays(world, "right")
    # In ports where neither was before, nobody guesses: three presses of a key of the left one settle both.
    world.left.pull_out()
    world.right.pull_out()
    world.running.wait_until("left:missing right:missing")
    world.left, world.right = twin_numpad("new-1"), twin_numpad("new-2")
    world.running.wait_until("left:unsure right:unsure")
    typed = Reader(world.right.node)
    # The engine may still be about to listen, in so slow a machine: a person would press again, too.
    for _ in range(20):
        for _ in range(3):
            world.right.tap("7")
            # It is not taken over yet, so the press reaches its program as well.
            assert keys(typed.read(2)) == ["KP7+", "KP7-"]
            assert "left:unsure" in world.running.ask()
        time.sleep(2)
        if "unsure" not in world.running.ask():
            break
    world.running.wait_until("left:taken right:taken")
    world.left, world.right = world.right, world.left
    plays(world, "left")
    plays(world, "right")
    # Remembered: after a restart of the engine nobody is asked.
    world.running.end()
    world.start()
    assert world.running.ask() == "left:taken right:taken"
    plays(world, "left")
    # And home again: one in its old port is sure, the other one follows from it.
    world.left.pull_out()
    world.right.pull_out()
    world.running.wait_until("left:missing right:missing")
    world.left, world.right = twin_numpad("new-2"), twin_numpad("right")
    world.running.wait_until("left:taken right:taken")
    plays(world, "left")
    plays(world, "right")
    world.left.pull_out()
    world.left = twin_numpad("left")
    world.running.wait_until("left:taken right:taken")
    plays(world, "left")


def test_a_node_that_was_given_to_another_device_is_not_taken(world: World) -> None:
    """The list of devices may be a moment old, and the kernel gives numbers of nodes again."""
    facts = next(facts for facts in list_devices() if world.left.node in facts.nodes)
    with pytest.raises(InputError, match="another device is at"):
        EvdevInput(replace(facts, port="usb-bench-elsewhere"))


def test_two_hundred_replugs(world: World) -> None:
    """No descriptor is leaked, no key stays down, and each pad is always its own surface."""
    assert world.running.ask() == "left:taken right:taken"
    fds = Path(f"/proc/{world.running.process.pid}/fd")
    # The sockets of requests just made are closed a moment later.
    time.sleep(1)
    before = len(list(fds.iterdir()))
    resumed: list[float] = []
    for turn in range(STORM):
        side = ("left", "right")[turn % 2]
        checked = turn % CHECK_EVERY >= CHECK_EVERY - 2
        if checked:
            world.running.wait_until("left:taken right:taken")
            getattr(world, side).press("0")
            assert keys(world.sent.read(1))[0].endswith("+")
        getattr(world, side).pull_out()
        setattr(world, side, twin_numpad(side))
        if checked:
            began = time.monotonic()
            world.running.wait_until("left:taken right:taken")
            resumed.append(time.monotonic() - began)
            # What was held when it was pulled out went up.
            assert evdev.InputDevice(output_node()).active_keys() == []
            plays(world, side)
    world.running.wait_until("left:taken right:taken")
    # Asked over a socket in an emulated machine on a busy host: the quickest tells what the engine can do.
    assert min(resumed) < 1, resumed
    end = time.monotonic() + 5
    while len(list(fds.iterdir())) > before and time.monotonic() < end:
        time.sleep(0.1)
    assert len(list(fds.iterdir())) <= before


def test_permission_that_arrives_a_moment_after_the_device(tmp_path_factory: pytest.TempPathFactory) -> None:
    """An engine of a user who may not read the device yet takes it over when the rights come."""
    pad = twin_numpad("late")
    os.chmod(pad.node, 0o600)
    folder = Path("/run/late")
    for part in ("desk", "run", "state", "config"):
        (folder / part).mkdir(parents=True)
        os.chown(folder / part, 65534, 65534)
        os.chmod(folder / part, 0o700)
    (folder / "desk" / "desk.toml").write_text('format = 1\nname = "Late"\n[surface.pad]\nlayout = "numpad"\n'
                                               'device = { port = "usb-bench-late" }\n[surface.pad.layer.base]\n')
    os.chmod("/dev/uinput", 0o666)
    environment = {**os.environ, "XDG_RUNTIME_DIR": str(folder / "run"), "XDG_STATE_HOME": str(folder / "state"),
                   "XDG_CONFIG_HOME": str(folder / "config"), "PYTHONDONTWRITEBYTECODE": "1"}
    command = ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", "brass-pebble"]
    process = subprocess.Popen([*command, "run", "--desk", str(folder / "desk")], env=environment, text=True,
                               stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
    try:
        assert process.stdout
        told = process.stdout.readline() + process.stdout.readline()
        assert "may not be read by you" in told, told
        os.chmod(pad.node, 0o666)
        state, end = "", time.monotonic() + 20
        while state != "taken" and time.monotonic() < end:
            done = subprocess.run([*command, "wake", "pad"], env=environment, capture_output=True, text=True,
                                  check=False, timeout=60)
            state = done.stdout.strip().removeprefix("pad: ")
        assert state == "taken", done.stdout + done.stderr
        assert not is_free(pad.node)
    finally:
        process.terminate()
        process.wait(timeout=60)
        pad.pull_out()


def test_a_device_that_vanishes_between_listing_and_opening(world: World) -> None:
    with follow(world, "devices") as client:
        pad = twin_numpad("brief")
        end = time.monotonic() + 10
        while not (row := next((r for r in client.ask("devices")["devices"] if r["port"] == "usb-bench-brief"), None)):
            assert time.monotonic() < end
        pad.pull_out()
        try:
            name = client.ask("take", device=row["id"], layout="numpad")["surface"]
        except EngineError as error:
            why = str(error)
        else:
            why = next(s for s in client.ask("desk")["desk"]["surfaces"] if s["id"] == name)["why"]
            client.ask("remove", surface=name)
        assert any(words in why for words in ("not connected", "pulled out")), why
        assert world.running.ask() == "left:taken right:taken"
