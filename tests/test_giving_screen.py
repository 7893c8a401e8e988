"""Taking a parcel in, fitting it, what sleeps, and the desk's versions: driven in a real terminal on the demo."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import pytest

from brass_pebble import paths
from brass_pebble.demo import demo_desk
from brass_pebble.engine.disk.packages.parcel_file import pack_desk, read_parcel
from terminal import Terminal
from test_giving import LAMP, store_in


@pytest.fixture(autouse=True)
def given(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A parcel in the folder where the program is started: a numpad that differs, and a macro that is new."""
    monkeypatch.chdir(tmp_path)
    copy = tmp_path / "giver"
    source = demo_desk()
    (copy / "macros").mkdir(parents=True)
    text = (source / "desk.toml").read_text().replace('7 = { tap = "Ctrl+Alt+1", label = "wide"',
                                                      '7 = { tap = "Ctrl+Alt+9", label = "total"')
    (copy / "desk.toml").write_text(text.replace('1 = { tap = "Ctrl+Alt+T", label = "title", tint = "wheat" }\n2',
                                                 '1 = { play = "lamp-on" }\n2'))
    for file in (source / "macros").glob("*.macro"):
        (copy / "macros" / file.name).write_text(file.read_text().replace("wait 300ms", "wait 500ms"))
    (copy / "macros" / "lamp-on.macro").write_text(LAMP)
    parcel = tmp_path / "tideline.zip"
    parcel.write_bytes(pack_desk(store_in(copy, tmp_path / "giver-state"), surfaces=["left-numpad"]))
    return parcel


def desk() -> dict[str, Any]:
    return tomllib.loads((demo_desk() / "desk.toml").read_text())


def test_a_parcel_is_looked_at_chosen_from_and_taken_in(demo: Terminal) -> None:
    before = desk()
    demo.keys("I")
    demo.wait("tideline.zip")
    demo.keys("Enter")
    demo.wait(lambda screen: all(text in screen for text in ("Nothing has changed yet.", "Lamp on",
                                                             "off until you approve")))
    demo.wait("7, in class: tap Ctrl+Alt+1 → tap Ctrl+Alt+9")
    demo.wait(lambda text: "YOURS" in text and "THEIRS" in text and "total" in text)
    # Both texts of a macro that differs, side by side.
    demo.keys("Down", "Down")
    demo.wait(lambda text: "wait 300ms" in text and "wait 500ms" in text)
    # What reaches outside: the program stays asleep, the text is approved.
    demo.keys("Down", "Down", "Down")
    demo.wait("It does nothing until you approve it")
    demo.keys("Down", "a")
    demo.wait("✓ Approved.")
    assert desk() == before
    demo.keys("Home")
    demo.wait("surface Left numpad")
    demo.keys("Space")
    demo.wait(lambda text: "Left numpad                       import" in text)
    demo.keys("I")
    demo.wait("Imported 1 surface and 1 macro from Left numpad")
    assert desk()["surface"]["left-numpad"]["layer"]["class"]["press"]["7"]["label"] == "total"
    # Which device it is stays mine, and what is the same keeps its remarks.
    assert desk()["surface"]["left-numpad"]["device"]["port"] == "bench hub, left"
    assert "# cameras" in (demo_desk() / "desk.toml").read_text()
    demo.wait("1 problem (p)")
    # The guests, each approved by itself, and then all of a macro.
    demo.keys("G")
    screen = demo.wait("steps wait for approval")
    assert "runs a program" in screen and 'type "Lamp is on"' not in screen
    demo.keys("a")
    demo.wait(lambda text: "runs a program" not in text and "calls an address" in text)
    demo.keys("C-a")
    demo.wait(lambda text: "calls an address" not in text)
    demo.keys("Escape")
    demo.wait("LEFT NUMPAD")
    # The versions: what that changed, and the way back.
    demo.keys("V")
    demo.wait("Imported 1 surface and 1 macro from Left numpad   now")
    demo.wait("7, in class: tap Ctrl+Alt+1 → tap Ctrl+Alt+9")
    demo.keys("z")
    demo.wait("@@")
    demo.keys("NPage")
    demo.wait("+run \"lamp-tool\"")
    demo.keys("z", "Down")
    demo.wait("initial state")
    demo.keys("=")
    demo.wait("what changed since this version")
    demo.keys("Enter")
    demo.wait("back to version 1, initial state")
    assert desk() == before
    demo.keys("u")
    demo.wait("undone: back to version 1")
    demo.keys("?")
    demo.wait("Keys of the Versions view")


