"""A desk of one's own on the bench: simulated devices, programs made of its tables, nothing sent or remembered."""

from __future__ import annotations

import os
import signal
from pathlib import Path

import pytest

from brass_pebble import paths
from brass_pebble.client import EngineClient, start_engine
from brass_pebble.core.desk.benched import device_of, on_bench
from brass_pebble.core.desk.shortcuts import read_program
from brass_pebble.core.signals.keys import parse_chord
from brass_pebble.core.stage.made import AnyProgram, program_of
from brass_pebble.core.stage.program import Reaction, StageProgram
from conftest import run_cli, wait_for
from terminal import Terminal
from test_layers import good

DESK = """format = 1
name = "Rehearsal room"
output = "uinput"

[surface.feet]
name = "Feet"
layout = "pedals-3"
device = { name = "Some pedals", port = "usb-9" }

[surface.feet.layer.base.press]
left = { tap = "Ctrl+1", label = "scene 1" }
middle = { tap = "Ctrl+7", label = "seven" }
right = { play = "intro" }

[surface.pads]
name = "Pads"
layout = "pads-16"
at = [0, 3]

[surface.pads.layer.base.press]
1 = { tap = "F9", label = "talk" }
"""
LIGHTS = """name = "Lights"

[[shortcut]]
chord = "Ctrl+1"
does = "scene one"

[[shortcut]]
chord = "F9"
does = "talk"
"""


@pytest.fixture
def room(tmp_path: Path) -> Path:
    folder = tmp_path / "room"
    assert run_cli("desk", "new", str(folder)).returncode == 0
    (folder / "desk.toml").write_text(DESK)
    (folder / "macros" / "intro.macro").write_text('tap Ctrl+1\nwait 100ms\ntype "Hi"\n')
    (folder / "programs").mkdir()
    (folder / "programs" / "lights.toml").write_text(LIGHTS)
    return folder


def play(program: StageProgram, *chords: str) -> list[str]:
    out: list[Reaction] = []
    for at, chord in enumerate(chords):
        codes = parse_chord(chord).codes
        for code in codes:
            program.take_key(code, 1, at * 1_000_000_000, None, out)
        program.advance(at * 1_000_000_000 + 500_000_000, out)
        for code in reversed(codes):
            program.take_key(code, 0, at * 1_000_000_000 + 600_000_000, None, out)
    return [reaction.text for reaction in out]


def test_every_surface_has_a_device_that_no_other_can_have() -> None:
    text = DESK.replace('right = { play = "intro" }\n', "").replace("pads-16", "numpad")
    desk = on_bench(good(text), ("lights", "anything"))
    assert desk.output == "stage" and [place.program for place in desk.stage] == ["lights", "anything"]
    for surface in desk.surfaces.values():
        facts = device_of(surface)
        assert surface.rule.get("port") == facts.port and not surface.also
        assert {control.code for control in surface.layout.controls} <= set(facts.codes)
    # Programs stand beside the surfaces, not on them.
    right = max(surface.at[0] + surface.layout.width for surface in desk.surfaces.values())
    assert all(place.at[0] > right for place in desk.stage) and desk.stage[0].at != desk.stage[1].at


def test_programs_are_made_of_tables_and_one_takes_the_rest() -> None:
    import tomllib
    table, _ = read_program(tomllib.loads(LIGHTS), id="lights", file="lights.toml")
    lights, rest = program_of(table), AnyProgram([table])
    assert play(lights, "Ctrl+1", "Ctrl+7", "F9") == ["scene one", "talk"] and lights.values["count"] == 2
    assert play(rest, "Ctrl+1", "Ctrl+7", "Shift+Alt+G", "F9") == ["gets Ctrl+7", "gets Alt+Shift+G"]


def test_a_desk_is_tried_without_its_hardware(room: Path) -> None:
    socket, process = start_engine(room, "--on-bench", "--until-left")
    with EngineClient(socket, "test") as client:
        desk = client.ask("desk")["desk"]
        assert desk["output"] == "stage" and {row["state"] for row in desk["surfaces"]} == {"taken"}

        def sentences() -> str:
            return "\n".join(trace["sentence"] for trace in client.ask("traces")["traces"])
        for control in ("left", "middle", "right"):
            client.ask("press", surface="feet", control=control)
            client.ask("press", surface="feet", control=control, down=False)
        client.ask("press", surface="pads", control="1")
        client.ask("press", surface="pads", control="1", down=False)
        wait_for(lambda: "Lights: scene one." in sentences() and "Anything else: gets Ctrl+7." in sentences())
        wait_for(lambda: "Anything else: gets Shift+H" in sentences())
        told = client.ask("rehearse", macro="intro")
        assert told["programs"] == ["Lights", "Anything else"]
        # A surface that is added gets a device at once.
        (room / "desk.toml").write_text(DESK + '\n[surface.more]\nlayout = "numpad"\nat = [5, 0]\n')
        wait_for(lambda: [row["state"] for row in client.ask("desk")["desk"]["surfaces"]] == ["taken"] * 3)
    process.send_signal(signal.SIGTERM)
    assert process.wait(timeout=10) == 0
    # The desk's own files still name its real device, and nothing was counted.
    text = (room / "desk.toml").read_text()
    assert 'port = "usb-9"' in text and 'output = "uinput"' in text
    assert not paths.history_file(room).exists()
    assert not [file for file in paths.state_folder().rglob("*.json") if "bench, feet" in file.read_text()]


def test_a_key_puts_the_desk_on_the_bench_and_takes_it_off_again(room: Path) -> None:
    terminal = Terminal("--desk", str(room))
    try:
        terminal.wait("FEET")
        for ask, choose, shown in (("On the bench", "Put it on the bench", "◉ armed"),
                                   ("Leave the bench", "Leave the bench", "✗ missing")):
            terminal.keys("B")
            terminal.wait(ask)
            terminal.wait(choose)
            terminal.keys("Enter")
            terminal.wait(lambda screen, shown=shown: shown in screen and "FEET" in screen, seconds=30)
        terminal.keys("B")
        terminal.wait("Put it on the bench")
        terminal.keys("Escape")
    finally:
        terminal.close()
    assert (room / "desk.toml").read_text() == DESK


def test_the_screen_shows_it(room: Path) -> None:
    terminal = Terminal("demo", "--desk", str(room))
    try:
        terminal.wait("to: Lights, Anything else")
        terminal.wait("◉ armed")
        terminal.keys("Enter")
        terminal.wait("Lights: scene one.")
        terminal.wait("last scene one   count 1")
    finally:
        terminal.close()
    wrong = run_cli("demo", "--desk", str(room), "--headless", **{"COLUMNS": os.environ.get("COLUMNS", "80")})
    assert wrong.returncode == 2 and "for the bakery" in wrong.stderr
