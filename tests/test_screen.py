"""The real interface in a real terminal: open the demo, press, rebind, undo, watch, break, recover."""

from __future__ import annotations

import contextlib
import os
import re
import signal
import time
from pathlib import Path

import pytest

from brass_pebble import paths
from brass_pebble.core.desk.look.drawn import MacroRow
from brass_pebble.demo import demo_desk
from brass_pebble.screen.base.palette import PALETTES, Palette
from brass_pebble.screen.binding.panel import proposals
from brass_pebble.screen.known import Known
from brass_pebble.screen.widgets.board import Board
from brass_pebble.screen.widgets.short_labels import fit
from terminal import Terminal


def engine_pid() -> int:
    from brass_pebble.client import EngineClient, running_sockets
    with EngineClient(running_sockets()[0]) as client:
        return int(client.hello["pid"])


HERE_NOW = re.compile(r"^ (Left numpad|Right numpad|Floor pedals) ▸ (\S+) ▸", re.MULTILINE)
ROWS = ["num ÷ × −", "7 8 9 +", "4 5 6", "1 2 3 ⏎", "0 ."]
ROW_OF = {name: index for index, names in enumerate(ROWS) for name in names.split()}
SURFACES = ["Left numpad", "Right numpad", "Floor pedals"]


def select(demo: Terminal, surface: str, control: str) -> None:
    """Walk there with the arrows as a person would, looking where one is after each step."""
    for _ in range(40):
        here = HERE_NOW.search(demo.wait(lambda screen: bool(HERE_NOW.search(screen))))
        assert here
        if here.groups() == (surface, control):
            return
        step = SURFACES.index(surface) - SURFACES.index(here[1])
        row, wanted = ROW_OF.get(here[2], 0), ROW_OF.get(control, 0)
        if row != wanted and surface != "Floor pedals":
            key = "Down" if row < wanted else "Up"
        elif step:
            key = "Right" if step > 0 else "Left"
        else:
            names = ROWS[row].split() if surface != "Floor pedals" else ["left", "middle", "right"]
            key = "Right" if names.index(here[2]) < names.index(control) else "Left"
        before = here.group()
        demo.keys(key)
        with contextlib.suppress(AssertionError):
            demo.wait(lambda screen, before=before: before not in screen, seconds=2)
    raise AssertionError(demo.screen())


def test_the_demo_shows_everything_at_once(demo: Terminal) -> None:
    demo.wait("Click a key, or select one with the arrows and press Enter.")
    for text in ("Saltmarsh Bakehouse", "LEFT NUMPAD", "RIGHT NUMPAD", "FLOOR PEDALS", "Ovenlight", "close", "cough",
                 "drum", "◉wide", "mic live", "b bind", "x stop all", "W watch a class"):
        demo.wait(text)


def test_the_same_key_of_the_two_pads_by_keyboard(demo: Terminal) -> None:
    select(demo, "Left numpad", "8")
    demo.keys("Enter")
    demo.wait("Ovenlight: camera hob on air")
    demo.wait("◉hob")
    told = re.compile(r"✓ Left numpad 8, press, in Class: "
                      r"tapped Ctrl\+Alt\+2; down \d+(\.\d)? ms later, up after \d+ ms")
    demo.wait(lambda screen: bool(told.search(screen)))
    select(demo, "Right numpad", "8")
    demo.keys("Enter")
    demo.wait("Ovenlight: sting: drum roll")
    demo.wait("sting drum roll")


def test_holding_with_the_mouse_and_with_the_latch(demo: Terminal) -> None:
    x, y = demo.find("cough")
    demo.mouse(x, y, down=True)
    demo.wait("mic muted")
    demo.wait("sustains Ctrl+M")
    demo.mouse(x, y, down=False)
    demo.wait("mic live")
    demo.wait("sustained Ctrl+M")
    demo.keys("Space")
    demo.wait("mic muted")
    demo.wait("⇓")
    demo.keys("Space")
    demo.wait("mic live")


