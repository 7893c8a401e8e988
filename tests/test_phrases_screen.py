"""The Phrases view in a real terminal, by keys and by mouse alone: with the bench, and with a real microphone."""

from __future__ import annotations

import os
import re
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from brass_pebble.client import EngineClient, find_engine
from brass_pebble.demo import HERE, know
from brass_pebble.engine.disk.tighten import tighten
from conftest import run_cli, wait_for
from said import spoken
from sound_server import SoundServer
from terminal import Terminal
from test_mouse_only import Mouse


@pytest.fixture
def phrases(demo: Terminal) -> Terminal:
    demo.keys("J")
    demo.wait(lambda screen: "waits for “dear bakery”" in screen and "camera {camera}" in screen)
    return demo


def choose(terminal: Terminal, text: str) -> None:
    """Put the cursor on a row of the list."""
    for _ in range(20):
        screen = terminal.screen()
        if f"▸ “{text}”" in screen or f"▸ {text}" in screen.splitlines()[1]:
            return
        # The path follows the cursor: on a busy machine a while later.
        path = screen.splitlines()[1]
        terminal.keys("Down")
        terminal.wait(lambda now, path=path: now.splitlines()[1] != path)  # type: ignore[misc]
    raise AssertionError(text)


def test_a_phrase_is_said_by_hand_with_a_value_and_shown_large(phrases: Terminal) -> None:
    choose(phrases, "[set the] light [to] {level} [per cent]")
    phrases.keys("Enter")
    phrases.wait("Type what was said")
    phrases.wait("dear bakery light fifty")
    phrases.keys("Enter")
    phrases.wait("macro “Light to”: light at 50 per cent")
    phrases.keys("e")
    phrases.wait("What was heard last")
    phrases.keys("Escape")
    # Ordinary talk is told, too.
    phrases.keys("Home", "Enter")
    phrases.wait("Type what was said")
    phrases.type("the weather is fine")
    phrases.keys("Enter")
    phrases.wait("is not a phrase here")
    phrases.keys("o")
    phrases.wait("listening is off (o)")
    phrases.keys("o")
    phrases.wait("waits for “dear bakery”")


def test_a_phrase_is_made_changed_doubled_chosen_and_taken_away(phrases: Terminal) -> None:
    phrases.keys("n")
    phrases.wait("A new phrase")
    phrases.type("set a [big] chapter")
    phrases.keys("Enter")
    phrases.wait("▸ set a chapter ▸ press")
    phrases.type("ctrl+alt+2")
    phrases.keys("Enter")
    phrases.wait("Saved. u: undo.")
    phrases.wait("set a [big] chapter  • Ctrl+Alt+2")
    # It is the same as one that there is: both are offered.
    phrases.keys("Home", "Enter")
    phrases.wait("Type what was said")
    phrases.type("dear bakery set a chapter")
    phrases.keys("Enter")
    phrases.wait("Say or press the number, or click it")
    phrases.wait("tap Ctrl+Alt+G")
    phrases.keys("2")
    phrases.wait("tap Ctrl+Alt+2")
    choose(phrases, "set a [big] chapter")
    phrases.keys("i")
    phrases.wait("said as")
    phrases.keys("Down", "Down", "Down", "Enter")
    phrases.wait("What is said")
    phrases.keys("C-u")
    phrases.type("plant a flag")
    phrases.keys("Enter")
    phrases.wait("said as            plant a flag")
    phrases.keys("Escape")
    phrases.wait("plant a flag  • Ctrl+Alt+2")
    phrases.keys("DC")
    phrases.wait(lambda screen: "plant a flag  •" not in screen)
    phrases.keys("u")
    phrases.wait("plant a flag  • Ctrl+Alt+2")


def test_by_mouse_alone_a_phrase_is_said_and_a_reading_chosen(phrases: Terminal) -> None:
    mouse = Mouse(phrases)
    mouse.click("stop scrolling")
    phrases.wait("macro “Stop scrolling”")
    mouse.click("o listen or not")
    phrases.wait("listening is off")
    mouse.click("o listen or not")
    phrases.wait("waits for")
    with EngineClient(find_engine(None), "test") as client:
        client.ask("add_phrase", surface="booth", say=["set a chapter"])
        client.ask("bind", surface="booth", control="set-a-chapter", kind="tap", target="Ctrl+Alt+2")
        client.ask("say", surface="booth", words="dear bakery set a chapter")
    mouse.click("2 set a chapter")
    phrases.wait("✓ tap Ctrl+Alt+2")


def test_in_a_small_terminal_it_is_whole() -> None:
    terminal = Terminal("demo", size=(80, 24))
    try:
        terminal.wait("◉ armed")
        terminal.keys("J")
        terminal.wait(lambda screen: "waits for “dear bakery”" in screen and "[show the] oven close up" in screen)
        lines = terminal.screen().splitlines()
        assert "? help" in lines[-1] and "Esc back" in lines[-1] and all(len(line) <= 80 for line in lines)
    finally:
        terminal.close()


