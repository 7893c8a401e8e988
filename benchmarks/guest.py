"""Runs in the virtual machine: a press on a real HID device until its effect on a real virtual keyboard.

Once through the engine, once through the C loop that grabs, reads and writes.  Prints one JSON object.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests" / "vm" / "guest"))

import evdev
from hid import twin_numpad

from conftest import EngineProcess

DESK = """
format = 1
name = "Measured"
tap = "1ms"
[surface.pad]
layout = "numpad"
device = { name = "Northwind numeric pad" }
[surface.pad.layer.base.press]
5 = { sustain = "F13" }
[surface.second]
layout = "numpad"
[surface.third]
layout = "pads-16"
device = { name = "Virtual Raw MIDI 0-0", bus = "MIDI" }
[surface.third.layer.base.press]
1 = { sustain = "F13" }
"""


def node_called(name: str) -> str:
    end = time.monotonic() + 30
    while time.monotonic() < end:
        for entry in Path("/sys/class/input").glob("event*"):
            if (entry / "device/name").read_text().strip() == name:
                return f"/dev/input/{entry.name}"
        time.sleep(0.05)
    raise TimeoutError(name)


def measure(output: str, count: int) -> list[float]:
    """Milliseconds from the report given to the kernel to the key read from the output's node."""
    device = evdev.InputDevice(output)
    os.set_blocking(device.fd, True)
    times = []
    for _ in range(count):
        time.sleep(0.02)
        began = time.perf_counter()
        pad.press("5")
        os.read(device.fd, 4096)
        times.append(1000 * (time.perf_counter() - began))
        pad.release("5")
        time.sleep(0.01)
        os.read(device.fd, 4096)
    return times[10:]


def measure_midi(output: str, count: int) -> list[float]:
    """The same from a note written to ALSA's virtual raw MIDI."""
    device, port = evdev.InputDevice(output), os.open("/dev/snd/midiC0D0", os.O_RDWR)
    os.set_blocking(device.fd, True)
    times = []
    for _ in range(count):
        time.sleep(0.02)
        began = time.perf_counter()
        os.write(port, bytes((0x99, 36, 100)))
        os.read(device.fd, 4096)
        times.append(1000 * (time.perf_counter() - began))
        os.write(port, bytes((0x89, 36, 0)))
        time.sleep(0.01)
        os.read(device.fd, 4096)
    os.close(port)
    return times[10:]


count = int(sys.argv[1])
pad = twin_numpad("left")
folder = Path(tempfile.mkdtemp())
(folder / "desk.toml").write_text(DESK)
result = {"engine": [], "loop": [], "midi": []}
for _ in range(2):
    loop = subprocess.Popen([str(Path(__file__).parent.parent / ".cache" / "loops"), "keys", pad.node],
                            stdout=subprocess.PIPE, text=True)
    assert loop.stdout and loop.stdout.readline() == "ready\n"
    result["loop"] += measure(node_called("Bare loop"), count)
    loop.kill()
    loop.wait()
    engine = EngineProcess(folder)
    result["engine"] += measure(node_called("Brass Pebble keys"), count)
    result["midi"] += measure_midi(node_called("Brass Pebble keys"), count)
    engine.end()
print(json.dumps(result))
