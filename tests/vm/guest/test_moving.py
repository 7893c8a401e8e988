"""Real MIDI ports (ALSA's virtual raw MIDI) and a real controller (uhid): in, answered, and out again."""

from __future__ import annotations

import contextlib
import itertools
import os
import select
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import evdev
import pytest
from hid import Controller, Mouse, main_keyboard

from brass_pebble.kinds.inputs.midi_ports import list_ports
from conftest import EngineProcess, Reader, output_node

DESK = """
format = 1
name = "Moving desk"
tap = "40ms"
midi_to = "Virtual Raw MIDI 0-1"

[surface.pads]
name = "Pads"
layout = "pads-16"
device = { name = "Virtual Raw MIDI 0-0", bus = "MIDI" }
[surface.pads.layer.base."strike 1 to 79"]
1 = { tap = "F13", tint = "sky" }
[surface.pads.layer.base."strike 80 to 127"]
1 = { tap = "F14" }
[surface.pads.layer.base.press]
2 = { sustain = "Ctrl+M" }
3 = { play = "song" }
4 = { latch = "F20" }
5 = { set = "controller z at 100 %" }
6 = { step = "controller z by -1/4" }

[surface.knobs]
name = "Knobs"
layout = "wide"
device = { name = "Virtual Raw MIDI 0-2", bus = "MIDI" }
[surface.knobs.layer.base."turn right"]
knob-1 = { tap = "F15", each = "10 %" }
[surface.knobs.layer.base.move]
slider-1 = { drive = "cc 11 on 2" }
slider-2 = { drive = "fine cc 7 on 1" }
bend = { drive = "bend on 3" }
[surface.knobs.axis.bend]
dead = "0 %"
full = "100 %"
still = "0 %"

[surface.controller]
name = "Controller"
layout = "controller"
device = { name = "Skerry controller" }
[surface.controller.layer.base."push left"]
stick-left = { sustain = "A" }
[surface.controller.layer.base."push up"]
stick-left = { sustain = "W" }
[surface.controller.layer.base.press]
south = { tap = "F16" }
up = { tap = "F17" }
trigger-left = { sustain = "F18" }
[surface.controller.layer.base.move]
trigger-right = { drive = "controller x" }

[surface.later]
name = "Later"
layout = "pads-16"
device = { name = "Gannet", bus = "MIDI" }
[surface.later.layer.base.press]
1 = { sustain = "F19" }

[surface.mouse]
name = "Mouse"
layout = "mouse"
may_be_only_pointer = true
device = { name = "Sanderling mouse" }
[surface.mouse.layer.base."push right"]
motion = { sustain = "D" }
[surface.mouse.layer.base."push up"]
motion = { sustain = "W" }
[surface.mouse.layer.base.press]
right = { do = "rest or wake" }

[surface.shaker]
name = "Shaker"
layout = "controller"
device = { name = "Skerry shaker" }
rumble = ["tap"]
[surface.shaker.layer.base.press]
south = { tap = "F21" }
east = { sustain = "F22" }
"""
WIDE = """
name = "Wide"
control = [
  { id = "knob-1", moves = ["cc 16 on 1"], x = 0, y = 0 },
  { id = "slider-1", moves = ["cc 48 on 1"], x = 1, y = 0 },
  { id = "slider-2", moves = ["cc 49 on 1"], x = 2, y = 0 },
  { id = "bend", moves = ["bend on 2"], x = 3, y = 0 },
]
"""
SONG = 'clock 120\n  send note 60 on 3 strength 90 for 50ms\n  wait 50ms\nsend bytes "F0 7D 01 02 F7"\n'


class Raw:
    """The other end of a port: what is written here arrives there, and the other way round."""

    def __init__(self, number: int) -> None:
        self.fileno = self._fd = os.open(f"/dev/snd/midiC0D{number}", os.O_RDWR | os.O_NONBLOCK)
        # The kernel begins to keep what comes with the first reading.
        with contextlib.suppress(BlockingIOError):
            os.read(self._fd, 1)

    def play(self, text: str) -> None:
        os.write(self._fd, bytes.fromhex(text))

    def flood(self, data: bytes, piece: int = 300) -> None:
        """Write much, as fast as it is taken."""
        at = 0
        while at < len(data):
            select.select([], [self._fd], [], 5)
            try:
                at += os.write(self._fd, data[at:at + piece])
            except BlockingIOError:
                time.sleep(0.001)

    def hear(self, wanted: str, seconds: float = 8) -> bytes:
        """Everything that comes until it contains `wanted`."""
        data, end, meant = b"", time.monotonic() + seconds, bytes.fromhex(wanted)
        while meant not in data and time.monotonic() < end:
            if select.select([self._fd], [], [], 0.2)[0]:
                data += os.read(self._fd, 4096)
        assert meant in data, data.hex(" ")
        return data

    def close(self) -> None:
        os.close(self._fd)


