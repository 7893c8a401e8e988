"""What terminals tell of themselves, made up and real, and what is drawn in each: theme, colours, signs."""

from __future__ import annotations

import contextlib
import fcntl
import itertools
import os
import pty
import select
import struct
import subprocess
import sys
import termios
import threading
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as some

from brass_pebble.core.say.data_table import read_table
from brass_pebble.machine.terminal_answers import (
    LONGEST,
    LONGEST_NAME,
    TerminalAnswers,
    asking_terminal,
    colours_of,
    look_of,
    question,
    read_answers,
    signs_of,
)
from brass_pebble.screen.base.palette import theme_for
from brass_pebble.screen.base.terminal import LateAnswers
from brass_pebble.screen.outside import ScreenMemory
from conftest import wait_for
from needed import needs
from terminal import BRASS_PEBBLE

ATTRIBUTES = b"\x1b[?64;1;2c"
XTERM = TerminalAnswers(1.0, "XTerm(379)", "all")


@pytest.mark.parametrize(("answer", "theme"), [
    (b"\x1b]11;rgb:ffff/ffff/ffff\x1b\\", "paper"), (b"\x1b]11;rgb:f3/f0/e8\x07", "paper"),
    (b"\x1b]11;rgb:0000/0000/0000\x1b\\", "basalt"), (b"\x1b]11;rgba:1414/1717/1b1b/ffff\x1b\\", "basalt"),
    (b"\x1b]11;rgb:ffff/0/0\x07", "basalt"), (b"\x1b]11;rgb:0/ffff/0\x07", "paper"), (b"", "basalt"),
    (b"\x1b]11;rgb:nothing\x07", "basalt"), (b"hello", "basalt")])
def test_an_answer_leads_to_a_theme(answer: bytes, theme: str) -> None:
    assert theme_for(read_answers(answer + ATTRIBUTES).brightness or 0.0) == theme


@pytest.mark.parametrize(("answer", "name", "colours"), [
    (b"\x1bP>|XTerm(379)\x1b\\\x1bP1$r0;48:2::1:2:3m\x1b\\", "XTerm(379)", "all"),
    (b"\x1bP>|foot(1.13.1)\x1b\\\x1bP1$r0;48;2;1;2;3m\x1b\\", "foot(1.13.1)", "all"),
    # One that rounds the colour says so; one that has no such colour has only its own.
    (b"\x1bP1$r0;48;5;16m\x1b\\", "", "256"), (b"\x1bP1$r0m\x1b\\", "", "sixteen"),
    (b"\x1b]4;255;rgb:eeee/eeee/eeee\x1b\\", "", "256"), (b"\x1bP>|tmux 3.3a\x1b\\", "tmux 3.3a", ""),
    (b"\x1bP0$r\x1b\\", "", ""), (b"\x1bP>|" + b"x" * 500 + b"\x1b\\", "x" * LONGEST_NAME, "")])
def test_an_answer_tells_the_name_and_the_colours(answer: bytes, name: str, colours: str) -> None:
    told = read_answers(answer + ATTRIBUTES)
    assert (told.name, told.colours) == (name, colours)


@given(some.binary(max_size=300))
def test_whatever_a_terminal_says_is_read(answer: bytes) -> None:
    told = read_answers(answer)
    assert told.brightness is None or 0 <= told.brightness <= 1
    assert len(told.name) <= LONGEST_NAME and told.name.isprintable()


