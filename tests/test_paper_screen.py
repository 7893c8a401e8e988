"""The Labels and the Usage view and the glance at one surface, driven in a real terminal on the demo."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import pytest

from brass_pebble import paths
from brass_pebble.demo import demo_desk
from terminal import Terminal
from test_labels import cuts_in_svg


@pytest.fixture(autouse=True)
def in_a_folder_of_its_own(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)


def surface(name: str = "left-numpad") -> dict[str, Any]:
    found: dict[str, Any] = tomllib.loads((demo_desk() / "desk.toml").read_text())["surface"][name]
    return found


def test_labels_are_shown_sized_given_icons_and_saved(demo: Terminal) -> None:
    demo.keys("L")
    demo.wait("16 labels   page 1 of 1 on A4")
    screen = demo.wait("next cam")
    assert "1 ● Class" in screen and "✓ every text fits as it is" in screen
    demo.keys("Right", "Right", "Down")
    demo.wait("lamp  4.2 mm, icon lamp, clay")
    # All layers on one cap, then one of them away.
    demo.keys("0")
    demo.wait("3 ● Cut")
    demo.keys("2")
    demo.wait("2 ○ Titles")
    demo.keys("l")
    demo.wait(lambda text: "1 ● Class" in text and "3 ○ Cut" in text)
    # A size for all, and one by hand.
    demo.keys("+")
    demo.wait("Cap size")
    demo.keys("C-u")
    demo.type("11x11")
    demo.keys("Enter")
    demo.wait("11 × 11 mm")
    demo.keys("=")
    demo.wait("Label of")
    demo.keys("C-u")
    demo.type("90x3")
    demo.keys("Enter")
    demo.wait("a label cannot be 3 mm")
    demo.keys("=", "C-u")
    demo.type("20x16")
    demo.keys("Enter")
    demo.wait("20 × 16 mm, by hand")
    assert surface()["labels"] == {"cap": "11x11", "sizes": {"3": "20x16"}}
    demo.keys("u")
    demo.wait("11 × 11 mm")
    # An icon.
    demo.keys("d")
    demo.wait("Icon of lamp")
    demo.type("sun")
    demo.keys("Enter")
    demo.wait("icon sun")
    assert surface()["layer"]["class"]["press"]["3"]["icon"] == "sun"
    demo.keys("i")
    demo.wait("on Letter")
    demo.keys("C-s")
    demo.wait("the labels as SVG")
    demo.type("labels as svg")
    demo.keys("Enter")
    demo.wait("left-numpad-labels.svg")
    # What was saved counts as printed.
    demo.keys("o")
    demo.wait("0 labels")
    demo.keys("Tab")
    demo.wait("Right numpad")
    demo.keys("?")
    demo.wait("Keys of the Labels view")


def test_the_saved_sheet_lies_among_the_documents(demo: Terminal, tmp_path: Path) -> None:
    demo.keys("L")
    demo.wait("16 labels")
    demo.keys("C-s")
    demo.wait("the labels as PDF")
    demo.type("labels as svg")
    demo.keys("Enter")
    demo.wait("Print it at 100 %")
    assert len(cuts_in_svg((paths.exports_folder() / "left-numpad-labels.svg").read_text())) == 16


def test_labels_by_mouse_and_in_a_small_terminal(demo: Terminal) -> None:
    demo.keys("L")
    demo.wait("16 labels")
    demo.wait("next cam")
    x, y = demo.find("next cam")
    demo.mouse(x, y, down=True)
    demo.mouse(x, y, down=False)
    demo.wait("Left numpad ▸ 0 ▸ label")
    demo.resize(80, 24)
    demo.wait(lambda text: "Labels" in text and "next cam" in text)
    demo.keys("Escape")
    demo.wait("LEFT NUMPAD")


def test_glance_shows_one_surface_in_a_narrow_pane(engine: Path) -> None:
    pane = Terminal("glance", "pedals", size=(44, 12))
    try:
        screen = pane.wait("FLOOR PEDALS")
        assert "cough" in screen and "next cam" in screen and "marker" in screen
        # The marker pedal is a chapter when it is held, and a busy machine holds the button long.
        x, y = pane.find("next cam")
        pane.mouse(x, y, down=True)
        pane.mouse(x, y, down=False)
        pane.wait("tapped Ctrl+Alt+Right")
        pane.keys("Tab")
        pane.wait(lambda text: ("FLOOR PEDALS" not in text and "arm" in text) or "SIXTEEN" in text)
        # Too small for any drawing: a list that can be read.
        pane.resize(22, 8)
        pane.keys("BTab")
        pane.wait("middle next cam")
        pane.keys("q")
        pane.wait("ended with 0")
    finally:
        pane.close()
    lost = Terminal("glance", "nothing", size=(60, 10))
    try:
        lost.wait("There is no surface “nothing”")
    finally:
        lost.close()


def test_usage_is_shown_arranged_better_and_undone(demo: Terminal, tmp_path: Path) -> None:
    demo.keys("U")
    # Its parts are drawn one after the other.
    shown = ("presses of", "layer Class   30 days", "macros", "gestures")
    demo.wait(lambda screen: all(text in screen for text in shown))
    demo.keys("i", "i", "i", "i")
    demo.wait("layer Class   a year")
    demo.keys("2")
    demo.wait("○ stop")
    demo.keys("3")
    demo.wait("probably meant:")
    demo.keys("4")
    demo.wait("guest ▸ in/out")
    demo.keys("5")
    demo.wait("had every step within 1 ms of its time")
    # Better places: side by side, done with one key, undone with another.
    demo.keys("6")
    screen = demo.wait("less finger travel")
    assert "AS IT IS" in screen and "BETTER" in screen
    before = surface()["layer"]["class"]["press"]
    demo.keys("Enter")
    demo.wait(lambda text: surface()["layer"]["class"]["press"] != before)
    demo.wait("Saved. u: undo.")
    after = surface()["layer"]["class"]["press"]
    assert sorted(map(str, after.values())) == sorted(map(str, before.values())) and after["minus"] == before["minus"]
    demo.keys("u")
    demo.wait(lambda text: surface()["layer"]["class"]["press"] == before)
    # The hand rests elsewhere.
    demo.keys("Down", "Space")
    demo.wait(lambda text: "home" in surface())
    demo.keys("C-s")
    demo.wait("Save the charts")
    demo.type("svg")
    demo.keys("Enter")
    demo.wait("and 6 more")
    assert (paths.exports_folder() / "saltmarsh-bakehouse-usage.svg").exists()
    demo.resize(80, 24)
    demo.wait(lambda text: "better places" in text and "guest" in text)


def test_the_history_is_switched_off_and_erased_on_the_screen(demo: Terminal) -> None:
    demo.keys("Down", "Enter", "U")
    demo.wait("presses of")
    demo.keys("o")
    demo.wait("count no longer")
    demo.keys("Enter")
    demo.wait("○ History is off")
    demo.keys("o")
    demo.wait("count again")
    demo.keys("Down", "Enter")
    demo.wait("No presses in this period")
    demo.keys("?")
    demo.wait("Keys of the Usage view")