class Moving:
    """The desk, its engine, both ends of the MIDI ports, a controller."""

    def __init__(self, folder: Path) -> None:
        self.desk = folder
        (folder / "macros").mkdir()
        (folder / "layouts").mkdir()
        (folder / "layouts" / "wide.toml").write_text(WIDE)
        (folder / "desk.toml").write_text(DESK)
        (folder / "macros" / "song.macro").write_text(SONG)
        self.main, self.controller = main_keyboard(), Controller()
        self.pads, self.out, self.knobs = Raw(0), Raw(1), Raw(2)
        self.engine = EngineProcess(folder, surfaces=6)
        self.engine.wait_until("pads:taken knobs:taken controller:taken")
        self.sent = Reader(output_node())

    def keys(self, count: int, seconds: float = 8) -> list[str]:
        return [f"{name.removeprefix('KEY_')}{'+' if value else '-'}" for name, value, _ in
                self.sent.read(count, seconds)]

    def end(self) -> None:
        self.engine.end()
        for raw in (self.pads, self.out, self.knobs):
            raw.close()
        self.controller.pull_out()
        self.main.pull_out()


@pytest.fixture(scope="module")
def moving(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Moving]:
    found = Moving(tmp_path_factory.mktemp("moving"))
    yield found
    found.end()


def wait_for(what: Callable[[], Any], seconds: float = 60) -> None:
    end = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < end, "waited in vain"
        time.sleep(0.05)


def test_ports_are_listed_apart_and_ours_are_not_among_them(moving: Moving) -> None:
    names = [facts.name for facts in list_ports()]
    assert names[:4] == [f"Virtual Raw MIDI 0-{n}" for n in range(4)]
    assert not [name for name in names if name.startswith("Brass Pebble")]


def test_an_engine_with_midi_ports_sleeps_while_nothing_comes(moving: Moving) -> None:
    def wakes() -> int:
        text = Path(f"/proc/{moving.engine.process.pid}/status").read_text()
        return int(text.split("\nvoluntary_ctxt_switches:")[1].split()[0])
    time.sleep(1)
    before = wakes()
    time.sleep(3)
    assert wakes() - before <= 3


def test_pads_are_struck_softly_and_hard_and_held(moving: Moving) -> None:
    moving.pads.play("99 24 30 89 24 00")
    assert moving.keys(2) == ["F13+", "F13-"]
    # A note-on without strength is a release; the status of the message before goes on.
    moving.pads.play("99 24 70 24 00")
    assert moving.keys(2) == ["F14+", "F14-"]
    moving.pads.play("99 25 40")
    assert moving.keys(2) == ["LEFTCTRL+", "M+"] and moving.keys(1, 0.4) == []
    moving.pads.play("89 25 40")
    assert moving.keys(2) == ["M-", "LEFTCTRL-"]


def test_knobs_and_sliders_step_and_drive(moving: Moving) -> None:
    moving.knobs.play("B0 10 00")
    for value in range(1, 128):
        moving.knobs.play(f"B0 10 {value:02X}")
    assert moving.keys(20).count("F15+") == 10
    moving.knobs.play("B0 30 7F")
    moving.out.hear("B1 0B 7F")
    moving.knobs.play("B0 31 40")
    assert bytes.fromhex("07 40") in moving.out.hear("27 40")


def test_macros_send_notes_a_clock_and_whole_messages(moving: Moving) -> None:
    moving.pads.play("99 26 40 89 26 00")
    data = moving.out.hear("F0 7D 01 02 F7")
    assert data.count(b"\xf8") == 5 and data.index(b"\xfa") < data.index(b"\xf8") < data.index(b"\xfc")
    plain = bytes(byte for byte in data if byte < 0xF8)
    assert bytes.fromhex("92 3C 5A") in plain
    assert bytes.fromhex("82 3C") in plain or bytes.fromhex("3C 00") in plain


def test_pads_are_lit_by_what_they_do(moving: Moving) -> None:
    moving.pads.play("99 27 40 89 27 00")
    data = moving.pads.hear("27 64")
    # Bound in its tint, and the pad that is latched.
    assert bytes.fromhex("24 29") in data
    moving.pads.play("99 27 40 89 27 00")
    assert moving.keys(2) == ["F20+", "F20-"]
    moving.pads.hear("27 14")


