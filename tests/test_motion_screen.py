"""Pads, knobs, a controller, curves and the network on the screen, driven in a real terminal on the demo."""

from __future__ import annotations

import random
import time
import tomllib
import xml.etree.ElementTree as Xml
from pathlib import Path

from brass_pebble import paths
from brass_pebble.demo import demo_desk
from terminal import Terminal
from test_network import Tablet, free_ports


def desk() -> dict[str, object]:
    return tomllib.loads((demo_desk() / "desk.toml").read_text())


def stick(name: str = "stick-left") -> dict[str, object]:
    axis = desk()["surface"]["controller"].get("axis", {})  # type: ignore[index]
    return dict(axis.get(name, {}))


def test_rows_of_the_desk_and_a_struck_pad(demo: Terminal) -> None:
    demo.wait("row 1 of 3 (PgDn)")
    demo.keys("NPage")
    screen = demo.wait("SIXTEEN PADS")
    assert "LEFT NUMPAD" not in screen and "KNOB PAD" in screen and "Ovenlight" in screen
    demo.keys("Down", "Down", "Down", "Enter")
    demo.wait("Sixteen pads 1, strike 80 to 127, in Show")
    demo.wait("sting: bell, loud")
    demo.keys("PPage", "PPage")
    demo.wait("row 3 of 3")
    demo.keys("z")
    demo.wait(lambda text: "CONTROLLER" in text and "row" not in text.splitlines()[0])
    demo.keys("z")
    demo.wait(lambda text: "LEFT NUMPAD" in text and "PADS  ◆ Show" in text)
    demo.keys("z", "PPage", "PPage")
    demo.wait("row 1 of 3")


def test_a_knob_is_turned_by_key_and_by_wheel(demo: Terminal) -> None:
    demo.keys("NPage")
    demo.wait("KNOB PAD")
    x, y = demo.find("knob ")
    demo.mouse(x + 2, y + 2, down=True)
    demo.mouse(x + 2, y + 2, down=False)
    demo.wait("Knob pad ▸ knob")
    demo.keys("]", "]", "[", "]")
    demo.wait("zoom 30 %")
    # The wheel of the mouse, as a terminal reports it.
    demo._tmux("send-keys", "-l", f"\x1b[<65;{x + 3};{y + 3}M")
    demo.wait("Knob pad knob, turn left, in Mix")
    demo.wait("zoom 25 %")
    demo.keys("Left", "]")
    demo.wait("This control does not move.")


def test_a_stick_drives_the_stage_and_its_curve_is_changed_live(demo: Terminal, tmp_path: Path) -> None:
    demo.keys("NPage", "NPage", "Down", "Down", "Down", "Down", "]")
    demo.wait("Controller stick-left, move, in Arm: ")
    demo.keys("]", "]", "]", "]")
    demo.wait("camera arm at 2")
    demo.keys("Y")
    demo.wait("how far from its rest it counts as resting")
    before = demo.wait("◂ 15 % ▸")
    assert "50.0 %  leads to" in before
    demo.keys("Right", "Right")
    demo.wait(lambda text: "◂ 17 % ▸   was 15 %" in text)
    demo.keys("Down", "Down", "Right")
    demo.wait("◂ 1.7 ▸   was 1.6")
    demo.wait(lambda text: stick() == {"dead": "17 %", "curve": 1.7})
    # As it was, felt on the device, and back again.
    demo.keys("=")
    demo.wait("before the change (=: after)")
    demo.wait(lambda text: stick() == {"dead": "15 %", "curve": 1.6})
    demo.keys("=")
    demo.wait(lambda text: stick() == {"dead": "17 %", "curve": 1.7})
    # The other axis for itself.
    demo.keys("Tab")
    demo.wait("down  (Tab: the other)")
    demo.keys("Down", "Right")
    demo.wait("turned round    ◂ yes ▸")
    demo.wait(lambda text: stick("stick-left down").get("invert") is True)
    demo.keys("u")
    demo.wait(lambda text: stick("stick-left down") == {})
    demo.keys("Escape")
    demo.wait("CONTROLLER")
    demo.keys("\\")
    demo.wait("camera arm at 0")
    demo.keys("Left", "Y")
    demo.wait("This control does not move, so it has no curve.")


def test_an_axis_is_calibrated_by_moving_it(demo: Terminal) -> None:
    demo.keys("NPage", "NPage", "Down", "Down", "Down", "Down", "Y", "F9")
    demo.wait("Move it to both ends a few times, let it rest,")
    demo.keys("Enter")
    demo.wait("it has hardly moved")
    demo.keys("F9")
    demo.wait("Move it to both ends")
    demo.keys("]", "]", "]", "]", "]", "]", "]", "]", *["["] * 14)
    demo.wait("-60.0 %  leads to")
    demo.keys("Enter")
    demo.wait("measured: low -")
    found = stick()
    assert found["low"] == -19661 and found["high"] == 26214
    # What was three fifths of the way is the end now.
    demo.keys("]", "[")
    demo.wait("the device reports")
    demo.keys("u")
    demo.wait("measured: not yet")


def test_a_curve_is_saved_as_a_drawing(demo: Terminal) -> None:
    demo.keys("NPage", "NPage", "Down", "Down", "Down", "Down", "Y")
    demo.wait("dead zone")
    demo.keys("C-s")
    demo.wait("Saved the curve")
    file = paths.exports_folder() / "controller-stick-curve.svg"
    try:
        root = Xml.fromstring(file.read_text())
        assert root.tag.endswith("svg") and "Controller stick" in file.read_text()
        lines = [node for node in root.iter() if node.get("class") == "curve"]
        assert len(lines) == 1 and lines[0].get("d", "").count("L") == 200
    finally:
        file.unlink()


