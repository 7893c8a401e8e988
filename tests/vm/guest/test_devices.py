"""Runs inside the virtual machine, with real kernel devices on both sides of the engine."""

from __future__ import annotations

import select
import signal
import time
from pathlib import Path

import evdev
import pytest
from hid import twin_numpad

from brass_pebble.machine.checkup import checkup
from conftest import Reader, World, console_holds_ctrl, json_lines, run_command

# An emulated machine on a busy host stalls for a while now and then: one of a few presses has to be this near, in s.
EMULATED = 0.05


def keys(events: list[tuple[str, int, float]]) -> list[str]:
    return [f"{name.removeprefix('KEY_')}{'+' if value else '-'}" for name, value, _ in events]


def is_free(node: str) -> bool:
    device = evdev.InputDevice(node)
    try:
        device.grab()
        device.ungrab()
        return True
    except OSError:
        return False
    finally:
        device.close()


def test_the_same_key_on_each_twin_plays_its_own_macro(world: World) -> None:
    assert world.running.ask() == "left:taken right:taken"
    presses = (("left", ["LEFTCTRL+", "A+", "A-", "LEFTCTRL-", "B+", "B-"], (0, 0, 0.040, 0.040, 0.140, 0.200)),
               ("right", ["F13+", "F13-"] * 3, (0, 0.040, 0.080, 0.120, 0.160, 0.200)))
    for side, expected, planned in presses:
        furthest = []
        for _ in range(25):
            getattr(world, side).tap("5")
            events = world.sent.read(6)
            assert keys(events) == expected
            furthest.append(max(abs(at - events[0][2] - plan)
                                for (_, _, at), plan in zip(events, planned, strict=True)))
            if furthest[-1] < EMULATED:
                break
        assert min(furthest) < EMULATED, furthest
    told = world.running.traces()
    assert {(trace["surface"], trace["target"]) for trace in told} == {("left", "left"), ("right", "right")}
    # That nothing ever leaves early holds however slow the machine is.
    for effect in [effect for trace in told for effect in trace["sent"]]:
        assert effect["at_ms"] >= effect["planned_ms"]


def test_what_a_surface_sends_reaches_nobody_else(world: World) -> None:
    other = Reader(world.left.node)
    world.left.tap("1")
    assert other.read(1, seconds=1) == []
    assert world.sent.read(1, seconds=0.5) == []
    assert "nothing bound; swallowed" in str(world.running.traces()[-1]["sentence"])


def test_unbound_keys_pass_through_where_the_desk_says_so(world: World) -> None:
    world.right.tap("1")
    assert keys(world.sent.read(2)) == ["KP1+", "KP1-"]


def test_the_main_keyboard_stays_as_it_was(world: World) -> None:
    before = len(world.running.traces())
    programs = Reader(world.main.node)
    for key in "HI":
        world.main.tap(key)
    assert keys(programs.read(4)) == ["H+", "H-", "I+", "I-"]
    assert world.sent.read(1, seconds=0.5) == []
    assert len(world.running.traces()) == before
    assert is_free(world.main.node)


def test_a_sustained_chord_lasts_as_long_as_the_key(world: World) -> None:
    world.left.press("0")
    assert keys(world.sent.read(2)) == ["LEFTCTRL+", "M+"]
    assert world.sent.read(1, seconds=0.4) == []
    assert console_holds_ctrl()
    world.left.release("0")
    assert keys(world.sent.read(2)) == ["M-", "LEFTCTRL-"]
    assert not console_holds_ctrl()


def test_pulled_out_in_the_middle_of_a_press(world: World) -> None:
    world.left.press("0")
    assert keys(world.sent.read(2)) == ["LEFTCTRL+", "M+"]
    world.left.pull_out()
    assert keys(world.sent.read(2)) == ["M-", "LEFTCTRL-"]
    world.running.wait_until("left:missing right:taken")
    world.right.press("0")
    assert keys(world.sent.read(1)) == ["F14+"]
    world.right.release("0")
    assert keys(world.sent.read(1)) == ["F14-"]
    world.left = twin_numpad("left")
    world.running.wait_until("left:taken right:taken")
    world.left.tap("5")
    assert keys(world.sent.read(6))[:2] == ["LEFTCTRL+", "A+"]


