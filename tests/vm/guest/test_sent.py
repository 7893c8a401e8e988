"""What is sent is what was written: from a press on a real device to what the virtual devices send."""

from __future__ import annotations

import itertools
import os
import signal
import time
from collections.abc import Iterator
from pathlib import Path

import evdev
import pytest
from hid import main_keyboard, twin_numpad

from conftest import EngineProcess, Event, Reader, output_node

DESK = """
format = 1
name = "Sending"
keyboard = "{keyboard}"

[surface.pad]
name = "Pad"
layout = "numpad"
device = {{ name = "Marram numeric pad" }}
[surface.pad.layer.base.press]
0 = {{ do = "stop everything" }}
1 = {{ play = "capitals" }}
2 = {{ play = "hello" }}
3 = {{ play = "click" }}
4 = {{ play = "twice" }}
5 = {{ play = "drag" }}
6 = {{ tap = "ButtonSide" }}
7 = {{ sustain = "Shift+PointerRight" }}
8 = {{ play = "march" }}
9 = {{ play = "on" }}
plus = {{ tap = "Ctrl+Z" }}
minus = {{ tap = "Ctrl+PlaceZ" }}
times = {{ play = "street" }}
dot = {{ play = "long" }}
slash = {{ tap = "F13" }}
"""
MACROS = {
    "capitals": 'type "ABC"', "hello": 'type "Hello"', "click": "click", "twice": "click twice",
    "drag": "press left button\nmove by 30 0\nrelease left button", "march": "repeat 25 every 200ms\n  tap F14",
    "long": 'type "abcdefghijklmnopqrstuvwxyz" every 100ms',
    "on": "overtaken go on\nrepeat 8 every 200ms\n  tap F15", "street": 'type "Straße"',
}


class Sending:
    """An engine whose one pad is pressed, and readers of its keyboard and pointer."""

    def __init__(self, folder: Path) -> None:
        self.pad, self.main, self.folder = twin_numpad("left"), main_keyboard(), folder
        self._ignored: set[object] = set()
        (folder / "macros").mkdir()
        for name, text in MACROS.items():
            (folder / "macros" / f"{name}.macro").write_text(text + "\n")
        (folder / "desk.toml").write_text(DESK.format(keyboard="us"))
        self.engine = EngineProcess(folder, surfaces=1)
        self.engine.wait_until("pad:taken")
        self.keys, self.pointer = Reader(output_node()), Reader(output_node("Brass Pebble pointer"))
        # The keyboard of the emulated machine: the kernel lights its lamp for whoever asks.
        self.lamp = next(evdev.InputDevice(path) for path in evdev.list_devices()
                         if evdev.InputDevice(path).name.startswith("AT Translated"))

    def use(self, keyboard: str) -> None:
        """The receiving programs have another layout."""
        (self.folder / "desk.toml").write_text(DESK.format(keyboard=keyboard))
        end = time.monotonic() + 20
        while self.engine.request("macros")["keyboard"] != keyboard:
            assert time.monotonic() < end
            time.sleep(0.1)

    def lock(self, lit: bool) -> None:
        """Caps Lock on or off, as every keyboard shows it."""
        self.lamp.set_led(evdev.ecodes.LED_CAPSL, int(lit))
        end = time.monotonic() + 5
        while (evdev.ecodes.LED_CAPSL in self.lamp.leds()) != lit:
            assert time.monotonic() < end

    def down(self) -> set[int]:
        """What the kernel believes to be down on all of the engine's devices."""
        return {code for reader in (self.keys, self.pointer) for code in reader.device.active_keys()}

    def told(self) -> dict[str, object]:
        """The newest trace, once it is complete."""
        end = time.monotonic() + 10
        while True:
            trace = self.engine.traces()[-1]
            if trace["state"] not in ("playing", "holding") or time.monotonic() > end:
                return trace
            time.sleep(0.05)

    def ignored(self) -> int:
        """How many of the last presses were not sent, since the machine itself stood still meanwhile."""
        self._ignored |= {trace["id"] for trace in self.engine.traces()
                          if "suspended or busy; ignored" in str(trace["sentence"])}
        return len(self._ignored)

    def begin(self, control: str) -> None:
        """Press what plays a repeating macro, until it plays: a press that a busy machine ignores is made again."""
        for _ in range(5):
            before = self.ignored()
            self.pad.tap(control)
            if len(self.keys.read(4)) == 4:
                return
            assert self.ignored() > before, "a press was ignored without a reason"
        raise AssertionError("this machine stands still all the time")


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Sending]:
    sending = Sending(tmp_path_factory.mktemp("sending"))
    yield sending
    sending.engine.end(signal.SIGKILL)
    sending.pad.pull_out()
    sending.main.pull_out()


@pytest.fixture
def sending(shared: Sending) -> Iterator[Sending]:
    shared.pad.let_go()
    shared.keys.read(1000, seconds=0.1)
    shared.pointer.read(1000, seconds=0.1)
    yield shared
    assert shared.down() == set()


def said(events: list[tuple[str, int, float]]) -> str:
    return " ".join(f"{name.removeprefix('KEY_').removeprefix('BTN_')}{'+' if value else '-'}"
                    for name, value, _ in events)