def test_the_network_is_opened_and_says_what_to_do(demo: Terminal) -> None:
    demo.keys("N")
    demo.wait("Nothing is open to the network.")
    port = random.randrange(20_000, 60_000, 2)
    text = (demo_desk() / "desk.toml").read_text()
    (demo_desk() / "desk.toml").write_text(f'{text}\n[network]\nmidi = {port}\nlisten = "127.0.0.1"\n')
    demo.wait(f"◉ MIDI session open at port {port}, as “Saltmarsh Bakehouse”")
    demo.wait("Nobody is connected yet.")
    demo.keys("n")
    demo.wait("Invite another computer")
    demo.type("127.0.0.1:9")
    demo.keys("Enter")
    demo.wait("invited by you")
    demo.keys("1")
    demo.wait("○ MIDI session closed (1 opens it)")
    demo.keys("Escape")
    demo.wait("LEFT NUMPAD")


def test_small_terminals_and_no_colour(demo: Terminal) -> None:
    demo.resize(80, 24)
    demo.keys("NPage", "NPage", "Down", "Down", "Down", "Down", "Y")
    demo.wait("dead zone")
    demo.keys("Right")
    demo.wait("16 %")
    demo.keys("Escape", "N")
    demo.wait("MIDI session")


def test_motions_and_strengths_are_bound_on_the_screen(demo: Terminal) -> None:
    demo.keys("NPage", "Down", "Down", "Right", "Right", "l")
    demo.wait("strike 80 to 127")
    screen = demo.wait("What each control does now")
    assert "turn left" not in screen
    # A soft stroke of pad 7 gets an action of its own: the second row below the five usual gestures.
    demo.wait("Sixteen pads ▸ 7")
    demo.keys("Tab", "Down", "Down", "Down", "Down", "Down", "Enter")
    demo.wait("▸ strike 1 to 79 ▸ Show")
    demo.type("F16")
    demo.wait("tap F16 once")
    demo.keys("Enter")
    demo.wait(lambda text: desk()["surface"]["pads"]["layer"]["show"]["strike 1 to 79"].get("7")  # type: ignore[index]
              == {"tap": "F16"})
    demo.keys("Escape", "Escape")
    demo.wait("KNOB PAD")
    # The stick's position goes on to the pointer; a push taps rapidly, the faster the further.
    demo.keys("NPage", "Down", "Down", "Down", "Down", "Right", "l")
    demo.wait("push left")
    demo.wait("the faster the further")
    demo.keys("b")
    demo.wait("▸ press ▸ Arm")
    demo.keys(*["F5"] * 9)
    demo.wait("▸ move ▸ Arm")
    demo.type("pointer")
    demo.wait("drive pointer x / pointer y")
    demo.keys("Down", "Down", "Enter")
    controller = lambda: desk()["surface"]["controller"]["layer"]["arm"]["move"]  # type: ignore[index]  # noqa: E731
    demo.wait(lambda text: controller().get("stick-right") == {"drive": ["pointer x", "pointer y"]})
    # The file is there a moment before the sheet has gone.
    demo.wait(lambda text: "▸ move ▸ Arm" not in text)
    demo.keys("u")
    demo.wait(lambda text: "stick-right" not in controller())


def test_a_tablet_is_met_walked_and_bound_from_nothing(tmp_path: Path) -> None:
    midi = free_ports()
    (tmp_path / "desk").mkdir(mode=0o700)
    (tmp_path / "desk" / "desk.toml").write_text(
        f'format = 1\nname = "Evening show"\noutput = "stage"\n[network]\nmidi = {midi}\nlisten = "127.0.0.1"\n')
    terminal, tablet = Terminal("--desk", str(tmp_path / "desk")), Tablet(midi, "Gull tablet")
    try:
        terminal.wait("This desk has no surfaces yet.")
        terminal.keys("N")
        terminal.wait("Nobody is connected yet.")
        assert tablet.exchange(b"IN", "control") == b"NO"
        terminal.wait("? asks for access")
        terminal.keys("Enter")
        terminal.wait("Allowed.")
        assert tablet.join() == [b"OK", b"OK"]
        terminal.wait("none yet (M: meet it)")
        terminal.keys("Escape", "M")
        terminal.wait("Gull tablet")

        def strike(note: int) -> None:
            tablet.play(bytes((0x99, note, 90)))
            tablet.play(bytes((0x89, note, 0)))

        def strike_until(text: str, *notes: int) -> None:
            """Whoever plays strikes once more if nothing was to be seen."""
            for _ in range(40):
                for note in notes:
                    strike(note)
                    time.sleep(0.15)
                if text in terminal.screen():
                    return
            raise AssertionError(terminal.screen())
        terminal.wait("Press any key on the device you want to use.")
        strike_until("note 36 on 10 · C2 · 99 24", 36)
        terminal.keys("Enter")
        terminal.wait("Choose a drawing.")
        terminal.keys("n")
        strike_until("pad-2", 36, 37)
        terminal.keys("Enter")
        terminal.wait("4 Try it")
        strike_until("All 2 controls work.", 36, 37)
        terminal.keys("Enter")
        terminal.wait("GULL TABLET")
        strike_until("nothing bound; swallowed", 36)
        terminal.keys("b")
        terminal.wait("Chord, macro or action")
        terminal.type("F13")
        terminal.wait("tap F13 once")
        terminal.keys("Enter")
        terminal.wait("Saved. u: undo")
        strike_until("tapped F13", 36)
    finally:
        terminal.close()
        tablet.close()