def test_a_resting_pad_types_normally_and_its_own_key_wakes_it(world: World) -> None:
    programs = Reader(world.left.node)
    world.left.tap("dot")
    world.running.wait_until("left:resting")
    programs.read(2, seconds=0.3)
    world.left.tap("5")
    assert keys(programs.read(2)) == ["KP5+", "KP5-"]
    assert world.sent.read(1, seconds=0.3) == []
    world.left.tap("dot")
    world.running.wait_until("left:taken")
    programs.read(2, seconds=0.3)
    world.left.tap("5")
    assert keys(world.sent.read(6))[:2] == ["LEFTCTRL+", "A+"]
    assert programs.read(1, seconds=0.3) == []
    # The same key works every time, and what is typed while a pad rests is no command when it wakes.
    world.left.tap("dot")
    world.running.wait_until("left:resting")
    world.left.tap("dot")
    world.running.wait_until("left:taken")
    world.running.request("rest", surface="right")
    typed = Reader(world.right.node)
    world.right.tap("5")
    assert keys(typed.read(2)) == ["KP5+", "KP5-"]
    world.running.request("wake", surface="right")
    assert world.sent.read(1, seconds=0.5) == []
    world.right.tap("5")
    assert keys(world.sent.read(6)) == ["F13+", "F13-"] * 3
    assert world.running.request("rest")["states"] == {"left": "resting", "right": "resting"}
    assert is_free(world.left.node) and is_free(world.right.node)
    assert world.running.request("wake")["states"] == {"left": "taken", "right": "taken"}


def test_a_macro_from_outside_is_played_and_stopped(world: World) -> None:
    (world.desk / "macros" / "long.macro").write_text("down F15\nwait 30s\n")
    time.sleep(2)
    world.running.request("play", macro="long")
    assert keys(world.sent.read(1)) == ["F15+"]
    code, text = run_command("brass-pebble", "stop")
    assert (code, text) == (0, "Stopped 1 run; nothing is down.\n")
    assert keys(world.sent.read(1)) == ["F15-"]


def test_devices_lists_the_twins_apart_and_never_its_own_keyboard(world: World) -> None:
    code, text = run_command("brass-pebble", "devices", "--json")
    assert code == 0
    found = [(row["name"], row["port"]) for row in json_lines(text)]
    assert ("Marram numeric pad", "usb-bench-left") in found
    assert ("Marram numeric pad", "usb-bench-right") in found
    assert ("Harbour keyboard", "usb-bench-main") in found
    assert not any("Brass" in str(name) for name, _ in found)
    full = {row["name"]: row["full"] for row in json_lines(text)}
    assert full["Harbour keyboard"] and not full["Marram numeric pad"]


def test_a_second_engine_refuses_and_names_the_first(world: World) -> None:
    code, text = run_command("brass-pebble", "run", "--desk", str(world.desk))
    assert code == 5
    assert str(world.running.process.pid) in text
    assert "Traceback" not in text


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGKILL])
def test_ending_in_the_middle_of_a_hold_leaves_nothing_down(world: World, number: signal.Signals) -> None:
    world.left.press("0")
    assert keys(world.sent.read(2)) == ["LEFTCTRL+", "M+"]
    assert console_holds_ctrl()
    assert not is_free(world.left.node)
    assert world.engine
    world.engine.process.send_signal(number)
    if number != signal.SIGKILL:
        assert keys(world.sent.read(2)) == ["M-", "LEFTCTRL-"]
    code = world.engine.process.wait(timeout=60)
    assert code == (-signal.SIGKILL if number == signal.SIGKILL else 0)
    end = time.monotonic() + 2
    while console_holds_ctrl() and time.monotonic() < end:
        time.sleep(0.05)
    assert not console_holds_ctrl()
    assert is_free(world.left.node)
    assert is_free(world.right.node)
    programs = Reader(world.left.node)
    world.left.release("0")
    world.left.tap("5")
    assert keys(programs.read(3)) == ["KP0-", "KP5+", "KP5-"]


