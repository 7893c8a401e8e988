"""What passes, read back by libinput: a desktop sees the same mouse, its travel under acceleration included."""

from __future__ import annotations

import re
import signal
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from catalogue import Made, model

from conftest import EngineProcess

DESK = """
format = 1
name = "Travel"
[surface.mouse]
layout = "mouse"
takes = ["back"]
device = { name = "Petrel mouse", port = "usb-travel-taken" }
[surface.mouse.layer.base.press]
back = { tap = "F13" }
"""
# "POINTER_MOTION +0.004s  5.54/ -3.32 ( +5.00/ -3.00)": accelerated, and as it came.
MOTION = re.compile(r"POINTER_MOTION.*s\s+(\S+)/\s*(\S+) \(\s*(\S+)/\s*(\S+)\)")


class Seen:
    """libinput's account of one node, read as it comes."""

    def __init__(self, node: str) -> None:
        self._process = subprocess.Popen(["libinput", "debug-events", "--device", node], stdout=subprocess.PIPE,
                                         stderr=subprocess.STDOUT, text=True)
        assert self._process.stdout
        assert "DEVICE_ADDED" in self._process.stdout.readline()
        self._lines: list[str] = []
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def _read(self) -> None:
        assert self._process.stdout
        for line in self._process.stdout:
            self._lines.append(line)

    def moved(self) -> int:
        """The reports of motion that it has told so far."""
        return sum("POINTER_MOTION" in line for line in self._lines)

    def end(self) -> str:
        """Everything that it said."""
        time.sleep(1)
        self._process.send_signal(signal.SIGINT)
        self._process.wait(60)
        self._reader.join(60)
        return "".join(self._lines)


def travel(text: str) -> tuple[float, float, float, float]:
    """The way that the pointer went, accelerated and as it came, across and down."""
    found = [tuple(map(float, match.groups())) for match in MOTION.finditer(text)]
    return tuple(sum(item[index] for item in found) for index in range(4))  # type: ignore[return-value]


def twin_of(made: Made) -> str:
    end = time.monotonic() + 60
    while time.monotonic() < end:
        for entry in Path("/sys/class/input").glob("event*"):
            if (entry / "device/phys").read_bytes().strip() == b"brass-pebble/passage":
                return f"/dev/input/{entry.name}"
        time.sleep(0.05)
    raise TimeoutError(made.port)


@pytest.fixture(scope="module")
def mice(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Made, Made]]:
    """A mouse that is left alone, and its like of which a button is taken."""
    Path("/run/udev").mkdir(exist_ok=True)
    subprocess.run(["/lib/systemd/systemd-udevd", "--daemon"], check=True, capture_output=True)
    free, taken = model("side-mouse").make("usb-travel-free"), model("side-mouse").make("usb-travel-taken")
    folder = tmp_path_factory.mktemp("travel")
    (folder / "desk.toml").write_text(DESK)
    engine = EngineProcess(folder, surfaces=1)
    engine.wait_until("mouse:taken")
    yield free, taken
    engine.end()
    free.pull_out()
    taken.pull_out()


def known_to_udev(node: str) -> None:
    """Wait until udev has said what a node is."""
    number = Path("/sys/class/input", Path(node).name, "dev").read_text().strip()
    end = time.monotonic() + 30
    while "ID_INPUT_MOUSE=1" not in (data.read_text() if (data := Path(f"/run/udev/data/c{number}")).exists() else ""):
        assert time.monotonic() < end, node
        Path("/sys/class/input", Path(node).name, "uevent").write_text("change")
        time.sleep(0.2)


def test_the_same_travel_wheel_and_buttons(mice: tuple[Made, Made]) -> None:
    free, taken = mice
    nodes = [free.nodes[0], twin_of(taken)]
    for node in nodes:
        known_to_udev(node)
    seen = [Seen(node) for node in nodes]
    began = time.monotonic()
    # Slow and quick, straight and askew, both axes in one report.
    for index in range(300):
        speed = 1 + index // 30
        for mouse in mice:
            mouse.turn(REL_X=speed, REL_Y=(index % 5) - 3 or 1)
        while time.monotonic() < began + index * 0.008:
            time.sleep(0.0005)
        # The kernel keeps some twenty reports for each reader, and on a busy machine a reader may come later than that.
        late = time.monotonic() + 30
        while any(each.moved() < index - 8 for each in seen):
            assert time.monotonic() < late, [each.moved() for each in seen]
            time.sleep(0.001)
    for mouse in mice:
        mouse.write(("REL_WHEEL_HI_RES", 60))
        mouse.write(("REL_WHEEL_HI_RES", 60), ("REL_WHEEL", 1))
        mouse.write(("REL_HWHEEL", -1), ("REL_HWHEEL_HI_RES", -120))
        for button in ("BTN_LEFT", "BTN_RIGHT", "BTN_MIDDLE", "BTN_EXTRA"):
            mouse.tap(button)
    texts = [each.end() for each in seen]
    (*one, x, y), (*other, x2, y2) = map(travel, texts)
    assert (x, y) == (x2, y2) and x > 0
    # As libinput counts it, the emulated machine's own unsteadiness included.
    assert abs(one[0]) > 1.2 * x
    ratio = other[0] / one[0]
    print(f"travel under acceleration: {ratio:.3f} of the mouse itself")
    assert 0.9 < ratio < 1.1

    def rest(text: str) -> list[str]:
        return [re.sub(r"\s+\+\S+s\s+", " ", line.partition("POINTER_")[2]) for line in text.splitlines()
                if "POINTER_SCROLL" in line or "POINTER_BUTTON" in line]
    assert rest(texts[0]) == rest(texts[1]) and len(rest(texts[0])) >= 10
