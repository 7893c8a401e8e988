"""The tour of the first time, in a real terminal: each step is over when it has been done, and it comes once."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from pathlib import Path

import pytest

from brass_pebble.client import EngineClient, running_sockets
from terminal import Terminal
from test_meet import nobody_met

DESK = 'format = 1\nname = "New"\noutput = "stage"\n'
SURFACE = '[surface.pad]\nname = "Pad"\nlayout = "numpad"\ndevice = { name = "Marram numeric pad" }\n'


@pytest.fixture
def first(tmp_path: Path) -> Iterator[Path]:
    """An empty desk on the first day, its engine running."""
    with nobody_met(tmp_path) as desk:
        yield desk


def memory() -> dict[str, object]:
    return dict(json.loads((Path(os.environ["XDG_STATE_HOME"]) / "brass-pebble" / "screen.json").read_text()))


def new_person() -> None:
    file = Path(os.environ["XDG_STATE_HOME"]) / "brass-pebble" / "screen.json"
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    file.write_text('{"letters": "plain"}')


def test_five_steps_each_over_when_it_is_done(first: Path) -> None:
    new_person()
    terminal = Terminal("--desk", str(first))
    try:
        terminal.wait("1 of 5   Meet a device: press M")
        with EngineClient(running_sockets()[0]) as client:
            (first / "desk.toml").write_text(DESK + SURFACE)
            terminal.wait("2 of 5   Bind a key")
            client.ask("bind", surface="pad", control="7", kind="tap", target="Ctrl+Alt+1")
            terminal.wait("3 of 5   Press that key")
            # The first binding of a surface made its first layer.
            assert "[surface.pad.layer.base.press]" in (first / "desk.toml").read_text()
            for down in (True, False):
                client.ask("press", surface="pad", control="7", down=down, by_hand=True)
            terminal.wait("4 of 5   Write a macro")
            client.ask("write_macro", name="hello", text='name "Hello"\ntype "Hello"\n')
            terminal.wait("5 of 5   Know the way back")
        terminal.keys("C-t")
        terminal.wait(lambda screen: "5 of 5" not in screen)
        terminal.keys("C-t")
        terminal.wait("5 of 5")
        terminal.keys("x")
        terminal.wait("That was the tour")
        terminal.wait(lambda screen: "of 5   " not in screen)
    finally:
        terminal.close()
    assert memory()["tour"] is False
    again = Terminal("--desk", str(first))
    try:
        again.wait("PAD")
        again.wait(lambda screen: "of 5   " not in screen)
    finally:
        again.close()


def test_a_desk_in_use_and_the_demo_are_nobodys_first_time(first: Path) -> None:
    (first / "desk.toml").write_text(DESK + SURFACE + '[surface.pad.layer.base.press]\n7 = { tap = "A" }\n')
    for words, shown in ((("--desk", str(first)), "Pad"), (("demo",), "RIGHT NUMPAD")):
        new_person()
        terminal = Terminal(*words)
        try:
            terminal.wait(shown)
            terminal.wait("No press yet")
            assert "of 5   " not in terminal.screen()
        finally:
            terminal.close()
