"""The Macro view in a real terminal: make, edit in text and lanes, rehearse, record, bind, play."""

from __future__ import annotations

import re
import signal
import time
from pathlib import Path

import pytest

from brass_pebble.client import EngineClient, running_sockets, start_engine
from brass_pebble.demo import demo_desk
from brass_pebble.screen.macro.place import below
from conftest import wait_for
from terminal import Terminal
from test_meet_screen import click


def macro_text(name: str) -> str:
    return (demo_desk() / "macros" / f"{name}.macro").read_text()


def open_macro(demo: Terminal, name: str) -> None:
    demo.keys("O")
    demo.wait("Part of a macro's name")
    demo.type(name)
    demo.keys("Enter")
    demo.wait("✓ live")


def test_a_macro_made_in_the_text_is_live_bound_and_played(demo: Terminal) -> None:
    demo.keys("O")
    demo.wait("Part of a macro's name")
    demo.type("Crust shot")
    demo.wait("+  new macro “Crust shot”")
    demo.keys("Enter")
    demo.wait("No events yet.")
    demo.type("tap Ctrl+Alt+3 for 60ms")
    demo.keys("Enter")
    demo.type("repeat 2 every 300ms")
    demo.keys("Enter")
    demo.type("tpa F18")
    demo.wait("✗ line 5, column 3: “tpa” is not a step. Did you mean tap?")
    demo.wait("✗ a draft: the last good version plays")
    demo.wait("✗ line 5 has an error: the lanes show the last text without errors")
    demo.keys("BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace")
    demo.type("tap F18")
    demo.wait("400 ms · 10 events · closest pair 40 ms")
    demo.wait("✓ live")
    assert macro_text("crust-shot") == (
        'name "Crust shot"\n\ntap Ctrl+Alt+3 for 60ms\nrepeat 2 every 300ms\n  tap F18')
    # Bound by pressing the control, then it plays.
    demo.keys("F9")
    demo.wait("Press the key that should play this macro")
    with EngineClient(running_sockets()[0]) as client:
        for down in (True, False):
            client.ask("press", surface="right-numpad", control="1", down=down)
        demo.wait("bound: Right numpad 1")
        demo.keys("Escape")
        demo.wait("RIGHT NUMPAD")
        for down in (True, False):
            client.ask("press", surface="right-numpad", control="1", down=down)
    demo.wait("played “Crust shot”")
    demo.wait("Ovenlight: camera oven on air")


def test_editing_in_the_lanes_changes_the_text_and_undo_takes_it_back(demo: Terminal) -> None:
    before = macro_text("oven-close-up")
    open_macro(demo, "oven")
    demo.wait("selected: Ctrl #1, at 0 ms, 40 ms long, line 6")
    demo.keys("Right", "Right")
    demo.wait("selected: 4 #1, at 0 ms, 40 ms long, line 7   step 10ms (i)")
    demo.keys("+", "+")
    demo.wait("tap 4 for 60ms")
    demo.keys("i", "Right")
    demo.wait("selected: Ctrl #2, at 360 ms")
    demo.keys("S-Left")
    demo.wait("wait 200ms")
    demo.wait("wait 2.1s")
    demo.wait("earlier by 100ms   u: undo")
    wait_for(lambda: "tap 4 for 60ms\nwait 200ms\ntap Ctrl+Alt+T\nwait 2.1s" in macro_text("oven-close-up"))
    demo.keys("/")
    demo.wait("times made 0.5 times as long")
    demo.keys("c")
    demo.wait("“tap Ctrl+Alt+T for 20ms” twice")
    demo.keys("DC")
    demo.wait("is gone")
    demo.keys("u", "u", "u", "u", "u", "u")
    wait_for(lambda: macro_text("oven-close-up") == before)
    demo.keys("r")
    demo.wait("tap 4 for 50ms")
    # With the mouse: the word in the line of tools.
    click(demo, "longer")
    demo.wait(re.compile(r"held \d+ms").search)
    # Insert asks for a line; what is no step is told and changes nothing.
    demo.keys("n")
    demo.wait("Inserted after the selected step")
    demo.type("wiat 1s")
    demo.keys("Enter")
    demo.wait("“wiat” is not a step. Did you mean wait?")
    demo.keys("n")
    demo.wait("Inserted after the selected step")
    demo.type("wait 1s")
    demo.keys("Enter")
    demo.wait("“wait 1s” is new")