def test_a_key_that_does_nothing_says_why(demo: Terminal) -> None:
    select(demo, "Right numpad", "1")
    demo.wait("nothing bound, swallowed")
    demo.keys("Enter")
    demo.wait("✗ Right numpad 1, press, in Stings: nothing bound; swallowed.")


def test_rebinding_is_live_at_once_saved_and_undone(demo: Terminal) -> None:
    file = demo_desk() / "desk.toml"
    before = file.read_text()
    select(demo, "Right numpad", "1")
    demo.keys("b")
    demo.wait("Chord, macro or action")
    demo.type("ctlr+alt+6")
    demo.wait("no key called “ctlr”. Did you mean Ctrl?")
    for _ in range(10):
        demo.keys("BSpace")
    demo.type("ctrl+alt+6")
    demo.wait("tap Ctrl+Alt+6 once")
    demo.keys("Tab")
    demo.type("guest 2")
    demo.keys("Tab")
    demo.type("gst")
    demo.keys("Enter")
    demo.wait(lambda screen: "Stings ▸ tap Ctrl+Alt+6" in screen and "Chord, macro or action" not in screen)
    assert '1 = {tap = "Ctrl+Alt+6", label = "guest 2", far = "gst"}' in file.read_text()
    demo.keys("Enter")
    demo.wait("◉guest")
    demo.keys("u")
    demo.wait("nothing bound, swallowed")
    assert file.read_text() == before
    demo.keys("r")
    demo.wait("tap Ctrl+Alt+6")
    assert file.read_text() != before


def test_a_macro_is_chosen_by_a_part_of_its_name(demo: Terminal) -> None:
    select(demo, "Right numpad", "3")
    demo.keys("b")
    demo.type("reve")
    demo.wait("play “Loaf reveal”   2.07 s, 10 key events")
    demo.keys("Enter")
    demo.wait("macro Loaf reveal")
    demo.keys("Enter")
    demo.wait("plays “Loaf reveal”")
    demo.keys("x")
    demo.wait("■ Right numpad 3")
    demo.wait("stopped before its end")


def test_a_press_is_explained_hop_by_hop(demo: Terminal) -> None:
    select(demo, "Left numpad", "9")
    demo.keys("Enter")
    demo.wait("camera oven on air")
    demo.keys("e")
    demo.wait("A press, explained")
    for text in ("arrived", "Left numpad", "Class", "▼ down", "▲ up", "planned 40 ms", "camera oven on air"):
        demo.wait(text)
    demo.keys("Escape")
    demo.wait(lambda screen: "A press, explained" not in screen)


def test_the_path_bar_is_walked_and_opened(demo: Terminal) -> None:
    select(demo, "Left numpad", "7")
    demo.keys("Enter")
    demo.wait("Ovenlight: camera wide on air")
    demo.keys("BTab", "Left", "Left", "Enter")
    demo.wait("A press, explained")


def test_a_surface_rests_and_wakes(demo: Terminal) -> None:
    demo.keys("o")
    demo.wait("LEFT NUMPAD  ◌ resting")
    demo.wait("◌ 6 of 7 armed")
    demo.keys("o")
    demo.wait("LEFT NUMPAD  ◆ Class")


def test_commands_are_found_by_name_and_keys_are_told(demo: Terminal) -> None:
    demo.keys("C-p")
    demo.type("watch")
    demo.wait("Watch a class")
    demo.keys("Enter")
    demo.wait("Good evening")
    demo.keys("?")
    demo.wait("in any editor; live when saved")
    demo.keys("Escape", "W")


def test_the_class_plays_hands_off(demo: Terminal) -> None:
    demo.keys("W")
    demo.wait("Good evening from the Saltmarsh Bakehouse")
    demo.wait("played “Welcome”", seconds=12)
    demo.wait("● recording rolling")
    demo.keys("W")
    demo.wait(lambda screen: "of 60 s" not in screen)