@pytest.fixture
def studio(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[tuple[Terminal, SoundServer]]:
    """A screen on an empty desk, and two microphones of a real sound server."""
    server = SoundServer(Path(os.environ["XDG_RUNTIME_DIR"]) / "pulse")
    server.start()
    monkeypatch.setenv("PULSE_SERVER", server.address)
    desk = tmp_path / "desk"
    desk.mkdir()
    (desk / "desk.toml").write_text('format = 1\nname = "Hut"\noutput = "stage"\novertaken_after = "20s"\n')
    know(desk)
    tighten((desk,))
    assert HERE.exists()
    terminal = Terminal("--desk", str(desk))
    yield terminal, server
    terminal.close()
    server.kill()


def test_a_microphone_is_met_by_speaking_and_its_first_phrase_works(studio: tuple[Terminal, SoundServer]) -> None:
    terminal, server = studio
    terminal.wait("no surfaces yet")
    terminal.keys("M")
    terminal.wait(lambda screen: "Booth" in screen and "F6: choose a microphone" in screen)
    assert "hears:" not in terminal.screen()
    terminal.keys("F6")
    terminal.wait("◖ hears: Booth, to meet one")
    server.play(spoken("cancel everything", "rms"))
    terminal.wait(lambda screen: any("Booth" in line and "▰" in line for line in screen.splitlines()))
    terminal.keys("Enter")
    terminal.wait("◉ listens")
    terminal.wait("◖ hears: Booth")
    terminal.keys("n")
    terminal.wait("A new phrase")
    terminal.type("cancel everything")
    terminal.keys("Enter")
    terminal.wait("▸ cancel everything ▸ press")
    terminal.type("stop everything")
    terminal.wait("■  stop everything")
    terminal.keys("Enter")
    terminal.wait("cancel everything  ■ stop everything")
    server.play(spoken("cancel everything", "slt")).wait()
    terminal.wait(lambda screen: "✓ stop everything" in screen and "70 % needed" in screen)
    with EngineClient(find_engine(None), "test") as client:
        opened = client.ask("privacy")["open"]
        assert any(row["device"] == "Booth" and "surface “Booth”" in row["why"] for row in opened)
        wait_for(lambda: client.ask("voices")["voices"][0]["last"]["do"] == "act")
    assert "spoken phrases" in run_cli("checkup").stdout
    # The microphone goes: the view says so at once.
    server.unplug()
    terminal.wait(lambda screen: "✗ its device" in screen and "◖ hears" not in screen)


def test_by_voice_and_mouse_alone_a_desk_is_made_and_tried(studio: tuple[Terminal, SoundServer]) -> None:
    terminal, server = studio
    mouse = Mouse(terminal)
    terminal.wait("no surfaces yet")
    mouse.click("M meet a device")
    terminal.wait("Booth")
    mouse.click("F6 hear the microphones")
    terminal.wait("◖ hears: Booth, to meet one")
    server.play(spoken("cancel everything", "rms"))
    terminal.wait(lambda screen: any("Booth" in line and "▰" in line for line in screen.splitlines()))
    mouse.click("Enter take it over")
    terminal.wait("◉ listens")
    # The words of a phrase are said; what was understood is chosen, and could be put right.
    mouse.click("F9 say a new phrase")
    terminal.wait("Say the words of the new phrase")
    server.play(spoken("cancel everything", "slt")).wait()
    # Where it stands among the readings is up to the recogniser.
    reading = re.compile(r"\d cancel everything(?= )")
    found = reading.search(terminal.wait(lambda screen: reading.search(screen) is not None))
    assert found is not None
    mouse.click(found[0])
    terminal.wait("A new phrase")
    mouse.click("Enter: OK")
    terminal.wait("▸ cancel everything ▸ press")
    mouse.click("F12: on-screen keys")
    mouse.type("s", "t", "o", "p")
    mouse.click("■  stop everything")
    terminal.wait("cancel everything  ■ stop everything")
    server.play(spoken("cancel everything", "slt")).wait()
    terminal.wait(lambda screen: "✓ stop everything" in screen and "70 % needed" in screen)
    # A recording, tried and erased.
    mouse.click("F8 record")
    terminal.wait(lambda screen: "● records: Booth" in screen and "Recording. Nothing is sent" in screen)
    server.play(spoken("cancel everything", "slt")).wait()
    server.play(spoken("i like bread with butter on it", "rms")).wait()
    time.sleep(0.5)
    mouse.click("F8 record")
    terminal.wait(lambda screen: "1 of 2 utterances would do something" in screen
                  and "s recorded   F8: try it   F10: erase it" in screen)
    assert any("✓ cancel everything" in line and "stop everything" in line for line in terminal.screen().splitlines())
    mouse.click("? help")
    mouse.click("erase the recording")
    terminal.wait(lambda screen: "s recorded" not in screen and "● records" not in screen)
    mouse.click("Esc back")
    terminal.wait(lambda screen: "would do something" not in screen)