def test_text_and_lanes_choose_together(demo: Terminal) -> None:
    open_macro(demo, "welcome")
    demo.keys("Tab", "Down", "Down")
    demo.wait(re.compile(r"selected: Ctrl #2, at \d+ ms, 40 ms long, line 9").search)
    demo.keys("Tab", "End")
    demo.wait(re.compile(r"line 12   step 10ms").search)


def test_rehearsing_tells_what_landed_and_what_was_missed(demo: Terminal) -> None:
    open_macro(demo, "oven")
    demo.keys("Tab", "NPage", "NPage", "End")
    demo.type("wait 300ms")
    demo.keys("Enter")
    demo.type("tap Ctrl+Alt+2 for 3ms")
    demo.wait("✓ live")
    demo.keys("F5")
    demo.wait("✓ Ovenlight: camera close on air")
    demo.wait("Rehearsal over: 24 events")
    demo.wait(re.compile(r"missed 2: [\d.]+ ms is too short, it looks every 16 ms").search)
    # Nothing of it reached the desk's own stage.
    demo.keys("Escape")
    demo.wait(lambda screen: "Rehearsal over" not in screen)
    demo.keys("Escape")
    demo.wait("◉wide")


def test_playing_for_real_after_a_count_in_and_stopping_it(demo: Terminal) -> None:
    open_macro(demo, "oven")
    demo.keys("F6")
    demo.wait("Playing to the stage in 3")
    demo.wait("playing for real")
    demo.keys("F7")
    demo.wait("stopped; no key is down")
    demo.keys("F6")
    demo.wait("in 3 …")
    demo.keys("F7")
    demo.wait("stopped; no key is down")


def test_recording_on_a_device_of_the_bench(demo: Terminal) -> None:
    open_macro(demo, "rye")
    demo.wait("line 6 ")
    demo.keys("End")
    demo.wait("line 11 ")
    demo.keys("F8")
    demo.wait("○ Which device? Only this one is recorded: keys and clicks (o).   Time is kept: as played")
    demo.keys("o")
    demo.wait("keys, clicks and the pointer's way")
    demo.keys("o")
    demo.keys("i")
    demo.wait("Time is kept: evened out")
    demo.keys("i")
    demo.wait("Time is kept: none")
    demo.wait("Kettle six-key knob pad")
    demo.keys("Down", "Down", "Down", "Down", "Enter")
    demo.wait("get ready on the Kettle six-key knob pad")
    demo.wait("● RECORDING the Kettle six-key knob pad: 0 keys")
    click(demo, "╭ 1 ")
    demo.wait("F19 down   F19 up")
    click(demo, "╭ 2 ")
    demo.wait("● RECORDING the Kettle six-key knob pad: 2 keys")
    demo.keys("Escape")
    demo.wait("2 lines recorded")
    wait_for(lambda: macro_text("rye-title").endswith("tap F19\ntap F20\n"))
    demo.keys("u")
    wait_for(lambda: "F19" not in macro_text("rye-title"))


