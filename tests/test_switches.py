"""The screen driven by three pedals and nothing else, in a real terminal."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from pathlib import Path

import pytest

from brass_pebble.client import EngineClient, start_engine
from conftest import wait_for
from terminal import Terminal

DESK = """format = 1
name = "Few"
output = "stage"

[surface.pad]
name = "Pad"
layout = "grid-3x2"
device = { name = "Wigeon six keys", port = "bench, pad" }

[surface.pad.layer.base]
name = "Base"

[surface.feet]
name = "Feet"
layout = "pedals-3"
at = [5, 0]
device = { name = "Tern three-pedal board", port = "bench, feet" }

[surface.feet.layer.base.press]
left = { do = "screen next" }
middle = { do = "screen choose" }
right = { do = "screen back" }

[surface.feet.layer.base.hold]
right = { do = "screen scan", hold_after = "300ms" }
"""


class Feet:
    """Somebody who has three pedals."""

    def __init__(self, terminal: Terminal, client: EngineClient) -> None:
        self.terminal, self._client = terminal, client

    def press(self, pedal: str, times: int = 1) -> None:
        """Down and up."""
        for _ in range(times):
            self._client.ask("press", surface="feet", control=pedal)
            self._client.ask("press", surface="feet", control=pedal, down=False)


@pytest.fixture
def feet(tmp_path: Path) -> Iterator[Feet]:
    """The desk on the bench, its screen open."""
    desk = tmp_path / "few"
    desk.mkdir(mode=0o700)
    (desk / "desk.toml").write_text(DESK)
    socket, process = start_engine(desk, "--on-bench", "--until-left")
    with EngineClient(socket, "feet") as client:
        client.set_timeout(10)
        terminal = Terminal("--desk", str(desk))
        terminal.wait("◉ armed")
        yield Feet(terminal, client)
        terminal.close()
    process.send_signal(signal.SIGTERM)
    process.wait(timeout=10)


def test_a_control_is_bound_and_pressed_with_three_pedals(feet: Feet, tmp_path: Path) -> None:
    terminal, toml = feet.terminal, tmp_path / "few" / "desk.toml"
    terminal.wait("Pad ▸ 1")
    feet.press("left")
    terminal.wait("Pad ▸ 2")
    # What can be done with it; then the third of it: bind.
    feet.press("middle")
    terminal.wait("bind: give it an action")
    feet.press("left", 2)
    feet.press("middle")
    terminal.wait("Chord, macro or action")
    # The first press shows the keyboard; then its rows, and the keys of one.
    feet.press("left")
    terminal.wait("F12: hide")
    feet.press("left")
    feet.press("middle")
    feet.press("left", 5)
    feet.press("middle")
    terminal.wait("tap F5 once")
    feet.press("left", 3)
    feet.press("middle")
    feet.press("left", 12)
    feet.press("middle")
    wait_for(lambda: '2 = {tap = "F5"}' in toml.read_text())
    terminal.wait(lambda screen: "Note, for yourself" not in screen)
    # It is pressed, and a sheet is left by the third pedal.
    feet.press("middle")
    terminal.wait("press it")
    feet.press("middle")
    terminal.wait("tapped F5")
    feet.press("middle")
    terminal.wait("press it")
    feet.press("right")
    terminal.wait(lambda screen: "press it" not in screen)
    assert "Pad ▸ 2" in terminal.screen()


def test_it_goes_on_by_itself_until_it_is_told_to_stop(feet: Feet) -> None:
    terminal = feet.terminal
    terminal.wait("Pad ▸ 1")
    feet._client.ask("press", surface="feet", control="right")
    terminal.wait("Pad ▸ 2")
    feet._client.ask("press", surface="feet", control="right", down=False)
    terminal.wait("Pad ▸ 4")