def test_capitals_under_caps_lock_leave_no_shift_down(sending: Sending) -> None:
    shifted = " ".join(f"LEFTSHIFT+ {key}+ {key}- LEFTSHIFT-" for key in "ABC")
    for lit, expected in ((True, "A+ A- B+ B- C+ C-"), (False, shifted)):
        sending.lock(lit)
        sending.pad.tap("1")
        assert said(sending.keys.read(len(expected.split()))) == expected
        assert sending.keys.read(1, seconds=0.3) == [] and sending.down() == set()
    sending.lock(True)
    sending.pad.tap("2")
    assert said(sending.keys.read(4)) == "H+ H- LEFTSHIFT+ E+"
    sending.pad.tap("0")
    assert said(sending.keys.read(2)) == "E- LEFTSHIFT-"
    sending.lock(False)


def test_clicks_drags_and_buttons_reach_the_pointer(sending: Sending) -> None:
    for control, expected in (("3", "LEFT+ LEFT-"), ("4", "LEFT+ LEFT- LEFT+ LEFT-"), ("5", "LEFT+ LEFT-"),
                              ("6", "SIDE+ SIDE-")):
        sending.pad.tap(control)
        assert said(sending.pointer.read(len(expected.split()))) == expected, control
        assert sending.keys.read(1, seconds=0.1) == []
    sending.pad.press("7")
    assert said(sending.keys.read(1)) == "LEFTSHIFT+" and said(sending.pointer.read(1)) == "RIGHT+"
    sending.pad.release("7")
    assert said(sending.pointer.read(1)) == "RIGHT-" and said(sending.keys.read(1)) == "LEFTSHIFT-"


def test_a_letter_in_a_chord_is_the_receivers_letter(sending: Sending) -> None:
    for keyboard, control, expected in (("us", "plus", "Z"), ("de", "plus", "Y"), ("de", "minus", "Z"),
                                        ("us", "minus", "Z")):
        sending.use(keyboard)
        sending.pad.tap(control)
        assert said(sending.keys.read(4)) == f"LEFTCTRL+ {expected}+ {expected}- LEFTCTRL-", (keyboard, control)


def test_a_letter_without_a_capital_is_typed_under_caps_lock_and_stops_nobody(sending: Sending) -> None:
    sending.use("de")
    sending.lock(True)
    sending.pad.tap("8")
    assert said(sending.keys.read(2)) == "F14+ F14-"
    sending.pad.tap("times")
    events = [name for name, value, _ in sending.keys.read(60, seconds=20) if value]
    text = [name.removeprefix("KEY_") for name in events if name != "KEY_F14"]
    assert text == ["CAPSLOCK", "LEFTSHIFT", "S", "T", "R", "A", "MINUS", "E", "CAPSLOCK"]
    assert events.count("KEY_F14") > 5, "the other run goes on"
    sending.pad.tap("0")
    sending.lock(False)
    sending.use("us")


def test_a_machine_that_stood_still_pours_nothing(sending: Sending) -> None:
    for control, more in (("8", 0), ("9", 12)):
        sending.begin(control)
        os.kill(sending.engine.process.pid, signal.SIGSTOP)
        # Pressed while nobody listens: this would be a command of long ago.
        sending.pad.tap("slash")
        time.sleep(2.5)
        os.kill(sending.engine.process.pid, signal.SIGCONT)
        events = sending.keys.read(more or 1, seconds=15 if more else 1)
        assert len(events) == more and not any(name == "KEY_F13" for name, _, _ in events)
        if more:
            downs = [at for name, value, at in events if value]
            assert min(b - a for a, b in itertools.pairwise(downs)) > 0.1, "none of them in a row"
        else:
            sentences = [str(trace["sentence"]) for trace in sending.engine.traces()[-2:]]
            assert any("the computer was suspended or busy for" in text for text in sentences), sentences
            assert any("while the computer was suspended or busy; ignored" in text for text in sentences), sentences
        sending.pad.tap("0")


def test_detents_of_a_knob_that_sends_keys_are_all_there(sending: Sending) -> None:
    for count in (40, 100):
        events: list[Event] = []
        ignored = sending.ignored()
        # What the kernel keeps for a reader is little (64 events, six for a detent): the hand is never more than eight
        # detents ahead of what came out, so that a slow machine loses none of them before the program could see it.
        began = time.monotonic()
        for index in range(count):
            sending.pad.press("slash")
            sending.pad.release("slash")
            pause = began + (index + 1) * 0.5 / count - time.monotonic()
            events += sending.keys.read(2 * count, seconds=max(0.0, pause))
            while 2 * (index + 1) - len(events) - 2 * (sending.ignored() - ignored) > 14:
                assert time.monotonic() < began + 60
                events += sending.keys.read(2, seconds=1)
        ended = time.time()
        events += sending.keys.read(2 * count - len(events), seconds=15)
        stood = sending.ignored() - ignored
        assert len(events) == 2 * (count - stood)
        # Emulated, so a part of it is the machine's own slowness.
        print(f"{count} detents: the last {1000 * (events[-1][2] - ended):.0f} ms after the hand")
        assert stood or events[-1][2] - ended < 3.0
        time.sleep(0.3)


def test_a_shift_in_the_middle_of_a_text_is_told_and_so_is_what_the_device_reported(sending: Sending) -> None:
    sending.pad.tap("dot")
    # More of it may have come by the time that it is read.
    seen = sending.keys.read(4)
    sending.main.press("shift")
    seen += sending.keys.read(10 - len(seen))
    sending.main.release("shift")
    seen += sending.keys.read(52 - len(seen))
    assert len(seen) == 52
    trace = sending.told()
    assert any("Shift was held on the main keyboard after" in text for text in trace["remarks"]), trace["remarks"]
    assert trace["raw"] == f"KEY_KPDOT 83 (0x53), {Path(sending.pad.node).name}"
