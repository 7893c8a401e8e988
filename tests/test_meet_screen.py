"""The Meet view, the surface's settings and the Checkup view in a real terminal, by keys and by mouse."""

from __future__ import annotations

import re
import signal
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from brass_pebble.client import EngineClient, running_sockets, start_engine
from brass_pebble.core.signals.keys import key_table
from brass_pebble.demo import demo_desk
from brass_pebble.paths import user_layouts
from conftest import wait_for
from terminal import Terminal
from test_meet import BENCH, nobody_met


@pytest.fixture
def empty(tmp_path: Path) -> Iterator[Terminal]:
    """A desk with nothing on it, and a bench with devices that nobody has met."""
    with nobody_met(tmp_path) as desk:
        terminal = Terminal("--desk", str(desk))
        terminal.wait("This desk has no surfaces yet")
        yield terminal
        terminal.close()


def click(terminal: Terminal, *texts: str) -> None:
    """Press with the mouse what stands lowest on the screen, and let it go; the first of the texts that is there."""
    terminal.wait(lambda screen: any(text in screen for text in texts))
    before = ""
    # Aimed at only when it has come to rest, as a person would.
    while before != (before := terminal.screen()):
        time.sleep(0.25)
    text = next(text for text in texts if text in before)
    x, y = [(line.index(text), row) for row, line in enumerate(before.splitlines()) if text in line][-1]
    terminal.mouse(x, y, down=True)
    terminal.mouse(x, y, down=False)


def mark_main(terminal: Terminal) -> None:
    terminal.keys("M")
    terminal.wait("First, press any key on the keyboard you type on")
    terminal.wait("pgdn")
    click(terminal, "caps")
    terminal.wait("Press any key on the device you want to use.")


def test_from_an_unmet_device_to_a_surface_that_works(demo: Terminal) -> None:
    mark_main(demo)
    demo.wait("is the surface Floor pedals")
    click(demo, "Kettle six-key")
    demo.wait("ON THE BENCH   Kettle six-key knob pad")
    demo.keys("Tab", "Enter")
    demo.wait("That is the Kettle six-key knob pad, bench hub, front.")
    demo.wait("KEY_F19 0xbd")
    demo.keys("BTab")
    time.sleep(0.4)
    demo.keys("Enter")
    demo.wait("Choose a drawing.")
    demo.wait("Six keys and a knob: it has 9 keys")
    demo.keys("Enter")
    demo.wait("Press “1” on the device (9 to go)")
    demo.keys("Tab")
    for name, move in zip("123654", ("Right", "Right", "Down", "Left", "Left", "Up"), strict=True):
        # Walked as drawn: 1 2 3, then 4 5 6; the bench's cursor goes around.
        if name in "123":
            demo.keys("Enter")
            demo.wait(f"“{name}” sends F{18 + int(name)}")
        demo.keys(move)
    demo.keys("Down", "Enter", "Right", "Enter", "Right", "Enter")
    demo.wait("“6” sends F24")
    demo.wait("Press “knob-left” on the device (3 to go)")
    demo.keys("Right", "Enter", "Right", "Enter", "Right", "Enter")
    demo.wait("Press every control once: 0 of 9 pressed")
    time.sleep(0.3)  # The last key that was learnt comes up; that is no press of this step.
    demo.wait("Press every control once: 0 of 9 pressed")
    demo.keys("Enter")
    demo.wait("Press every control once: 1 of 9 pressed")
    demo.keys("Left", "Enter")
    demo.wait("Press every control once: 2 of 9 pressed")
    demo.keys("Escape")
    demo.wait("Enter ready")
    demo.keys("Enter")
    demo.wait("KETTLE SIX-KEY KNOB PAD")
    demo.keys("b")
    demo.wait("Chord, macro or action")
    demo.type("ctrl+alt+2")
    demo.keys("Enter")
    demo.wait("Saved. u: undo")
    demo.keys("Enter")
    demo.wait("Ovenlight: camera hob on air")
    text = (demo_desk() / "desk.toml").read_text()
    assert 'serial = "KT-40172"' in text and "knob-pad-6" in text and '1 = "F19"' in text


def test_the_main_keyboard_steers_and_chooses_nothing(demo: Terminal) -> None:
    mark_main(demo)
    click(demo, "Kettle six-key")
    demo.wait("ON THE BENCH   Kettle six-key knob pad")
    with EngineClient(running_sockets()[0]) as client:
        for down in (True, False):
            client.ask("press", device="bench/main-keyboard", code=key_table().find("Enter").code, down=down)
    demo.wait("KEY_ENTER")
    demo.wait("ON THE BENCH   Kettle six-key knob pad")
    demo.keys("Enter")
    demo.wait("Choose a drawing.")


