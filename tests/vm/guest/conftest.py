"""Devices, a desk, an engine and a reader of what it sends, in the virtual machine."""

from __future__ import annotations

import fcntl
import json
import os
import select
import signal
import struct
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import evdev
import pytest
from hid import main_keyboard, twin_numpad

from brass_pebble.client import EngineClient, find_engine
from brass_pebble.demo import know

DESK = """
format = 1
name = "Test desk"
tap = "40ms"
patience = "700ms"

[surface.left]
name = "Left"
layout = "numpad"
device = { name = "Marram numeric pad", port = "usb-bench-left" }
[surface.left.layer.base.press]
5 = { play = "left" }
0 = { sustain = "Ctrl+M" }
dot = { do = "rest or wake" }

[surface.right]
name = "Right"
layout = "numpad"
unbound = "pass"
device = { name = "Marram numeric pad", port = "usb-bench-right" }
[surface.right.layer.base.press]
5 = { play = "right" }
0 = { sustain = "F14" }
"""
MACROS = {"left": "keep Ctrl down\n  tap A\nwait 100ms\ntap B for 60ms\n", "right": "repeat 3 every 80ms\n  tap F13\n"}

Event = tuple[str, int, float]


class Reader:
    """Reads a node: (kernel key name, 0 or 1, seconds)."""

    def __init__(self, path: str) -> None:
        self.device = evdev.InputDevice(path)
        self._ahead: list[Event] = []

    def read(self, count: int, seconds: float = 10.0) -> list[Event]:
        """The next `count` key events; fewer if the time is up or the node is gone."""
        events = self._ahead
        end = time.monotonic() + seconds
        # What is there already is read in any case, however slow the machine is; what is too much waits for the next.
        while len(events) < count and select.select([self.device.fd], [], [], max(0.0, end - time.monotonic()))[0]:
            try:
                for event in self.device.read():
                    if event.type == evdev.ecodes.EV_KEY and event.value != 2:
                        name = evdev.ecodes.bytype[evdev.ecodes.EV_KEY][event.code]
                        events.append((name if isinstance(name, str) else name[0], event.value, event.timestamp()))
            except OSError:
                break
        self._ahead = events[count:]
        return events[:count]


class RawReader:
    """Reads the keys of a node whose name may be anything, also no text."""

    def __init__(self, path: str) -> None:
        self._fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
        self._ahead: list[tuple[int, int]] = []

    def read(self, count: int, seconds: float = 10.0) -> list[tuple[int, int]]:
        """The next `count` key events: code, 1 or 0; fewer if the time is up."""
        events = self._ahead
        end = time.monotonic() + seconds
        while len(events) < count and select.select([self._fd], [], [], max(0.0, end - time.monotonic()))[0]:
            for _, _, kind, code, value in struct.iter_unpack("llHHi", os.read(self._fd, 24 * 64)):
                if kind == evdev.ecodes.EV_KEY and value != 2:
                    events.append((code, value))
        self._ahead = events[count:]
        return events[:count]

    def has(self, code: int) -> bool:
        """Whether the node has a key (EVIOCGBIT of linux/input.h)."""
        mask = bytearray(96)
        fcntl.ioctl(self._fd, 2 << 30 | len(mask) << 16 | ord("E") << 8 | 0x21, mask)
        return bool(mask[code >> 3] >> (code & 7) & 1)

    def is_taken(self) -> bool:
        """Whether somebody keeps it from all others (EVIOCGRAB)."""
        try:
            fcntl.ioctl(self._fd, 0x40044590, 1)
            fcntl.ioctl(self._fd, 0x40044590, 0)
        except OSError:
            return True
        return False

    def close(self) -> None:
        os.close(self._fd)