def test_a_broken_file_is_shown_with_its_line_and_goes_away_when_mended(demo: Terminal) -> None:
    file = demo_desk() / "macros" / "welcome.macro"
    good = file.read_text()
    file.write_text(good.replace("tap F13", "tpa F13"))
    demo.wait("✗ macros/welcome.macro, line 7: “tpa” is not a step. Did you mean tap?")
    demo.wait("✗ 1 problem")
    demo.keys("p")
    demo.wait("macros/welcome.macro, line 7, column 1")
    demo.keys("Escape")
    file.write_text(good)
    demo.wait(lambda screen: "problem" not in screen)


def test_the_engine_dies_and_comes_back(demo: Terminal) -> None:
    select(demo, "Floor pedals", "left")
    demo.keys("Space")
    demo.wait("mic muted")
    os.kill(engine_pid(), signal.SIGKILL)
    demo.wait("✗ The engine has ended. No key is down, and every device works normally. R: start it again")
    demo.keys("R")
    demo.wait("◉ armed")
    select(demo, "Left numpad", "9")
    demo.keys("Enter")
    demo.wait("camera oven on air")


def test_quitting_ends_the_engine_it_started(demo: Terminal) -> None:
    pid = engine_pid()
    demo.keys("q")
    demo.wait("ended with 0")
    with pytest.raises(ProcessLookupError):
        os.kill(pid, 0)


@pytest.mark.parametrize("size", [(80, 24), (120, 36), (200, 60)])
def test_every_size_shows_all_surfaces(size: tuple[int, int]) -> None:
    terminal = Terminal("demo", size=size)
    try:
        terminal.wait("LEFT NUMPAD")
        for text in ("Ovenlight", "RIGHT NUMPAD", "FLOOR PEDALS", "cough", "music", "Crumbcut ─", "Enter press"):
            terminal.wait(text)
        # The first Enter of a newcomer plays something; it records nothing.
        terminal.keys("Enter")
        terminal.wait("wide on air")
        terminal.resize(80, 24)
        terminal.wait(lambda screen: "Crumbcut ─" in screen and "Enter press" in screen)
    finally:
        terminal.close()


def test_light_and_without_colour() -> None:
    terminal = Terminal("demo", NO_COLOR="1")
    try:
        terminal.wait("LEFT NUMPAD")
        # Another theme changes nothing that can be seen.
        terminal.keys("t", "Down", "Enter", "Escape", "Enter")
        terminal.wait("Ovenlight: camera wide on air")
        # No colour at all is sent; what is bold stays so.
        sent = terminal._tmux("capture-pane", "-p", "-e")
        codes = {code for found in re.findall(r"\x1b\[([0-9;]*)m", sent) for code in found.split(";")}
        # 39 and 49 are the terminal's own.
        coloured = {code for code in codes - {"39", "49"} if len(code) > 1 and code[0] in "3491"}
        assert "1" in codes and not coloured, codes
        # What is selected stands in a ring of reversed cells.
        assert re.search(r"\x1b\[[0-9;]*7m +7 ", sent)
    finally:
        terminal.close()


def test_the_theme_is_remembered(demo: Terminal) -> None:
    demo.keys("t")
    demo.wait("highest contrast")
    demo.keys("Down", "Down", "Enter", "Escape")
    memory = paths.state_folder() / "screen.json"
    demo.wait(lambda screen: memory.exists() and "beacon" in memory.read_text())
    demo.close()
    again = Terminal("demo")
    try:
        again.wait("LEFT NUMPAD")
        # White on black.
        assert "38;2;255;255;255" in again._tmux("capture-pane", "-p", "-e")
        again.close()
        memory.write_text("not JSON")
        third = Terminal("demo")
        third.wait("LEFT NUMPAD")
        third.close()
    finally:
        again.close()