def test_a_controller_is_read_and_let_go_when_it_is_pulled_out(moving: Moving) -> None:
    controller = moving.controller
    controller.button(0, down=True)
    controller.button(0, down=False)
    assert moving.keys(2) == ["F16+", "F16-"]
    controller.hat("up")
    controller.hat("")
    assert moving.keys(2) == ["F17+", "F17-"]
    controller.move(z=200)
    assert moving.keys(1) == ["F18+"]
    controller.move(z=120)
    assert moving.keys(1, 0.4) == []
    controller.move(z=20)
    assert moving.keys(1) == ["F18-"]
    controller.move(x=0)
    controller.move(y=10)
    assert moving.keys(2) == ["A+", "W+"]
    controller.pull_out()
    assert sorted(moving.keys(2)) == ["A-", "W-"]
    moving.controller = Controller()
    moving.engine.wait_until("controller:taken")


def test_the_virtual_controller_is_read_back_exactly(moving: Moving) -> None:
    device = evdev.InputDevice(output_node("Brass Pebble controller"))
    limits = dict(device.capabilities()[evdev.ecodes.EV_ABS])
    assert (limits[0].min, limits[0].max) == (-32767, 32767) and (limits[2].min, limits[2].max) == (0, 32767)

    def place(code: int, value: int) -> None:
        wait_for(lambda: device.absinfo(code).value == value)
    moving.controller.move(rz=255)
    place(0, 32767)
    moving.controller.move(rz=0)
    place(0, -32767)
    moving.pads.play("99 28 40 89 28 00")
    place(2, 32767)
    for value in (24575, 16384, 8192, 0):
        moving.pads.play("99 29 40 89 29 00")
        place(2, value)


def test_macros_set_levels_exactly_and_press_buttons(moving: Moving) -> None:
    device = evdev.InputDevice(output_node("Brass Pebble controller"))
    told: list[tuple[int, int, int]] = []

    def came(until: Callable[[], bool]) -> bool:
        with contextlib.suppress(BlockingIOError):
            told.extend((event.type, event.code, event.value) for event in device.read() if event.type)
        return until()

    def play(text: str, **values: object) -> None:
        moving.engine.request("write_macro", macro="level", name="level", text=text)
        moving.engine.request("play", macro="level", **values)
    came(lambda: True)
    told.clear()
    play("level controller rx at number\n", number=35)
    # Exactly, and in one report.
    wait_for(lambda: came(lambda: bool(told)))
    assert told == [(3, 3, round(0.35 * 32767))] and device.absinfo(3).value == 11468
    told.clear()
    play("read now from level controller rx\nif now = 35.00\n  level controller rx at -35 over 200ms\n"
         "controller tap south for 60ms\ncontroller press start\n")
    wait_for(lambda: came(lambda: (1, 0x13B, 0) in told), 20)
    axis = [value for kind, _, value in told if kind == 3]
    assert axis == sorted(axis, reverse=True) and axis[-1] == -11468 and 4 <= len(axis) <= 20
    # What a macro leaves down goes up with its end.
    assert [(code, value) for kind, code, value in told if kind == 1] == [
        (0x130, 1), (0x130, 0), (0x13B, 1), (0x13B, 0)]


def test_a_port_that_comes_goes_and_comes_again(moving: Moving) -> None:
    from alsa_midi import READ_PORT, MidiBytesEvent, SequencerClient
    for _ in range(2):
        pads = SequencerClient("Gannet")
        port = pads.create_port("pads", READ_PORT)
        moving.engine.wait_until("later:taken")
        pads.event_output(MidiBytesEvent([0x99, 36, 100]), port=port)
        pads.drain_output()
        assert moving.keys(1) == ["F19+"]
        pads.close()
        # It went in the middle of a hold.
        moving.engine.wait_until("later:missing")
        assert moving.keys(1) == ["F19-"]


def test_a_mouse_is_directions_while_it_is_awake(moving: Moving) -> None:
    mouse = Mouse()
    try:
        moving.engine.wait_until("mouse:taken")
        for _ in range(12):
            mouse.move(8, 0)
            time.sleep(0.008)
        # The emulated machine is slow: the hand may seem to stop in between.
        found = moving.keys(20, 2)
        assert set(found) == {"D+", "D-"} and found[-1] == "D-"
        for _ in range(12):
            mouse.move(0, -8)
            time.sleep(0.008)
        found = moving.keys(20, 2)
        assert set(found) == {"W+", "W-"} and found[-1] == "W-"
        # One button switches it off: then it is a mouse again, and commands nothing.
        mouse.move(0, 0, buttons=2)
        mouse.move(0, 0)
        moving.engine.wait_until("mouse:resting")
        reader = evdev.InputDevice(mouse.node)
        for _ in range(8):
            mouse.move(8, 0)
            time.sleep(0.008)
        assert moving.keys(1, 0.5) == []
        assert [event.value for event in reader.read() if event.type == evdev.ecodes.EV_REL] == [8] * 8
    finally:
        mouse.pull_out()