class EngineProcess:
    """`brass-pebble run` on a desk."""

    def __init__(self, desk: Path, surfaces: int = 2) -> None:
        self.desk = desk
        # Made by the test, which is the person here.
        know(desk)
        self.process = subprocess.Popen(["brass-pebble", "run", "--desk", str(desk)], stdout=subprocess.PIPE,
                                        stderr=subprocess.STDOUT, text=True)
        assert self.process.stdout
        self.lines: list[str] = []
        # The first line says that it is ready; one line for each surface follows.
        for _ in range(1 + surfaces):
            self.lines.append(self.process.stdout.readline())

    def wait_until(self, words: str, seconds: float = 60) -> None:
        """Wait until the engine's surfaces are in a state that contains `words`."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if words in self.ask():
                return
            time.sleep(0.1)
        raise AssertionError(f"never saw {words!r}; now {self.ask()}")

    def request(self, do: str, **fields: object) -> dict[str, object]:
        with EngineClient(find_engine(self.desk), "test") as client:
            client.set_timeout(20)
            return client.ask(do, **fields)

    def ask(self) -> str:
        """Each surface and its state."""
        return " ".join(f"{s['id']}:{s['state']}" for s in self.request("desk")["desk"]["surfaces"])

    def traces(self) -> list[dict[str, object]]:
        return list(self.request("traces")["traces"])

    def end(self, number: int = signal.SIGTERM) -> int:
        if self.process.poll() is None:
            self.process.send_signal(number)
        return self.process.wait(timeout=60)


def output_node(name: str = "Brass Pebble keys") -> str:
    """The node of the engine's virtual keyboard, or of another of its devices."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        for entry in Path("/sys/class/input").glob("event*"):
            if (entry / "device/name").read_bytes().strip() == name.encode():
                return f"/dev/input/{entry.name}"
        time.sleep(0.05)
    raise TimeoutError(f"the engine made no “{name}”")


class World:
    """Two twin numpads, a main keyboard, a desk, and an engine that is started again when a test has ended it.

    Starting takes seconds in an emulated machine, so the tests share it.
    """

    def __init__(self, folder: Path) -> None:
        self.desk = folder
        (folder / "macros").mkdir()
        (folder / "desk.toml").write_text(DESK)
        for name, text in MACROS.items():
            (folder / "macros" / f"{name}.macro").write_text(text)
        self.left, self.right, self.main = twin_numpad("left"), twin_numpad("right"), main_keyboard()
        self.engine: EngineProcess | None = None
        self.sent: Reader

    def let_go(self) -> None:
        """Release what an earlier test left down."""
        for device in (self.left, self.right, self.main):
            device.let_go()

    def start(self) -> EngineProcess:
        """The running engine; its keyboard's reader is empty."""
        if self.engine is None or self.engine.process.poll() is not None:
            self.engine = EngineProcess(self.desk)
            self.sent = Reader(output_node())
        self.sent.read(1000, seconds=0.05)
        return self.engine

    @property
    def running(self) -> EngineProcess:
        """The engine that `start` has started."""
        assert self.engine
        return self.engine

    def end(self) -> None:
        if self.engine is not None:
            self.engine.end(signal.SIGKILL)
        for device in (self.left, self.right, self.main):
            device.pull_out()


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    world = World(tmp_path_factory.mktemp("desk"))
    yield world
    world.end()


@pytest.fixture
def world(shared: World) -> World:
    """Everything in place, and an engine that runs."""
    shared.let_go()
    shared.start()
    return shared


def console_holds_ctrl() -> bool:
    """Whether the kernel's own console, a program like any other behind the devices, believes Ctrl to be down.

    TIOCLINUX with subcode TIOCL_GETSHIFTSTATE, linux/tiocl.h; bit 2 is Ctrl (linux/keyboard.h).
    """
    console = os.open("/dev/tty0", os.O_RDWR)
    try:
        state = bytearray([6])
        fcntl.ioctl(console, 0x541C, state)
        return bool(state[0] & 4)
    finally:
        os.close(console)


def run_command(*words: str) -> tuple[int, str]:
    done = subprocess.run(words, capture_output=True, text=True, timeout=60, check=False, env=os.environ)
    return done.returncode, done.stdout + done.stderr


def json_lines(text: str) -> list[dict[str, object]]:
    return [json.loads(line) for line in text.splitlines() if line.startswith("{")]