def test_walking_the_keys_of_a_device_nobody_has_drawn(empty: Terminal) -> None:
    mark_main(empty)
    click(empty, "Juniper")
    empty.wait("ON THE BENCH   Juniper")
    empty.keys("Enter")
    empty.wait("Choose a drawing.")
    empty.keys("n")
    empty.wait("Press the keys in reading order.")
    click(empty, "╭ 3 ")
    empty.wait("F15 drawn in row 1")
    click(empty, "╭ 4 ")
    empty.wait("F16 drawn in row 1")
    empty.keys("n")
    empty.wait("A new row")
    click(empty, "╭ 5 ")
    empty.wait("F17 drawn in row 2")
    empty.wait("3 drawn")
    empty.keys("+", "+", "F2")
    empty.wait("Key legend")
    empty.keys("BSpace", "BSpace", "BSpace")
    # In a busy machine letters overtake the keys that are bound to something; nobody types so fast.
    time.sleep(1)
    empty.type("cut")
    empty.keys("Enter")
    empty.wait(re.compile(r"^ *cut *$", re.MULTILINE).search)
    empty.keys("Up", "DC")
    empty.wait("2 drawn")
    empty.keys("u")
    empty.wait("3 drawn")
    empty.keys("Enter")
    empty.wait("Press every control once: 0 of 3 pressed")
    click(empty, "╭ 1 ")
    empty.wait("is not on the drawing")
    for number, name in enumerate("345", 1):
        click(empty, f"╭ {name} ")
        empty.wait("All 3 controls work" if number == 3 else f"{number} of 3 pressed")
    empty.keys("Enter")
    empty.wait("◉ armed")
    empty.wait("cut")
    (file,) = user_layouts().glob("*.toml")
    assert 'legend = "cut"' in file.read_text() and 'fits = ["4a50:0001"]' in file.read_text()


def test_a_press_that_arrives_twice_is_explained_on_the_screen(empty: Terminal) -> None:
    mark_main(empty)
    click(empty, "Juniper")
    empty.wait("ON THE BENCH   Juniper")
    click(empty, "╭ 1 ")
    empty.wait("One press arrived twice: F13")
    empty.wait("Press it once more to be sure.")
    time.sleep(0.4)
    empty.keys("2")
    empty.wait("Enter: take it over")
    time.sleep(0.4)
    empty.keys("Enter")
    empty.wait("Choose a drawing.")
    empty.keys("Escape")
    empty.wait("JUNIPER")


def test_the_only_keyboard_is_taken_on_trial_and_kept_by_typing_keep(empty: Terminal) -> None:
    empty.keys("M")
    empty.wait("First, press any key on the keyboard you type on")
    empty.keys("F3")
    empty.wait("Press any key on the device you want to use.")
    empty.keys("Enter")
    empty.wait("is the only full keyboard here")
    empty.type("take my only keyboard")
    empty.keys("Enter")
    empty.wait("On trial: given back after ten seconds.")
    empty.wait(" K   ")
    time.sleep(0.5)
    for key in "KEEP":
        # Quickly, as one types: there are ten seconds.
        places = [(line.index(f" {key}   ") + 1, row) for row, line in enumerate(empty.screen().splitlines())
                  if f" {key}   " in line]
        for down in (True, False):
            empty.mouse(*places[-1], down=down)
    empty.wait("It stays a surface.")
    empty.keys("Escape")
    empty.wait("HARBOUR KEYBOARD  ◆")


def test_what_was_refused_is_tried_and_kept_on_the_desk(tmp_path: Path) -> None:
    with nobody_met(tmp_path) as desk:
        (desk / "desk.toml").write_text('format = 1\nname = "One"\n[surface.all]\nname = "All"\nlayout = "full-ansi"\n'
                                        'device = { name = "Harbour keyboard" }\n')
        terminal = Terminal("--desk", str(desk))
        try:
            terminal.wait("✗ refused")
            terminal.wait(lambda screen: "k keep it" not in screen)
            terminal.keys("o")
            terminal.wait("All is on trial: it is given back after ten seconds. k: keep it.")
            # By mouse alone as well.
            click(terminal, "keep it")
            terminal.wait(lambda screen: "on trial" not in screen and "refused" not in screen)
            assert "may_be_only_keyboard = true" in (desk / "desk.toml").read_text()
        finally:
            terminal.close()


def test_a_device_pulled_out_greys_its_surface_and_comes_back(demo: Terminal) -> None:
    mark_main(demo)
    click(demo, "Tern three-pedal board")
    demo.wait("ON THE BENCH   Tern")
    demo.keys("o")
    demo.wait(lambda screen: "Tern three-pedal board" not in screen.split("ON THE BENCH")[0].split("steps")[-1])
    demo.keys("Escape")
    demo.wait("✗ missing")
    demo.wait("◌ 6 of 7 armed")
    demo.keys("M")
    demo.wait("pull out / plug in")
    demo.keys("o")
    demo.wait("Tern three-pedal board")
    demo.keys("Escape")
    demo.wait("◉ armed")