@pytest.mark.parametrize(("told", "environment", "colours"), [
    # What somebody says goes first, then what the terminal took; its name decides where nothing is answered.
    (XTERM, {"TERM": "xterm"}, "all"), (XTERM, {"NO_COLOR": "1"}, "none"), (XTERM, {"NO_COLOR": ""}, "all"),
    (XTERM, {"BRASS_PEBBLE_COLOURS": "sixteen"}, "sixteen"), (XTERM, {"BRASS_PEBBLE_COLOURS": "many"}, "all"),
    (None, {"TERM": "xterm", "COLORTERM": "truecolor"}, "all"), (None, {"TERM": "linux"}, "sixteen"),
    (TerminalAnswers(0.0, "", "256"), {"TERM": "linux"}, "256"), (None, {"TERM": "xterm-256color"}, "256"),
    (TerminalAnswers(None, "tmux 3.3a", ""), {"TERM": "screen"}, "256"), (None, {"TERM": "screen"}, "sixteen"),
    (None, {"TERM": "xterm-16color"}, "sixteen"), (None, {"TERM": "foot"}, "all"), (None, {"TERM": "vt220"}, "none"),
    (None, {"TERM": "dumb"}, "none"), (None, {}, "sixteen"), (None, {"TERM": "xterm-direct"}, "all")])
def test_how_many_colours_are_sent(told: TerminalAnswers | None, environment: dict[str, str], colours: str) -> None:
    assert colours_of(told, environment) == colours


def test_signs_are_plain_until_a_terminal_is_known_or_somebody_chose() -> None:
    foot = TerminalAnswers(0.0, "foot(1.13.1)", "all")
    assert signs_of(XTERM, {"TERM": "xterm"}, {}) == "plain" and signs_of(foot, {"TERM": "foot"}, {}) == "full"
    assert signs_of(None, {"TERM": "linux"}, {}) == "plain" and signs_of(None, {"TERM": "alacritty"}, {}) == "full"
    # Its own answer counts, whatever TERM is: a full one may stand around one that is not known.
    assert signs_of(TerminalAnswers(None, "tmux 3.3a", ""), {"TERM": "foot"}, {}) == "plain"
    assert signs_of(XTERM, {"BRASS_PEBBLE_SIGNS": "full"}, {"xterm": "plain"}) == "full"
    # Each terminal has its own choice.
    memory = ScreenMemory(signs={"xterm": "full"})
    assert look_of(XTERM, {"TERM": "xterm"}, memory).signs == "full"
    assert look_of(None, {"TERM": "linux"}, memory).signs == "plain"
    assert look_of(XTERM, {}, memory).dark is False and look_of(None, {}, memory).dark is None
    for row in read_table("terminals.tsv"):
        assert row[0] == row[0].casefold() and row[1] in ("full", "-"), row
        assert row[2] in ("all", "256", "sixteen", "none", "-"), row


@pytest.mark.parametrize(("environment", "control_string"), [
    ({"TERM": "xterm"}, True), ({"TERM": "screen"}, False), ({"TERM": "screen.xterm-256color"}, False),
    ({"TERM": "screen", "TMUX": "/tmp/tmux"}, True), ({}, True)])
def test_who_hands_control_strings_on_is_asked_without_one(environment: dict[str, str], control_string: bool) -> None:
    assert (b"\x1bP" in question(environment)) is control_string
    assert question(environment).endswith(b"\x1b[c")


@pytest.mark.parametrize(("answer", "found", "waits"), [
    (b"\x1b]11;rgb:ffff/ffff/ffff\x1b\\" + ATTRIBUTES, [TerminalAnswers(1.0)], False),
    (ATTRIBUTES, [TerminalAnswers()], False), (b"", [TerminalAnswers(late=True)], True)])
def test_a_terminal_is_asked_and_left_as_it_was(answer: bytes, found: list[TerminalAnswers], waits: bool) -> None:
    outer, inner = pty.openpty()
    try:
        before = termios.tcgetattr(inner)
        asked: list[bytes] = []

        def terminal() -> None:
            while question(os.environ) not in b"".join(asked):
                asked.append(os.read(outer, 100))
            os.write(outer, answer[:5])
            time.sleep(0.02)
            os.write(outer, answer[5:])
        reader = threading.Thread(target=terminal)
        reader.start()
        began = time.monotonic()
        with asking_terminal(inner) as answers:
            assert answers == []
        assert answers == found
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
        with asking_terminal(reading) as answers:
            pass
        assert answers == []
        began = time.monotonic()
        with asking_terminal(inner) as answers:
            os.close(outer)
        assert answers in ([], [TerminalAnswers(late=True)]) and time.monotonic() - began < LONGEST + 1
    finally:
        os.close(reading)
        os.close(inner)


