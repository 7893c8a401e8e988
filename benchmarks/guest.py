"""Runs in the virtual machine: real devices on one side, real virtual devices on the other.

A press of a HID pad until its key on the virtual keyboard, and the motion of a mouse of which a button is taken until
it arrives at its twin: through the engine, and through a C loop that grabs, reads and writes.  Both have a device of
their own and are asked in turn, so that whatever the machine does meanwhile happens to both.  Prints one JSON object.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests" / "vm" / "guest"))

import evdev
from catalogue import model
from hid import twin_numpad

from conftest import EngineProcess

DESK = """
format = 1
name = "Measured"
tap = "1ms"
[surface.pad]
layout = "numpad"
device = { name = "Marram numeric pad", port = "usb-bench-left" }
[surface.pad.layer.base.press]
5 = { sustain = "F13" }
[surface.second]
layout = "numpad"
[surface.mouse]
layout = "mouse"
takes = ["back"]
device = { name = "Petrel mouse", port = "usb-mouse-left" }
[surface.mouse.layer.base.press]
back = { sustain = "F14" }
[surface.third]
layout = "pads-16"
device = { name = "Virtual Raw MIDI 0-0", bus = "MIDI" }
[surface.third.layer.base.press]
1 = { sustain = "F13" }
"""
LOOPS = str(Path(__file__).parent.parent / ".cache" / "loops")


def opened(name: str, phys: str = "") -> evdev.InputDevice:
    """The node of a virtual device, to be read without hurry."""
    end = time.monotonic() + 30
    while time.monotonic() < end:
        for entry in Path("/sys/class/input").glob("event*"):
            if ((entry / "device/name").read_text().strip() == name
                    and phys in (entry / "device/phys").read_text().strip()):
                device = evdev.InputDevice(f"/dev/input/{entry.name}")
                os.set_blocking(device.fd, True)
                return device
        time.sleep(0.05)
    raise TimeoutError(name)


def bare_loop(kind: str, node: str) -> subprocess.Popen[str]:
    loop = subprocess.Popen([LOOPS, kind, node], stdout=subprocess.PIPE, text=True)
    assert loop.stdout and loop.stdout.readline() == "ready\n"
    return loop


def timed(act: Callable[[], None], device: evdev.InputDevice) -> float:
    """Milliseconds from an act to what arrives of it."""
    began = time.perf_counter()
    act()
    os.read(device.fd, 4096)
    return 1000 * (time.perf_counter() - began)


def in_turn(pairs: dict[str, tuple[Callable[[], None], Callable[[], None], evdev.InputDevice]],
            count: int) -> dict[str, list[float]]:
    """Each one's times: act, wait, and undo, one after the other, again and again."""
    times: dict[str, list[float]] = {name: [] for name in pairs}
    for _ in range(count):
        for name, (act, undo, device) in pairs.items():
            time.sleep(0.01)
            times[name].append(timed(act, device))
            time.sleep(0.005)
            undo()
            os.read(device.fd, 4096)
    return {name: found[min(10, count // 2):] for name, found in times.items()}


count = int(sys.argv[1])
left, right = twin_numpad("left"), twin_numpad("right")
mice = [model("side-mouse").make(f"usb-mouse-{side}") for side in ("left", "right")]
folder = Path(tempfile.mkdtemp())
(folder / "desk.toml").write_text(DESK)
loops = [bare_loop("keys", right.node), bare_loop("mouse", mice[1].nodes[0])]
engine = EngineProcess(folder, surfaces=4)
engine.wait_until("mouse:taken")
keys, port = opened("Brass Pebble keys"), os.open("/dev/snd/midiC0D0", os.O_RDWR)
result = in_turn({
    "engine": (lambda: left.press("5"), lambda: left.release("5"), keys),
    "loop": (lambda: right.press("5"), lambda: right.release("5"), opened("Bare loop"))}, count)
result |= in_turn({
    "motion": (lambda: mice[0].turn(REL_X=3, REL_Y=-2), lambda: mice[0].turn(REL_X=-3),
               opened("Petrel mouse", "passage")),
    "motion loop": (lambda: mice[1].turn(REL_X=3, REL_Y=-2), lambda: mice[1].turn(REL_X=-3),
                    opened("Bare mouse loop"))}, count)
result |= in_turn({"midi": (lambda: os.write(port, bytes((0x99, 36, 100))),
                            lambda: os.write(port, bytes((0x89, 36, 0))), keys)}, count)
engine.end()
for loop in loops:
    loop.kill()
    loop.wait()
print(json.dumps(result))