def test_settings_of_a_surface_by_keys(demo: Terminal) -> None:
    demo.keys("i")
    demo.wait("unbound controls   are swallowed")
    demo.wait("known by: same name; in the same port")
    demo.keys("Down", "Enter")
    demo.wait("pass through to the focused program")
    demo.keys("Down", "Down", "Enter")
    demo.wait("debounce           5 ms")
    demo.keys("Down", "Enter")
    demo.wait("held for           400 ms")
    demo.keys("Down", "Down", "Down", "Enter")
    demo.wait("lit while armed")
    demo.keys("Escape")
    demo.wait(lambda screen: "remove it from the desk" not in screen)
    demo.keys("u", "u", "u", "u")
    file = demo_desk() / "desk.toml"
    wait_for(lambda: not any(word in file.read_text() for word in ("unbound", "debounce", "lamps", "400ms")))
    demo.keys("i")
    demo.wait("unbound controls   are swallowed")
    demo.keys("Escape")
    demo.wait(lambda screen: "remove it from the desk" not in screen)
    demo.keys("m")
    demo.wait("✥ Move this surface with the arrows")
    demo.keys("Down", "Down", "Enter")
    demo.wait(lambda screen: "✥ Move this surface with the arrows" not in screen)
    wait_for(lambda: "at = [0.0, 1.0]" in (demo_desk() / "desk.toml").read_text())
    demo.keys("u")
    wait_for(lambda: "at = [0, 0]" in (demo_desk() / "desk.toml").read_text())


def test_the_checkup_view_explains_and_draws(demo: Terminal) -> None:
    demo.keys("C")
    demo.wait("Checkup   ✗")
    demo.wait("✓ Floor pedals")
    click(demo, "✓ Floor pedals")
    demo.wait("Tern three-pedal board, bench floor, known by: same name")
    demo.wait("middle")
    demo.keys("Escape")
    demo.wait("LEFT NUMPAD")


def test_the_meet_view_in_eighty_by_twenty_four() -> None:
    terminal = Terminal("demo", size=(80, 24))
    try:
        terminal.wait("◉ armed")
        terminal.keys("M")
        terminal.wait("First, press any key")
        terminal.wait("Kettle six-key knob pad")
        terminal.keys("Down", "Down", "Down", "Down")
        terminal.wait("ON THE BENCH   Kettle")
        terminal.keys("Tab", "Right", "Enter")
        terminal.wait("F20")
    finally:
        terminal.close()


MOUSE = """
[[device]]
id = "bench/mouse"
name = "Petrel mouse"
vendor = "5045"
product = "0008"
port = "bench hub, front"
layout = "mouse"
points = true
rels = [0, 1, 8]
"""


@pytest.fixture
def with_mouse(tmp_path: Path) -> Iterator[tuple[Terminal, Path]]:
    """A desk with nothing on it, and a mouse among the devices."""
    desk = tmp_path / "desk"
    desk.mkdir(mode=0o700)
    (desk / "desk.toml").write_text('format = 1\nname = "New"\noutput = "stage"\n')
    (tmp_path / "bench.toml").write_text(BENCH + MOUSE)
    _, process = start_engine(desk, "--bench", str(tmp_path / "bench.toml"), "--bench-only")
    terminal = Terminal("--desk", str(desk))
    terminal.wait("This desk has no surfaces yet")
    yield terminal, desk
    terminal.close()
    process.send_signal(signal.SIGTERM)
    process.wait(timeout=10)


def test_taking_over_a_mouse_asks_which_parts_are_wanted(with_mouse: tuple[Terminal, Path]) -> None:
    terminal, desk = with_mouse
    mark_main(terminal)
    click(terminal, "Petrel mouse")
    terminal.wait("Petrel mouse ▸")
    terminal.keys("Enter")
    terminal.wait("Which parts of Petrel mouse")
    terminal.wait("its extra button; it goes on pointing and clicking")
    terminal.keys("Escape")
    terminal.wait(lambda screen: "Which parts of" not in screen)
    assert "takes" not in (desk / "desk.toml").read_text()
    terminal.keys("Enter")
    click(terminal, "its extra button")
    wait_for(lambda: 'takes = ["ButtonSide"]' in (desk / "desk.toml").read_text())
    terminal.keys("Escape")
    terminal.wait("PETREL MOUSE")
    # Changed later in the settings of the surface.
    terminal.keys("i")
    terminal.wait("parts taken        ButtonSide")
    click(terminal, "parts taken")
    terminal.type(", motoin while base")
    terminal.keys("Enter")
    terminal.wait("this device has no part")
    click(terminal, "parts taken")
    terminal.keys("C-u")
    terminal.type("back, motion while base")
    terminal.keys("Enter")
    terminal.wait("parts taken        back, motion while base")
    click(terminal, "hands off for two minutes")
    terminal.wait("hands on: presses act again")
    terminal.keys("Escape")
    terminal.wait("⊘ HANDS OFF")


def test_hands_off_selects_what_is_pressed_and_nothing_else(demo: Terminal) -> None:
    demo.keys("H")
    demo.wait("⊘ HANDS OFF (H)")
    demo.wait("Hands off: presses only select, for 2 minutes.")
    with EngineClient(running_sockets()[0], "test") as client:
        for down in (True, False):
            client.ask("press", surface="left-numpad", control="9", down=down)
    demo.wait("hands off: selected only, nothing is sent")
    demo.wait("Left numpad ▸ 9")
    demo.keys("H")
    demo.wait("All surfaces act again.")
    demo.wait(lambda screen: "⊘" not in screen)