def test_what_is_no_terminal_is_not_asked(tmp_path: Path) -> None:
    with (tmp_path / "file").open("w+b") as file:
        with asking_terminal(file.fileno()) as answers:
            pass
        assert answers == [] and file.read() == b""


@pytest.mark.parametrize(("ground", "theme"), [("white", "paper"), ("black", "basalt")])
def test_a_real_terminal_tells_its_ground_its_name_and_its_colours(ground: str, theme: str, display: str,
                                                                   tmp_path: Path) -> None:
    needs("xterm")
    told = tmp_path / "told"
    asks = ("import sys; from pathlib import Path\n"
            "from brass_pebble.machine.terminal_answers import asking_terminal\n"
            "with asking_terminal(0) as found: pass\n"
            f"Path({str(told)!r}).write_text(repr(found))")
    with subprocess.Popen(["xterm", "-bg", ground, "-fg", "grey", "-e", sys.executable, "-c", asks],
                          env={**os.environ, "DISPLAY": display}) as process:
        wait_for(lambda: told.exists() and told.read_text(), seconds=20)
        process.wait(timeout=10)
    found = eval(told.read_text(), {"TerminalAnswers": TerminalAnswers})
    assert theme_for(found[0].brightness) == theme and found[0].name.startswith("XTerm(") and found[0].colours == "all"


LATE = b"\x1b]11;rgb:ffff/ffff/ffff\x1b\\\x1bP>|XTerm(379)\x1b\\\x1b]4;255;rgb:ee/ee/ee\x07\x1bP1$r0;48:2::1:2:3m\x1b\\"


@given(some.lists(some.integers(0, 200), max_size=6),
       some.sampled_from(["", "x", "\x1b[A", "\x1bx", "\x1b", "e\x1b[1;5C"]))
def test_late_answers_are_no_keys_however_they_arrive(cuts: list[int], typed: str) -> None:
    answers = LateAnswers()
    text = (LATE + ATTRIBUTES).decode()
    sent = "b" + text[:30] + text[30:] + typed
    places = sorted({min(cut, len(sent)) for cut in cuts} | {0, len(sent)})
    parts = [sent[one:other] for one, other in itertools.pairwise(places)]
    assert "".join(map(answers.take_out, parts)) + answers.rest() == "b" + typed
    assert answers.ended


def test_a_terminal_that_answers_late_presses_nothing(tmp_path: Path) -> None:
    outer, inner = pty.openpty()
    fcntl.ioctl(inner, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 120, 0, 0))
    given_ = {key: value for key, value in os.environ.items() if key not in ("COLUMNS", "LINES", "BRASS_PEBBLE_SIGNS")}
    with subprocess.Popen([BRASS_PEBBLE, "demo"], stdin=inner, stdout=inner, stderr=inner, start_new_session=True,
                          env={**given_, "TERM": "xterm"}) as process:
        os.close(inner)
        seen = bytearray()

        def read(seconds: float) -> bytes:
            part, end = bytearray(), time.monotonic() + seconds
            while (left := end - time.monotonic()) > 0:
                if select.select([outer], [], [], left)[0]:
                    part += os.read(outer, 65536)
            seen.extend(part)
            return bytes(part)
        try:
            wait_for(lambda: read(0.2) is not None and b"No press yet" in seen and b"armed" in seen, seconds=45)
            read(1)
            os.write(outer, LATE[:20])
            read(0.3)
            os.write(outer, LATE[20:] + ATTRIBUTES)
            # No sheet, no toast, no press: nothing is drawn.
            assert read(1.5) == b""
            os.write(outer, b"?")
            wait_for(lambda: read(0.2) is not None and b"Keys of the Desk view" in seen)
        finally:
            process.terminate()
            while process.poll() is None:
                with contextlib.suppress(OSError):
                    read(0.1)
            os.close(outer)
