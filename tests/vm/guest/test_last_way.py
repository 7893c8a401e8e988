"""What is taken can always be got back: the last pointer, trials, devices that come and go, latches; and recording."""

from __future__ import annotations

import json
import signal
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import evdev
import pytest
from catalogue import model
from hid import KEYBOARD, HidDevice, twin_numpad

from brass_pebble.client import EngineClient, EngineError, find_engine
from conftest import EngineProcess, RawReader, Reader, output_node

DESK = """
format = 1
name = "Way back"

[surface.pad]
name = "Pad"
layout = "numpad"
device = { name = "Marram numeric pad" }
[surface.pad.layer.base.press]
1 = { latch = "Ctrl+M" }
7 = { do = "record with the keyboard" }
9 = { tap = "F13" }

[surface.mouse]
name = "Mouse"
layout = "mouse"
device = { name = "Petrel mouse" }
[surface.mouse.layer.base.press]
back = { tap = "F14" }
"""


class Way:
    """An engine on a desk that names a pad and a mouse, and the devices around it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        (folder / "macros").mkdir()
        (folder / "desk.toml").write_text(DESK)
        self.pad, self.mouse, self.keyboard = twin_numpad("left"), model("side-mouse").make(), \
            model("lit-keyboard").make()
        self.engine = EngineProcess(folder, surfaces=2)
        self.sent = Reader(output_node())

    def surface(self, name: str) -> dict[str, object]:
        return next(row for row in self.engine.request("desk")["desk"]["surfaces"] if row["id"] == name)

    def wait(self, what: Callable[[], object], seconds: float = 60) -> None:
        end = time.monotonic() + seconds
        while not what():
            assert time.monotonic() < end, [(row["id"], row["state"], row["why"])
                                            for row in self.engine.request("desk")["desk"]["surfaces"]]
            time.sleep(0.05)


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Way]:
    way = Way(tmp_path_factory.mktemp("way"))
    yield way
    way.engine.end(signal.SIGKILL)
    for device in (way.pad, way.mouse, way.keyboard):
        device.pull_out()


@pytest.fixture
def way(shared: Way) -> Way:
    shared.pad.let_go()
    shared.wait(lambda: shared.surface("pad")["state"] == "taken")
    shared.sent.read(1000, seconds=0.1)
    return shared


def is_free(node: str) -> bool:
    reader = RawReader(node)
    try:
        return not reader.is_taken()
    finally:
        reader.close()


def test_the_last_pointer_is_refused_tried_on_purpose_kept_and_given_back_when_it_is_the_last_again(way: Way) -> None:
    node = way.mouse.nodes[0]
    assert way.surface("mouse")["state"] == "refused" and "only device here to point with" in str(
        way.surface("mouse")["why"])
    assert is_free(node)
    # Another one that comes later takes nothing over: somebody may have no use for it.
    time.sleep(11)
    ball = model("trackball").make()
    way.wait(lambda: "plugged in since" in str(way.surface("mouse")["why"]))
    assert is_free(node)
    # Waking all is no such act; waking this one tries it, and gives it back.
    way.engine.request("wake")
    assert is_free(node)
    began = time.monotonic()
    way.engine.request("wake", surface="mouse")
    assert way.surface("mouse")["state"] == "taken" and way.surface("mouse")["trial"] and not is_free(node)
    way.wait(lambda: is_free(node), seconds=40)
    assert time.monotonic() - began > 9
    way.wait(lambda: way.surface("mouse")["state"] == "refused")
    way.engine.request("wake", surface="mouse")
    way.engine.request("keep", surface="mouse")
    way.wait(lambda: not way.surface("mouse")["trial"])
    assert way.surface("mouse")["state"] == "taken" and "may_be_only_pointer = true" in (
        way.folder / "desk.toml").read_text()
    # Kept, it stays, also alone; without that it is given back with the other one.
    (way.folder / "desk.toml").write_text(DESK)
    way.wait(lambda: "may_be_only_pointer" not in json.dumps(way.surface("mouse")["settings"]))
    assert way.surface("mouse")["state"] == "taken"
    ball.pull_out()
    way.wait(lambda: way.surface("mouse")["state"] == "refused")
    assert is_free(node)
    # Only its side button is wanted: that is never the last way in.
    (way.folder / "desk.toml").write_text(DESK.replace('layout = "mouse"', 'layout = "mouse"\ntakes = ["back"]'))
    way.wait(lambda: way.surface("mouse")["state"] == "taken")
    (way.folder / "desk.toml").write_text(DESK)
    way.wait(lambda: way.surface("mouse")["state"] == "refused")


def test_the_last_pointer_is_taken_on_trial_and_given_back_unless_it_is_kept(way: Way) -> None:
    (way.folder / "desk.toml").write_text(DESK.split("[surface.mouse]", maxsplit=1)[0])
    way.wait(lambda: len(way.engine.request("desk")["desk"]["surfaces"]) == 1)
    node = way.mouse.nodes[0]
    with EngineClient(find_engine(way.folder), "test") as client:
        client.set_timeout(20)
        # With parts that leave it pointing, there is no need of a trial.
        reply = client.ask("take", device=node, name="Side", takes=["ButtonSide"])
        assert reply["trial_seconds"] == 0
        client.ask("remove", surface=reply["surface"])
        for keep in (False, True):
            began = time.monotonic()
            reply = client.ask("take", device=node, name="Whole", layout="mouse")
            assert reply["trial_seconds"] == 10 and not is_free(node)
            if keep:
                client.ask("keep", surface=reply["surface"])
                time.sleep(11)
                assert not is_free(node) and way.surface("whole")["state"] == "taken"
                client.ask("remove", surface="whole")
            else:
                way.wait(lambda: is_free(node), seconds=40)
                assert time.monotonic() - began > 9
                way.wait(lambda: len(way.engine.request("desk")["desk"]["surfaces"]) == 1)
            way.wait(lambda: is_free(node))
        with pytest.raises(EngineError):
            client.ask("take", device=node, takes=[""])
    (way.folder / "desk.toml").write_text(DESK)
    way.wait(lambda: len(way.engine.request("desk")["desk"]["surfaces"]) == 2)


SPARE = """
[surface.spare]
name = "Spare"
layout = "full-ansi"
device = { name = "Harbour keyboard", port = "usb-bench-spare" }
"""


def twin_keyboard(port: str) -> HidDevice:
    return HidDevice("Harbour keyboard", f"usb-bench-{port}/input0", KEYBOARD, 0x4842, 0x0001)


def test_a_twin_that_is_asked_about_is_never_taken_by_typing(way: Way) -> None:
    spare, main = twin_keyboard("spare"), twin_keyboard("main")
    (way.folder / "desk.toml").write_text(DESK + SPARE)
    way.wait(lambda: len(way.engine.request("desk")["desk"]["surfaces"]) == 3
             and way.surface("spare")["state"] == "taken")
    spare.pull_out()
    way.wait(lambda: way.surface("spare")["state"] == "missing")
    # The one that somebody types on comes in another port: it may be the other one, so it is asked about.
    main.pull_out()
    main = twin_keyboard("desk")
    way.wait(lambda: way.surface("spare")["state"] == "unsure")
    program, sent = Reader(main.node), 0
    end = time.monotonic() + 60
    while way.surface("spare")["state"] == "unsure":
        assert time.monotonic() < end
        for key in ("H", "A", "H", "A"):
            main.tap(key)
        sent += 4
        time.sleep(1.5)
    # Somebody types on it: every key came where it belongs, and it is left alone.
    typed = [name for name, value, _ in program.read(2 * sent) if value]
    assert typed == ["KEY_H", "KEY_A"] * (sent // 2)
    assert way.surface("spare")["state"] == "missing" and "somebody types on it" in str(way.surface("spare")["why"])
    for _ in range(3):
        main.tap("H")
    time.sleep(2)
    assert way.surface("spare")["state"] == "missing" and is_free(main.node)
    # Plugged in again it is asked about once more, and told by one key, three times, alone.
    main.pull_out()
    way.wait(lambda: "not connected" in str(way.surface("spare")["why"]))
    main = twin_keyboard("desk")
    way.wait(lambda: way.surface("spare")["state"] == "unsure")
    for _ in range(20):
        main.tap("A")
        time.sleep(2)
        assert way.surface("spare")["state"] == "unsure" and is_free(main.node)
        for _ in range(3):
            main.tap("A")
        time.sleep(2)
        if way.surface("spare")["state"] == "taken":
            break
    assert way.surface("spare")["state"] == "taken" and not is_free(main.node)
    main.pull_out()
    (way.folder / "desk.toml").write_text(DESK)
    way.wait(lambda: len(way.engine.request("desk")["desk"]["surfaces"]) == 2)


@pytest.mark.parametrize("unplugged", ["go on", "end"])
def test_a_latch_whose_device_is_pulled_out_follows_unplugged(way: Way, unplugged: str) -> None:
    text = DESK.replace('layout = "numpad"', f'layout = "numpad"\nunplugged = "{unplugged}"')
    (way.folder / "desk.toml").write_text(text)
    way.wait(lambda: way.surface("pad")["unplugged"] == unplugged and way.surface("pad")["state"] == "taken")
    way.pad.tap("1")
    assert [(name, value) for name, value, _ in way.sent.read(2)] == [("KEY_LEFTCTRL", 1), ("KEY_M", 1)]
    # However many presses came after it.
    way.pad.pull_out()
    way.wait(lambda: way.surface("pad")["state"] == "missing")
    events = [(name, value) for name, value, _ in way.sent.read(2, seconds=5)]
    assert events == ([] if unplugged == "go on" else [("KEY_M", 0), ("KEY_LEFTCTRL", 0)])
    way.engine.request("stop")
    way.pad = twin_numpad("left")
    way.wait(lambda: way.surface("pad")["state"] == "taken")
    (way.folder / "desk.toml").write_text(DESK)
    way.wait(lambda: way.surface("pad")["unplugged"] == "go on")


def test_the_keyboard_one_plays_on_is_recorded_between_two_presses_only(way: Way) -> None:
    lamps = evdev.InputDevice(way.keyboard.nodes[0])
    game = Reader(way.keyboard.nodes[0])

    def recorder() -> dict[str, object]:
        return dict(way.engine.request("desk")["desk"]["recorder"])
    way.keyboard.tap("KEY_SPACE")
    way.pad.tap("7")
    way.wait(lambda: recorder()["state"] == "choose")
    assert evdev.ecodes.LED_SCROLLL not in lamps.leds()
    way.keyboard.tap("KEY_SPACE")
    way.pad.tap("4")
    way.wait(lambda: recorder()["state"] == "recording" and evdev.ecodes.LED_SCROLLL in lamps.leds())
    game.read(1000, seconds=0.2)
    for key in ("KEY_Q", "KEY_ESC"):
        way.keyboard.tap(key)
        time.sleep(0.1)
    way.pad.tap("9")
    # The game has it, too: it is only listened to.
    assert [(name, value) for name, value, _ in game.read(4)] == [
        ("KEY_Q", 1), ("KEY_Q", 0), ("KEY_ESC", 1), ("KEY_ESC", 0)]
    time.sleep(0.3)
    way.pad.tap("7")
    way.wait(lambda: recorder()["state"] == "idle" and evdev.ecodes.LED_SCROLLL not in lamps.leds())
    way.keyboard.tap("KEY_SPACE")
    file = way.folder / "macros" / "recorded-1.macro"
    way.wait(file.exists)
    steps = [line.split(" for ")[0] for line in file.read_text().splitlines() if line.startswith("tap")]
    assert steps == ["tap Q", "tap Escape", "tap F13"]
    # Recorded again with nothing played, neither the binding nor the macro is left.
    for control in ("7", "4", "7"):
        way.pad.tap(control)
        time.sleep(0.4)
    way.wait(lambda: not file.exists())
