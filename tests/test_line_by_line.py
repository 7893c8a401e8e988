"""A desk set up line by line: from nothing to a surface with a macro, a layer and a label sheet, without the screen."""

from __future__ import annotations

import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from brass_pebble.client import start_engine
from conftest import run_cli, wait_for

Line = subprocess.CompletedProcess[str]
BENCH = """
[[device]]
id = "bench/main-keyboard"
name = "Harbour keyboard"
port = "built in"
layout = "compact-60-ansi"
full = true

[[device]]
id = "bench/pad"
name = "Marram numeric pad"
port = "bench hub, left"
layout = "numpad"
"""


@pytest.fixture
def desk(tmp_path: Path) -> Iterator[Path]:
    """A new desk that runs, with devices on its bench."""
    folder = tmp_path / "show"
    made = run_cli("desk", "new", str(folder), "--name", "Show")
    assert made.returncode == 0 and str(folder) in made.stdout
    (folder / "desk.toml").write_text('format = 1\nname = "Show"\noutput = "stage"\n')
    (tmp_path / "bench.toml").write_text(BENCH)
    _, process = start_engine(folder, "--bench", str(tmp_path / "bench.toml"), "--bench-only")
    yield folder
    process.send_signal(signal.SIGTERM)
    process.wait(timeout=10)


def line(desk: Path, *words: str, text: str = "") -> Line:
    """A command that works; every answer is sentences, with nothing that a voice could not read."""
    done = run_cli(*words, "--desk", str(desk), given=text)
    assert done.returncode == 0, done.stderr
    assert "\x1b" not in done.stdout and all(char not in done.stdout for char in "│╭━▌")
    return done


def test_from_nothing_to_a_label_sheet_line_by_line(desk: Path, tmp_path: Path) -> None:
    taken = line(desk, "take", "numeric pad", "--name", "Left hand", "--layout", "numpad")
    assert taken.stdout.splitlines()[0] == "Took over Marram numeric pad as the surface left-hand."
    assert "Its controls: num, slash, times, minus, 7" in taken.stdout
    bound = line(desk, "bind", "left-hand", "7", "Ctrl+Alt+1", "--label", "wide", "--far", "wd", "--tint", "sky")
    assert bound.stdout == "Left-hand 7: tap Ctrl+Alt+1.\n"
    line(desk, "bind", "left-hand", "0", "sustain", "Ctrl+M", "--label", "cough")
    saved = line(desk, "write", "Hello there", text='type "Hello"\ntap Enter\n')
    assert saved.stdout == "Saved the macro hello-there. Play it with: brass-pebble play hello-there\n"
    line(desk, "bind", "left-hand", "5", "play", "hello-there")
    assert line(desk, "layer", "left-hand", "Loud", "--new").stdout == "Made the layer loud. It is off.\n"
    line(desk, "bind", "left-hand", "7", "F13", "--layer", "loud")
    line(desk, "bind", "left-hand", "dot", "layer", "while", "held", "loud")
    line(desk, "bind", "left-hand", "7", "F20", "--gesture", "hold")
    line(desk, "unbind", "left-hand", "7", "--gesture", "hold")
    text = (desk / "desk.toml").read_text()
    assert '7 = {tap = "Ctrl+Alt+1", label = "wide", far = "wd", tint = "sky"}' in text and "F20" not in text
    assert '5 = {play = "hello-there"}' in text and 'dot = {layer = "while held loud"}' in text
    assert (desk / "macros" / "hello-there.macro").read_text().startswith('name "Hello there"\n')
    line(desk, "undo")
    assert "F20" in (desk / "desk.toml").read_text()
    line(desk, "redo")
    assert "F20" not in (desk / "desk.toml").read_text()
    # It works: presses are told in sentences.
    for control in ("7", "5"):
        line(desk, "ask", "press", "surface=left-hand", f"control={control}")
        line(desk, "ask", "press", "surface=left-hand", f"control={control}", "down=false")
    wait_for(lambda: "played “Hello there”" in line(desk, "ask", "traces").stdout)
    assert "Left hand 7, press, in Base: tapped Ctrl+Alt+1" in line(desk, "ask", "traces").stdout
    sheet = tmp_path / "labels.pdf"
    line(desk, "labels", "left-hand", "-o", str(sheet))
    assert sheet.read_bytes().startswith(b"%PDF")
    assert line(desk, "clashes").stdout.endswith("notes.\n")


def test_a_mistake_says_what_to_write(desk: Path) -> None:
    def wrong(*words: str, text: str = "") -> str:
        done = run_cli(*words, "--desk", str(desk), given=text)
        assert done.returncode in (1, 2, 6) and done.stdout == "", done.stdout
        return done.stderr
    assert "fits no free device. Available: Harbour keyboard" in wrong("take", "nothing like it")
    line(desk, "take", "numeric pad", "--layout", "numpad")
    assert "fits no free device" in wrong("take", "numeric pad")
    assert "there is no key called “Ctl”" in wrong("bind", "marram-numeric-pad", "7", "Ctl+1")
    assert "there is no surface “pad”" in wrong("bind", "pad", "7", "A")
    assert "6" in wrong("bind", "marram-numeric-pad", "7", "A", "--far", "far too long")
    assert "Did you mean" in wrong("bind", "marram-numeric-pad", "plu", "A")
    said = wrong("write", "Broken", text="tapp A\n")
    assert "line 2" in said and "tapp" in said
