"""By mouse alone, in a real terminal: from nothing to a surface with a binding, a macro, a layer and a label sheet."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from brass_pebble import paths
from conftest import wait_for
from terminal import Terminal
from test_meet import nobody_met


class Mouse:
    """A person who has nothing else."""

    def __init__(self, terminal: Terminal) -> None:
        self.terminal = terminal

    def click(self, text: str, *, last: bool = False, at: int = 0, after: float = 0.15) -> None:
        """Click a text, once it stands still; the lowest one if there are several and `last` is wanted."""
        self.terminal.wait(text)
        before = ""
        while before != (before := self.terminal.screen()):
            time.sleep(0.4)
        found = [(line.index(text), row) for row, line in enumerate(before.splitlines()) if text in line]
        x, y = found[-1 if last else 0]
        self.terminal.mouse(x + at, y, down=True)
        self.terminal.mouse(x + at, y, down=False)
        time.sleep(after)

    def right_click(self, legend: str) -> None:
        """Ask what can be done with a cap."""
        # Its line begins with a corner, or it has the ring of what is selected; the first rows say other things.
        cap = re.compile(rf"[╭ ] {legend} [─╌ ]")
        lines = self.terminal.wait(lambda screen: bool(cap.search("\n".join(screen.splitlines()[3:])))).splitlines()
        x, y = next((found.start(), row) for row, line in enumerate(lines) if row > 2 and (found := cap.search(line)))
        self.terminal.mouse(x + 2, y + 1, down=True, button=2)
        self.terminal.mouse(x + 2, y + 1, down=False, button=2)

    def type(self, *keys: str) -> None:
        """Click keys of the keyboard on the screen."""
        for key in keys:
            self.terminal.wait("F12: hide")
            lines = self.terminal.screen().splitlines()
            foot = next(row for row, line in enumerate(lines) if "F12: hide" in line)
            found = [(line.start(), row) for row in range(foot - 5, foot)
                     for line in re.finditer(rf"(?<= ){re.escape(key)}(?= |$)", lines[row])]
            assert len(found) == 1, (key, lines[foot - 5:foot])
            self.terminal.mouse(*found[0], down=True)
            self.terminal.mouse(*found[0], down=False)


@pytest.fixture
def empty(tmp_path: Path) -> Iterator[Mouse]:
    """An empty desk, and a device of the bench that nobody has met."""
    with nobody_met(tmp_path) as desk:
        terminal = Terminal("--desk", str(desk))
        terminal.wait("This desk has no surfaces yet")
        yield Mouse(terminal)
        terminal.close()


def test_from_nothing_to_a_label_sheet_without_a_keyboard(empty: Mouse, tmp_path: Path) -> None:
    terminal, toml = empty.terminal, tmp_path / "desk" / "desk.toml"
    # Two devices: the keyboard that somebody else types on, and the pad that becomes a surface.
    empty.click("M meet a device")
    empty.click("Harbour keyboard")
    empty.click(" Q ", at=1)
    terminal.wait("your main keyboard")
    empty.click("Marram numeric")
    empty.click(" 7 ", at=1)
    terminal.wait("Enter: take it over")
    empty.click("Enter take it over")
    terminal.wait("Choose a drawing")
    empty.click("Enter use this drawing")
    terminal.wait("Press every control once")
    empty.click("Enter ready")
    terminal.wait("MARRAM NUMERIC PAD")
    # A chord, with modifiers that stick.
    empty.right_click("8")
    empty.click("bind: give it an action")
    empty.click("F12: on-screen keys")
    empty.type("Ctrl", "Alt", "1")
    terminal.wait("Ctrl+Alt+1")
    empty.click("Enter: bind")
    wait_for(lambda: '8 = {tap = "Ctrl+Alt+1"}' in toml.read_text())
    # A macro, written and bound.
    empty.right_click("9")
    empty.click("open its macro, or choose one")
    terminal.wait("Part of a macro")
    empty.type("h", "i")
    terminal.wait("new macro “hi”")
    empty.click("Enter: open")
    terminal.wait("Write a step")
    empty.type("t", "a", "p", "Space", "4")
    terminal.wait("✓ live")
    empty.click("Esc back")
    empty.right_click("9")
    empty.click("bind: give it an action")
    terminal.wait("Chord, macro or action")
    empty.type("h", "i")
    empty.click("play “hi”")
    wait_for(lambda: '9 = {play = "hi"}' in toml.read_text())
    # A click presses the cap; its macro plays.
    empty.click("╭ 9 " if "╭ 9 " in terminal.screen() else "  9   ", at=3)
    terminal.wait("played “hi”")
    # A layer: the help's rows are clicked like keys.
    empty.right_click("9")
    empty.click("its layers and gestures")
    terminal.wait("What each control does now")
    empty.click("? help")
    empty.click("a new layer on top")
    terminal.wait("Name of the new layer")
    empty.type("l", "o", "u", "d")
    empty.click("Enter: OK")
    wait_for(lambda: ".layer.loud" in toml.read_text())
    empty.click("Esc back")
    # Labels, saved among the documents.
    empty.right_click("9")
    empty.click("labels of this surface")
    empty.click("S save")
    empty.click("the labels as PDF")
    wait_for((paths.exports_folder() / "marram-numeric-pad-labels.pdf").exists)


def test_help_and_sheets_close_by_a_click_and_by_their_keys(demo: Terminal) -> None:
    mouse = Mouse(demo)
    for way in ("click", "?", "Escape"):
        demo.keys("?")
        demo.wait("Keys of the Desk view")
        if way == "click":
            mouse.click("Esc or a click: close")
        else:
            demo.keys(way)
        demo.wait(lambda screen: "Keys of the Desk view" not in screen)
    # Cancel and OK of a sheet that asks.
    demo.keys("b")
    mouse.click("Esc: cancel")
    demo.wait(lambda screen: "Chord, macro or action" not in screen)
    assert demo.screen().count("LEFT NUMPAD") == 1