def test_held_or_taken_devices_wait_their_turn(shared: World) -> None:
    if shared.engine:
        shared.engine.end()
    shared.let_go()
    programs = Reader(shared.left.node)
    shared.left.press("5")
    assert keys(programs.read(1)) == ["KP5+"]
    other = evdev.InputDevice(shared.right.node)
    other.grab()
    engine = shared.start()
    assert engine.ask() == "left:waiting right:refused"
    assert any("already taken over by another program" in line for line in engine.lines)
    found = [f for f in checkup(shared.desk) if f.state == "wrong"]
    assert [f.about for f in found] == ["Left", "Right"]
    assert "waits until its keys are let go" in found[0].means
    assert "already taken over by another program" in found[1].means
    shared.left.release("5")
    assert keys(programs.read(1)) == ["KP5-"]
    engine.wait_until("left:taken")
    shared.left.tap("5")
    assert keys(shared.sent.read(4)) == ["LEFTCTRL+", "A+", "A-", "LEFTCTRL-"]
    assert programs.read(1, seconds=0.3) == []
    engine.end()
    found = [f.means for f in checkup(shared.desk) if f.state == "wrong"]
    assert ["“Marram numeric pad” is taken over by" in text for text in found] == [True]
    other.close()
    assert [f for f in checkup(shared.desk) if f.state == "wrong"] == []


def write_macro(world: World, name: str, text: str) -> None:
    (world.desk / "macros" / f"{name}.macro").write_text(text)
    end = time.monotonic() + 60
    while not any(m["id"] == name for m in world.running.request("desk")["desk"]["macros"]):
        assert time.monotonic() < end
        time.sleep(0.1)


def pointer_events(world: World, name: str, count: int) -> list[tuple[str, int]]:
    node = next(f"/dev/input/{entry.name}" for entry in Path("/sys/class/input").glob("event*")
                if (entry / "device/name").read_bytes().strip() == f"Brass Pebble {name}".encode())
    device, found = evdev.InputDevice(node), []
    world.running.request("play", macro="mouse")
    end = time.monotonic() + 10
    while len(found) < count and time.monotonic() < end:
        if select.select([device.fd], [], [], 0.5)[0]:
            found += [(evdev.ecodes.bytype[event.type][event.code], event.value) for event in device.read()
                      if event.type in (evdev.ecodes.EV_KEY, evdev.ecodes.EV_REL, evdev.ecodes.EV_ABS)]
    device.close()
    return [(name if isinstance(name, str) else name[0], value) for name, value in found]


def test_the_pointer_leaves_through_devices_of_its_own(world: World) -> None:
    write_macro(world, "mouse", "move by 7 -3\nclick\nscroll up 2\nmove to 50% 100%\n")
    assert pointer_events(world, "pointer", 8) == [
        ("REL_X", 7), ("REL_Y", -3), ("BTN_LEFT", 1), ("BTN_LEFT", 0),
        *[("REL_WHEEL", 1), ("REL_WHEEL_HI_RES", 120)] * 2]
    assert sorted(pointer_events(world, "places", 2)) in ([("ABS_X", 16384), ("ABS_Y", 32767)], [])


def test_a_modifier_held_on_the_main_keyboard_is_waited_for_or_told(world: World) -> None:
    world.main.press("shift")
    time.sleep(0.3)
    world.left.press("5")
    # In less than the desk's patience; and the press is there long before it, in however slow a machine.
    time.sleep(0.35)
    world.main.release("shift")
    events = world.sent.read(6)
    assert keys(events) == ["LEFTCTRL+", "A+", "A-", "LEFTCTRL-", "B+", "B-"]
    world.left.release("5")
    time.sleep(0.5)
    told = world.running.traces()[-1]
    assert any("until the main keyboard's modifiers were up" in str(remark) for remark in told["remarks"]), told
    # Held on for longer than the desk's patience: sent all the same, and said so.
    world.main.press("shift")
    time.sleep(0.3)
    world.left.tap("5")
    assert len(world.sent.read(6)) == 6
    world.main.release("shift")
    time.sleep(0.5)
    told = world.running.traces()[-1]
    assert "Shift was held on the main keyboard and got mixed in" in str(told["remarks"]), told


def test_text_is_right_under_caps_lock(world: World) -> None:
    write_macro(world, "text", 'type "aB"\n')
    keyboard = next(evdev.InputDevice(path) for path in evdev.list_devices()
                    if evdev.InputDevice(path).name.startswith("AT Translated"))
    for lit, expected in ((0, ["A+", "A-", "LEFTSHIFT+", "B+", "B-", "LEFTSHIFT-"]),
                          (1, ["LEFTSHIFT+", "A+", "A-", "LEFTSHIFT-", "B+", "B-"])):
        keyboard.set_led(evdev.ecodes.LED_CAPSL, lit)
        time.sleep(0.2)
        world.running.request("play", macro="text")
        assert keys(world.sent.read(6)) == expected
    keyboard.set_led(evdev.ecodes.LED_CAPSL, 0)