def test_recording_in_the_middle_of_a_show_and_taking_it_off_again(tmp_path: Path) -> None:
    desk = tmp_path / "desk"
    desk.mkdir(mode=0o700)
    (desk / "desk.toml").write_text(
        'format = 1\nname = "Show"\noutput = "stage"\n[stage.ovenlight]\nat = [5, 0]\n[surface.pad]\nname = "Pad"\n'
        'layout = "grid-3x2"\ndevice = { name = "Pad" }\n[surface.pad.layer.base.press]\n1 = { do = "record" }\n'
        '2 = { tap = "Ctrl+Alt+2" }\n3 = { tap = "F13" }\n4 = { do = "stop everything" }\n')
    (tmp_path / "bench.toml").write_text('[[device]]\nid = "bench/pad"\nname = "Pad"\nlayout = "grid-3x2"\n')
    socket, process = start_engine(desk, "--bench", str(tmp_path / "bench.toml"), "--bench-only")
    terminal = Terminal("--desk", str(desk))
    try:
        terminal.wait("◉ armed")
        with EngineClient(socket) as client:
            def press(control: str) -> None:
                for down in (True, False):
                    client.ask("press", surface="pad", control=control, down=down)
            press("1")
            terminal.wait("● RECORD: press the key that should play this macro.")
            press("6")
            terminal.wait("● RECORDING onto Pad 6")
            press("2")
            time.sleep(0.5)
            press("3")
            time.sleep(0.2)
            press("1")
            terminal.wait("recorded onto Pad 6, live now")
            terminal.wait("rec 1")
            text = (desk / "macros" / "recorded-1.macro").read_text()
            assert re.search(r"tap Ctrl\+Alt\+2\nwait \d+ms\ntap F13", text), text
            press("6")
            terminal.wait("played “Recorded 1”")
            press("1")
            press("6")
            terminal.wait("● RECORDING onto Pad 6")
            press("1")
            terminal.wait("nothing was played, so Pad 6 was cleared")
            wait_for(lambda: "6 =" not in (desk / "desk.toml").read_text())
            assert not (desk / "macros" / "recorded-1.macro").exists()
            # Whatever ends it without saving says so, and the key that stops everything is one of them.
            for end in (lambda: terminal.keys("Escape"), lambda: terminal.keys("x"), lambda: press("4")):
                press("1")
                press("6")
                terminal.wait("● RECORDING onto Pad 6")
                press("2")
                end()
                terminal.wait("nothing was saved")
                terminal.wait(lambda screen: "● RECORDING onto Pad 6" not in screen)
                assert not list((desk / "macros").glob("*.macro"))
    finally:
        terminal.close()
        process.send_signal(signal.SIGTERM)
        process.wait(timeout=10)


def test_what_could_come_next_is_written_by_a_key_or_a_click(demo: Terminal) -> None:
    demo.keys("O")
    demo.wait("Guest title")
    demo.type("guest")
    demo.keys("Enter")
    demo.wait("Who is the guest?")
    demo.keys("Tab", "End", "Enter")
    demo.type("wait u")
    demo.wait("Ctrl+Space until")
    demo.keys("C-Space")
    demo.wait("wait until")
    demo.type(" window ")
    demo.wait(lambda screen: '"Ovenlight"' in screen and "class" in screen)
    demo.mouse(*demo.find('"Ovenlight"'), down=True)
    demo.mouse(*demo.find('"Ovenlight"'), down=False)
    demo.wait('wait until window "Ovenlight"')
    demo.type(" is there")
    demo.keys("Enter")
    demo.type('type "{gu')
    demo.wait(lambda screen: "Ctrl+Space guests  guest" in screen or "Ctrl+Space guest  guests" in screen)
    demo.keys("C-Space", "C-Space")
    demo.type('}"')
    demo.wait("✓ live")
    # What the step does, by F1; all steps on an empty line.
    demo.keys("F1")
    demo.wait("Types a text, one character after the other")
    demo.keys("Escape", "End", "Enter", "F1")
    demo.wait(lambda screen: "tap CHORD [for 80ms]" in screen and "repeat while held" in screen)
    demo.keys("Escape")


def test_the_list_of_macros_marks_what_they_do(demo: Terminal) -> None:
    demo.keys("O")
    demo.wait("reaches outside")
    rows = {line.split("▸")[1][:40].strip(" │"): line for line in demo.screen().splitlines() if "▸  " in line}
    assert any("?◆" in row and "Guest title" in row for row in rows), rows
    assert any(row.startswith("↻") and "Welcome" in row for row in rows), rows


@pytest.mark.parametrize(("text", "row", "found"), [
    ("tap A\ntap B", 0, (0, "")),
    ("keep Ctrl down\n\n  tap A\ntap B", 0, (0, "  ")),
    ("repeat 3\n  tap A", 1, (1, "  ")),
    ("type lines\n  Dear baker,\n\n    rye\n\ntap B", 0, (3, "")),
    ("keep Ctrl dow", 0, (0, "")),
])
def test_where_a_picked_place_is_written(text: str, row: int, found: tuple[int, str]) -> None:
    assert below(text.split("\n"), row) == found
