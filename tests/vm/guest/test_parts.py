"""Devices that are taken in part: what is wanted commands, the rest passes exactly as it came."""

from __future__ import annotations

import itertools
import select
import signal
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import evdev
import pytest
from catalogue import Made, model

from conftest import EngineProcess, Reader, output_node

DESK = """
format = 1
name = "Parts"

[surface.mouse]
name = "Mouse"
layout = "mouse"
takes = ["back", "motion while aim"]
device = { name = "Petrel mouse" }
[surface.mouse.layer.base.press]
back = { tap = "F13" }
[surface.mouse.layer.aim]
name = "Aim"
[surface.mouse.layer.aim.press]
back = { tap = "F14" }
[surface.mouse.layer.aim."push right"]
motion = { sustain = "E" }

[surface.receiver]
name = "Receiver"
takes = ["F5"]
device = { name = "Wigeon receiver" }
[surface.receiver.layer.base.press]
F5 = { latch = "PointerLeft" }
"""


class Parts:
    """An engine that has parts of two devices, and readers of their twins."""

    def __init__(self, folder: Path) -> None:
        self.mouse, self.receiver = model("side-mouse").make(), model("desk-receiver").make()
        self.folder = folder
        (folder / "desk.toml").write_text(DESK)
        self.engine = EngineProcess(folder, surfaces=2)
        self.engine.wait_until("mouse:taken receiver:taken")
        self.keys, self.pointer = Reader(output_node()), Reader(output_node("Brass Pebble pointer"))
        self.twin = twin_of(self.mouse)

    def unbound(self) -> str:
        """What becomes of the mouse's controls that do nothing."""
        return str(self.engine.request("desk")["desk"]["surfaces"][0]["unbound"])

    @staticmethod
    def wait(until: Callable[[], bool]) -> None:
        """Until something is so."""
        end = time.monotonic() + 60
        while not until():
            assert time.monotonic() < end
            time.sleep(0.02)