def test_a_surface_is_fitted_to_another_by_position_by_name_and_by_hand(demo: Terminal) -> None:
    demo.keys("I")
    demo.wait("tideline.zip")
    demo.keys("Enter")
    demo.wait("Nothing has changed yet.")
    demo.keys("m")
    demo.wait("16 of 16 placed by position")
    demo.keys(">", ">")
    demo.wait("onto Floor pedals")
    screen = demo.wait("3 of 16 placed by position")
    assert "tray (left out unless placed)" in screen
    demo.keys("i")
    demo.wait("placed by name")
    demo.keys("i")
    demo.wait("3 of 16 placed by position")
    # One from the tray onto the left pedal, by hand.
    demo.wait("in the tray   choose a control")
    demo.keys("Tab", "Enter")
    demo.wait(lambda text: "3 of 16 placed" in text and "close (4)" in text.split("tray (left out")[-1])
    demo.keys("C-s")
    demo.wait("onto Floor pedals")
    demo.keys("I")
    demo.wait("Imported")
    layers = desk()["surface"]["pedals"]["layer"]
    assert {"class", "class-2", "titles", "cut"} <= set(layers) and "left" in layers["class-2"]["press"]


def test_a_desk_is_given_on_and_a_bad_parcel_is_told(demo: Terminal, tmp_path: Path, given: Path) -> None:
    demo.keys("E")
    demo.wait("the whole desk")
    demo.type("surface")
    demo.keys("Enter")
    # What others could read in it is shown before it is written; nothing is without a yes.
    demo.wait(lambda text: "Anyone who gets this file" in text and 'types a text: type "Rye, 24 hours"' in text)
    demo.keys("Escape")
    demo.wait(lambda text: "Anyone who gets this file" not in text)
    assert not (paths.exports_folder() / "left-numpad.zip").exists()
    demo.keys("E")
    demo.wait("the whole desk")
    demo.type("surface")
    demo.keys("Enter")
    demo.wait("Anyone who gets this file")
    demo.keys("Enter")
    demo.wait("Packed")
    assert set(read_parcel(paths.exports_folder() / "left-numpad.zip").surfaces) == {"left-numpad"}
    (tmp_path / "bad.zip").write_bytes(given.read_bytes()[:-40])
    demo.keys("I")
    demo.wait("File to import")
    demo.keys("C-u")
    demo.type(str(tmp_path / "bad.zip"))
    demo.keys("Enter")
    demo.wait("this is not a package of a desk")
    demo.keys("I")
    demo.keys("C-u")
    demo.type("/nowhere/x.zip")
    demo.keys("Enter")
    demo.wait("cannot be read")


def test_these_views_in_a_small_terminal(demo: Terminal) -> None:
    demo.resize(80, 24)
    demo.keys("I")
    demo.wait("tideline.zip")
    demo.keys("Enter")
    demo.wait("Lamp on")
    demo.keys("Escape", "V")
    demo.wait("initial state")
    demo.keys("Escape", "G")
    demo.wait("✓ nothing waits for approval")


def test_a_desk_that_is_new_on_this_computer_is_approved_at_once(tmp_path: Path) -> None:
    desk = tmp_path / "cloned"
    (desk / "macros").mkdir(parents=True, mode=0o700)
    (desk / "macros" / "tool.macro").write_text('run shell "true"\ntype "hello"\n')
    (desk / "desk.toml").write_text('format = 1\nname = "Cloned"\noutput = "stage"\n[surface.pad]\nlayout = "numpad"\n'
                                    '[surface.pad.layer.base.press]\n1 = { play = "tool" }\n')
    terminal = Terminal("--desk", str(desk))
    try:
        terminal.wait("2 steps from somebody else wait for your approval")
        terminal.keys("G")
        terminal.wait("2 steps wait for approval")
        terminal.wait("never open on this computer")
        terminal.keys("A")
        terminal.wait("They are mine")
        terminal.keys("Down", "Enter")
        terminal.wait("nothing waits for approval")
        terminal.keys("Escape")
        terminal.wait(lambda text: "wait for your approval" not in text)
    finally:
        terminal.close()