def test_a_controller_shakes_when_a_tap_answers(moving: Moving) -> None:
    codes = evdev.ecodes
    axis = evdev.AbsInfo(0, -128, 127, 0, 0, 0)
    pad = evdev.UInput({codes.EV_KEY: [codes.BTN_SOUTH, codes.BTN_EAST], codes.EV_ABS: [(0, axis), (1, axis)],
                        codes.EV_FF: [codes.FF_RUMBLE]}, name="Skerry shaker", phys="usb-bench-near/input0")
    played: list[int] = []

    def answer() -> None:
        while not played or played[-1] >= 0:
            if not select.select([pad.fd], [], [], 0.1)[0]:
                continue
            for event in pad.read():
                if event.type == codes.EV_UINPUT and event.code == codes.UI_FF_UPLOAD:
                    upload = pad.begin_upload(event.value)
                    upload.retval = 0
                    pad.end_upload(upload)
                elif event.type == codes.EV_FF:
                    played.append(event.value)
    hearing = threading.Thread(target=answer)
    hearing.start()
    try:
        moving.engine.wait_until("shaker:taken")
        for _ in range(2):
            for value in (1, 0):
                pad.write(codes.EV_KEY, codes.BTN_SOUTH, value)
                pad.syn()
            assert moving.keys(2) == ["F21+", "F21-"]
            time.sleep(0.3)
        assert played.count(1) == 2
        for value in (1, 0):
            pad.write(codes.EV_KEY, codes.BTN_EAST, value)
            pad.syn()
        assert moving.keys(2) == ["F22+", "F22-"]
        time.sleep(0.3)
        assert played.count(1) == 2
    finally:
        played.append(-1)
        hearing.join()
        pad.close()


def test_a_free_port_is_heard_with_its_tone_and_its_bytes(moving: Moving) -> None:
    from brass_pebble.client import EngineClient, find_engine
    free = Raw(3)
    try:
        with EngineClient(find_engine(moving.desk), "test") as client:
            client.set_timeout(20)
            client.ask("follow", topics=["heard"])
            client.ask("listen", seconds=30)
            told: list[dict[str, Any]] = []
            for _ in range(40):
                free.play("90 3C 40 80 3C 00 B0 15 10 B0 15 20")
                time.sleep(0.2)
                if client.ask("devices")["left_ms"] and _heard(client, told):
                    break
            client.ask("hush")
        notes = [row for row in told if row["key"] == "note 60 on 1" and row["down"]]
        assert notes and notes[0]["spelt"] == "note 60 on 1 · C4 · 90 3C"
        assert notes[0]["shown"] == "Virtual Raw MIDI 0-3"
        # A knob says itself once while it is turned.
        assert [row["key"] for row in told].count("cc 21 on 1") == 1
    finally:
        free.close()


def _heard(client: Any, told: list[dict[str, Any]]) -> bool:
    """Take the news that have come; whether a knob was among them."""
    # They came before the reply that was waited for.
    told.extend(message for message in client._news if message["topic"] == "heard")
    client._news.clear()
    return any(row["key"].startswith("cc") for row in told)


def test_a_flood_and_an_endless_message_do_no_harm(moving: Moving) -> None:
    began = time.monotonic()
    moving.knobs.flood(b"".join(bytes((0xE1, value & 0x7F, value >> 7)) for value in range(10_000)))
    heard = b""
    while (left := began + 60 - time.monotonic()) > 0 and select.select([moving.out.fileno], [], [], min(left, 3))[0]:
        heard += os.read(moving.out.fileno, 65536)
    # The sequencer drops what comes faster than this test reads it; what is left is in order.
    plain = heard.replace(b"\xe2", b"")
    values = [plain[at] | plain[at + 1] << 7 for at in range(0, len(plain) - 1, 2)]
    assert len(values) > 100 and all(a < b for a, b in itertools.pairwise(values))
    # The kernel's stand-in for a device keeps what the sequencer had no room for, and goes on with the next write only.
    last, end = b"", time.monotonic() + 60
    while not last.endswith(b"\x0b\x33") and time.monotonic() < end:
        if select.select([moving.out.fileno], [], [], 0.5)[0]:
            last = (last + os.read(moving.out.fileno, 4096))[-4:]
        else:
            moving.knobs.play("B0 30 33")
    assert last.endswith(b"\x0b\x33"), last.hex(" ")
    moving.pads.flood(b"\xf0\x7d" + bytes(1_000_000) + b"\xf7", 3000)
    # The sequencer may have dropped the message's end with the rest, and then the next note ends it.
    keys: list[str] = []
    for _ in range(120):
        moving.pads.play("99 24 30 89 24 00")
        keys += moving.keys(2, 0.5)
        if len(keys) >= 2:
            break
    assert keys[:2] == ["F13+", "F13-"]
