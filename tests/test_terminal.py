"""The theme of the first time: what a terminal tells of its ground, by a made-up terminal and by a real xterm."""

from __future__ import annotations

import os
import pty
import subprocess
import sys
import termios
import threading
import time
from pathlib import Path

import pytest

from brass_pebble.machine.terminal_colour import LONGEST, QUESTION, asking_background, brightness_told
from brass_pebble.screen.base.palette import theme_for
from conftest import wait_for
from needed import needs

ATTRIBUTES = b"\x1b[?64;1;2c"


@pytest.mark.parametrize(("answer", "theme"), [
    (b"\x1b]11;rgb:ffff/ffff/ffff\x1b\\", "paper"), (b"\x1b]11;rgb:f3/f0/e8\x07", "paper"),
    (b"\x1b]11;rgb:0000/0000/0000\x1b\\", "basalt"), (b"\x1b]11;rgba:1414/1717/1b1b/ffff\x1b\\", "basalt"),
    (b"\x1b]11;rgb:ffff/0/0\x07", "basalt"), (b"\x1b]11;rgb:0/ffff/0\x07", "paper"), (b"", "basalt"),
    (b"\x1b]11;rgb:nothing\x07", "basalt"), (b"hello", "basalt")])
def test_an_answer_leads_to_a_theme(answer: bytes, theme: str) -> None:
    assert theme_for(brightness_told(answer + ATTRIBUTES) or 0.0) == theme


@pytest.mark.parametrize(("answer", "found", "waits"), [
    (b"\x1b]11;rgb:ffff/ffff/ffff\x1b\\" + ATTRIBUTES, [1.0], False), (ATTRIBUTES, [], False), (b"", [], True)])
def test_a_terminal_is_asked_and_left_as_it_was(answer: bytes, found: list[float], waits: bool) -> None:
    outer, inner = pty.openpty()
    try:
        before = termios.tcgetattr(inner)
        asked: list[bytes] = []

        def terminal() -> None:
            while QUESTION not in b"".join(asked):
                asked.append(os.read(outer, 100))
            os.write(outer, answer[:5])
            time.sleep(0.02)
            os.write(outer, answer[5:])
        reader = threading.Thread(target=terminal)
        reader.start()
        began = time.monotonic()
        with asking_background(inner) as brightness:
            assert brightness == []
        assert brightness == pytest.approx(found)
        assert (time.monotonic() - began >= LONGEST) is waits
        reader.join()
        assert termios.tcgetattr(inner) == before
    finally:
        os.close(outer)
        os.close(inner)


def test_a_terminal_that_can_only_be_read_or_is_closed_meanwhile_tells_nothing() -> None:
    outer, inner = pty.openpty()
    reading = os.open(os.ttyname(inner), os.O_RDONLY | os.O_NOCTTY)
    try:
        with asking_background(reading) as brightness:
            pass
        assert brightness == []
        began = time.monotonic()
        with asking_background(inner) as brightness:
            os.close(outer)
        assert brightness == [] and time.monotonic() - began < LONGEST + 1
    finally:
        os.close(reading)
        os.close(inner)


def test_what_is_no_terminal_is_not_asked(tmp_path: Path) -> None:
    with (tmp_path / "file").open("w+b") as file:
        with asking_background(file.fileno()) as brightness:
            pass
        assert brightness == [] and file.read() == b""


@pytest.mark.parametrize(("ground", "theme"), [("white", "paper"), ("black", "basalt")])
def test_a_real_terminal_tells_its_ground(ground: str, theme: str, display: str, tmp_path: Path) -> None:
    needs("xterm")
    told = tmp_path / "told"
    asks = ("import sys; from pathlib import Path\n"
            "from brass_pebble.machine.terminal_colour import asking_background\n"
            "with asking_background(0) as found: pass\n"
            f"Path({str(told)!r}).write_text(repr(found))")
    with subprocess.Popen(["xterm", "-bg", ground, "-fg", "grey", "-e", sys.executable, "-c", asks],
                          env={**os.environ, "DISPLAY": display}) as process:
        wait_for(lambda: told.exists() and told.read_text(), seconds=20)
        process.wait(timeout=10)
    found = [float(part) for part in told.read_text().strip("[]").split(",") if part]
    assert len(found) == 1 and theme_for(found[0]) == theme