def _light(colour: str) -> float:
    """The relative luminance of WCAG 2."""
    parts = [int(colour[at:at + 2], 16) / 255 for at in (1, 3, 5)]
    red, green, blue = (part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4 for part in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def _contrast(one: str, other: str) -> float:
    dark, light = sorted((_light(one), _light(other)))
    return (light + 0.05) / (dark + 0.05)


@pytest.mark.parametrize("palette", PALETTES.values(), ids=lambda palette: palette.name)
def test_everything_that_says_something_stands_out(palette: Palette) -> None:
    least = 7.0 if palette.name == "beacon" else 4.5
    for ground in (palette.ground, palette.panel):
        for name in ("text", "dim", "brass", "verdigris", "rust", "edge"):
            assert _contrast(getattr(palette, name), ground) >= least, (name, _contrast(getattr(palette, name), ground))
        for name, colour in palette.tints.items():
            assert _contrast(colour, ground) >= least, (name, _contrast(colour, ground))
    assert _contrast(palette.faint, palette.ground) >= 3 and _contrast(palette.on_brass, palette.brass) >= 4.5


def test_the_screen_of_an_empty_desk_says_what_to_do(tmp_path: Path) -> None:
    (tmp_path / "desk.toml").write_text('format = 1\nname = "Fresh"\noutput = "stage"\n')
    terminal = Terminal("--desk", str(tmp_path))
    try:
        screen = terminal.wait("This desk has no surfaces yet.")
        assert "Meet a device" in screen and "brass-pebble demo" in screen
    finally:
        terminal.close()


def test_a_desk_opens_without_its_hardware_and_without_a_virtual_keyboard(desk: Path) -> None:
    file = desk / "desk.toml"
    file.write_text(file.read_text().replace('output = "stage"', 'output = "uinput"'))
    terminal = Terminal("--desk", str(desk))
    try:
        terminal.wait("LEFT NUMPAD  ✗ missing")
        if not Path("/dev/uinput").exists():
            terminal.wait("nothing can be sent, so no device is taken over: the kernel's virtual keyboard is missing")
        terminal.wait("7 ▸ press ▸ Class")
        terminal.keys("b")
        terminal.type("ctrl+9")
        terminal.keys("Enter")
        terminal.wait("Class ▸ tap Ctrl+9")
        assert '7 = {tap = "Ctrl+9"' in file.read_text()
    finally:
        terminal.close()


@pytest.mark.parametrize(("text", "first"), [
    ("ctrl+4", "•  tap Ctrl+4 once"), ("oven", "▸  play “Oven close-up”"), ("play Oven", "▸  play “Oven close-up”"),
    ("play “oven close-up”", "▸  play “Oven close-up”"), ("ctrl+ente", "…  Ctrl+Enter"),
    ("stop", "■  stop everything"), ("swal", "∅  swallow"), ("clear", "○  nothing"),
])
def test_proposals(text: str, first: str) -> None:
    macros = [MacroRow(id="oven-close-up", name="Oven close-up", label="", tint="", note="", length_ms=10,
                       events=2, live=False)]
    choices, complaint = proposals(text, macros, bound=True)
    assert complaint == ""
    assert choices[0].shown.startswith(first)


@pytest.mark.parametrize(("label", "width", "fitted"), [
    ("oven", 8, "oven"), ("next cam", 8, "next cam"), ("next cam", 7, "nextcam"), ("music off", 5, "m off"),
    ("close", 3, "cl…"), ("louder", 4, "lou…"), ("Welcome", 5, "Wlcme"), ("record", 5, "recrd"), ("x", 0, ""),
    ("朝の準備", 7, "朝の準…"), ("épée verte", 6, "éverte"),
])
def test_labels_are_made_to_fit(label: str, width: int, fitted: str) -> None:
    assert fit(label, width) == fitted


def test_a_press_told_late_does_not_take_back_what_was_chosen_since() -> None:
    chosen: list[tuple[str, str]] = []
    board = Board(Known())
    board.select = chosen.append  # type: ignore[method-assign]
    began = time.time()
    assert board.follow(("pad", "a"), began)
    board.choose(("pad", "b"))
    assert not board.follow(("pad", "a"), began) and board.follow(("pad", "a"), time.time())
    # What was pressed here was chosen here, however long its trace takes.
    board.known.pressed_here["pad", "c"] = time.time()
    assert not board.follow(("pad", "c"), time.time()) and board.follow(("pad", "c"), time.time() + 2)
    assert chosen == [("pad", "a"), ("pad", "b"), ("pad", "a"), ("pad", "c")]