def twin_of(made: Made) -> evdev.InputDevice:
    """The virtual device through which the rest of a device passes."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        for entry in Path("/sys/class/input").glob("event*"):
            if ((entry / "device/phys").read_text().strip() == "brass-pebble/passage"
                    and (entry / "device/name").read_bytes().startswith(made.model.name)):
                return evdev.InputDevice(f"/dev/input/{entry.name}")
        time.sleep(0.05)
    raise TimeoutError(made.model.id)


def reports(device: evdev.InputDevice, seconds: float = 1.0, count: int = 0) -> list[list[tuple[str, int]]]:
    """What a device has sent, report by report; as many as are wanted, or until nothing comes any more."""
    found: list[list[tuple[str, int]]] = [[]]
    end = time.monotonic() + (20 if count else seconds)
    while not count or (time.monotonic() < end and len(found) <= count):
        if not select.select([device.fd], [], [], min(0.2, max(0.0, end - time.monotonic())))[0]:
            if not count or time.monotonic() >= end:
                break
            continue
        for event in device.read():
            if event.type == evdev.ecodes.EV_SYN:
                assert event.code == evdev.ecodes.SYN_REPORT
                found.append([])
            else:
                name = evdev.ecodes.bytype[event.type][event.code]
                found[-1].append((name if isinstance(name, str) else name[0], event.value))
    return [report for report in found if report]


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Parts]:
    parts = Parts(tmp_path_factory.mktemp("parts"))
    yield parts
    parts.engine.end(signal.SIGKILL)
    parts.mouse.pull_out()
    parts.receiver.pull_out()


@pytest.fixture
def parts(shared: Parts) -> Parts:
    reports(shared.twin, 0.2)
    shared.keys.read(1000, 0.1)
    shared.pointer.read(1000, 0.1)
    return shared


def test_what_is_not_wanted_passes_as_it_came(parts: Parts) -> None:
    told = [[("REL_X", 3), ("REL_Y", -2)], [("REL_WHEEL_HI_RES", 30)], [("REL_WHEEL_HI_RES", 90), ("REL_WHEEL", 1)],
            [("REL_HWHEEL", -1), ("REL_HWHEEL_HI_RES", -120)], [("MSC_SCAN", 0x90001), ("BTN_LEFT", 1)],
            [("REL_X", 5)], [("MSC_SCAN", 0x90001), ("BTN_LEFT", 0)]]
    told += [[(button, value)] for button in ("BTN_RIGHT", "BTN_MIDDLE", "BTN_EXTRA", "BTN_FORWARD", "BTN_BACK",
                                              "BTN_TASK") for value in (1, 0)]
    for report in told:
        parts.mouse.write(*report)
    passed = reports(parts.twin, count=len(told))
    assert [[(name.replace("BTN_MOUSE", "BTN_LEFT"), value) for name, value in report] for report in passed] == told
    assert parts.keys.read(1, 0.2) == [] and parts.pointer.read(1, 0.1) == []


def test_the_part_that_is_wanted_commands_in_the_middle_of_a_report(parts: Parts) -> None:
    other = evdev.InputDevice(parts.mouse.nodes[0])
    parts.mouse.write(("REL_X", 4), ("MSC_SCAN", 0x90004), ("BTN_SIDE", 1), ("REL_Y", 1))
    parts.mouse.write(("MSC_SCAN", 0x90004), ("BTN_SIDE", 0))
    assert [(name, value) for name, value, _ in parts.keys.read(2)] == [("KEY_F13", 1), ("KEY_F13", 0)]
    assert reports(parts.twin) == [[("REL_X", 4), ("REL_Y", 1)]]
    # Nobody else hears it from the device itself.
    assert reports(other, 0.2) == []


def test_motion_commands_only_while_its_layer_is_on(parts: Parts) -> None:
    parts.engine.request("layer", surface="mouse", layer="aim", how="on")
    for _ in range(6):
        parts.mouse.write(("REL_X", 20), ("REL_WHEEL", 1))
    assert [(name, value) for name, value, _ in parts.keys.read(1)] == [("KEY_E", 1)]
    assert all(report == [("REL_WHEEL", 1)] for report in reports(parts.twin))
    assert [(name, value) for name, value, _ in parts.keys.read(1)] == [("KEY_E", 0)]
    parts.engine.request("layer", surface="mouse", layer="aim", how="off")
    parts.mouse.write(("REL_X", 20), ("REL_Y", 7))
    assert reports(parts.twin, count=1) == [[("REL_X", 20), ("REL_Y", 7)]]


def test_sums_are_exact_at_250_reports_a_second(parts: Parts) -> None:
    before = _cpu(parts.engine.process.pid)
    began, x, y, seen, sent = time.monotonic(), 0, 0, 0, 0
    for index in range(1500):
        across, down = index % 7 - 3, index % 5 - 1
        if across or down:
            sent += 1
            parts.mouse.write(*[(name, value) for name, value in (("REL_X", across), ("REL_Y", down)) if value])
        # What the kernel keeps for a reader is little: on a slow machine the hand waits for what it has moved.
        while time.monotonic() < began + index * 0.004 or (sent - seen > 8 and time.monotonic() < began + 60):
            for report in reports(parts.twin, 0.002):
                seen += 1
                x, y = x + dict(report).get("REL_X", 0), y + dict(report).get("REL_Y", 0)
    took = time.monotonic() - began
    for report in reports(parts.twin, 2.0):
        seen += 1
        x, y = x + dict(report).get("REL_X", 0), y + dict(report).get("REL_Y", 0)
    assert (x, y) == (sum(index % 7 - 3 for index in range(1500)), sum(index % 5 - 1 for index in range(1500)))
    share = (_cpu(parts.engine.process.pid) - before) / took
    print(f"1,500 reports of motion in {took:.1f} s: {seen} arrived, sums exact, {100 * share:.0f} % of a processor")


def _cpu(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / 100


def test_a_receiver_gives_one_key_and_keeps_typing_and_pointing(parts: Parts) -> None:
    keyboard = twin_of(parts.receiver)
    mouse = next(evdev.InputDevice(node) for node in parts.receiver.nodes
                 if evdev.ecodes.EV_REL in evdev.InputDevice(node).capabilities())
    parts.receiver.turn(REL_X=5, REL_Y=-3)
    # The node of which nothing is wanted is not even opened: it goes on as before.
    assert reports(mouse, count=1) == [[("REL_X", 5), ("REL_Y", -3)]]
    parts.receiver.tap("KEY_LEFTSHIFT")
    parts.receiver.tap("KEY_A")
    typed = [(name, value) for report in reports(keyboard, count=4) for name, value in report if name.startswith("KEY")]
    assert typed == [("KEY_LEFTSHIFT", 1), ("KEY_LEFTSHIFT", 0), ("KEY_A", 1), ("KEY_A", 0)]
    for value in (1, 0):
        parts.receiver.tap("KEY_F5")
        assert [(name, down) for name, down, _ in parts.pointer.read(1)] == [("BTN_LEFT", value)]
    assert reports(keyboard, 0.3) == []


def test_rest_gives_the_whole_device_back_and_leaves_nothing_down(parts: Parts) -> None:
    parts.mouse.press("BTN_LEFT")
    reports(parts.twin, count=1)
    assert evdev.ecodes.BTN_LEFT in parts.twin.active_keys()
    parts.engine.request("rest", surface="mouse")
    assert parts.twin.active_keys() == []
    itself = evdev.InputDevice(parts.mouse.nodes[0])
    parts.mouse.release("BTN_LEFT")
    parts.mouse.turn(REL_X=9)
    assert reports(itself, count=2)[-1] == [("REL_X", 9)] and reports(parts.twin, 0.2) == []
    parts.engine.request("wake", surface="mouse")
    parts.engine.wait_until("mouse:taken")
    parts.mouse.turn(REL_X=9)
    assert reports(parts.twin, count=1) == [[("REL_X", 9)]]


def test_unbound_motion_and_buttons_pass_where_unbound_passes(parts: Parts) -> None:
    text = DESK.replace('takes = ["back", "motion while aim"]', 'unbound = "pass"')
    (parts.folder / "desk.toml").write_text(text)
    parts.wait(lambda: parts.unbound() == "pass")
    parts.engine.wait_until("mouse:taken")
    twin = twin_of(parts.mouse)
    parts.mouse.write(("REL_X", 2), ("REL_Y", 2))
    parts.mouse.write(("REL_WHEEL", -1), ("REL_WHEEL_HI_RES", -120))
    assert reports(twin, count=2) == [[("REL_X", 2), ("REL_Y", 2)], [("REL_WHEEL", -1), ("REL_WHEEL_HI_RES", -120)]]
    parts.mouse.tap("BTN_LEFT")
    assert [(name, down) for name, down, _ in parts.pointer.read(2)] == [("BTN_LEFT", 1), ("BTN_LEFT", 0)]
    parts.mouse.tap("BTN_SIDE")
    assert [(name, value) for name, value, _ in parts.keys.read(2)] == [("KEY_F13", 1), ("KEY_F13", 0)]
    (parts.folder / "desk.toml").write_text(DESK)
    # Its virtual device is another one from then on.
    parts.wait(lambda: parts.unbound() != "pass")
    parts.engine.wait_until("mouse:taken")
    parts.twin = twin_of(parts.mouse)


def test_an_overrun_leaves_nothing_down_on_either_side(parts: Parts) -> None:
    import os
    os.kill(parts.engine.process.pid, signal.SIGSTOP)
    for _ in range(200):
        parts.mouse.write(("REL_X", 1), ("REL_Y", 1))
    parts.mouse.press("BTN_RIGHT")
    parts.mouse.press("BTN_SIDE")
    parts.mouse.release("BTN_SIDE")
    os.kill(parts.engine.process.pid, signal.SIGCONT)
    parts.wait(lambda: parts.twin.active_keys() == [evdev.ecodes.BTN_RIGHT])
    parts.mouse.release("BTN_RIGHT")
    parts.wait(lambda: parts.twin.active_keys() == [])
    assert list(itertools.chain(parts.keys.device.active_keys())) == []
