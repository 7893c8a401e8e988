"""Gestures, layers and clashes on the screen, driven in a real terminal on the demo."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator

import pytest

from brass_pebble.client import EngineClient, running_sockets
from brass_pebble.demo import demo_desk
from conftest import wait_for
from terminal import Terminal


def desk_text() -> str:
    return (demo_desk() / "desk.toml").read_text()


def undo_to(demo: Terminal, before: str) -> None:
    """Undo, and wait until the desk is as before and the screen knows it."""
    demo.keys("u")
    demo.wait(lambda screen: desk_text() == before)
    time.sleep(0.5)


def open_surface(demo: Terminal, *keys: str) -> None:
    """The Surface view of the surface that the keys select."""
    demo.keys(*keys, "l")
    demo.wait("What each control does now")


@pytest.fixture
def small() -> Iterator[Terminal]:
    terminal = Terminal("demo", size=(80, 24))
    terminal.wait("◉ armed")
    yield terminal
    terminal.close()


def test_a_chord_a_double_tap_and_a_held_layer_from_nothing(demo: Terminal) -> None:
    open_surface(demo)
    # A layer of its own, on top.
    demo.keys("n")
    demo.wait("Name of the new layer")
    demo.type("Guests")
    demo.keys("Enter")
    demo.wait("Off now.")
    assert "[surface.left-numpad.layer.guests]" in desk_text()
    # Held by num-lock's neighbour, the times key.
    demo.keys("PPage", "PPage", "PPage", "PPage")
    demo.wait("What each control does now")
    demo.keys("Right", "Right")
    demo.wait("Left numpad ▸ ×")
    demo.keys("Enter")
    demo.wait("Chord, macro or action")
    demo.type("guests")
    demo.wait("layer Guests: on for as long as the control is held")
    demo.keys("Enter")
    demo.wait("while held guests")
    # In the layer: a double tap on 5, and a tap beside it.
    demo.keys("PPage")
    demo.wait("Off now.")
    demo.keys("Down", "Down", "Left", "Tab", "Down", "Down", "Enter")
    demo.wait("▸ 5 ▸ double tap ▸ Guests")
    demo.type("ctrl+alt+6")
    demo.wait("tap Ctrl+Alt+6 once")
    demo.keys("F8", "F8", "F8")
    demo.wait("second tap within: 180 ms")
    demo.keys("Tab")
    demo.type("guest in")
    demo.keys("Enter")
    demo.wait("within 180ms")
    demo.keys("Up", "Enter")
    demo.wait("▸ 5 ▸ tap ▸ Guests")
    demo.type("ctrl+alt+2")
    demo.wait("tap Ctrl+Alt+2 once")
    demo.keys("Enter")
    demo.wait(re.compile(r"tap +• Ctrl\+Alt\+2").search)
    text = desk_text()
    assert '"double tap"' in text and 'second_within = "180ms"' in text and 'layer = "while held guests"' in text
    # On the desk: hold it, tap 5, then double tap it.
    demo.keys("Escape")
    demo.wait("Click a key")
    demo.keys("Up", "Up", "Right")
    demo.wait("Left numpad ▸ ×")
    demo.keys("Space")
    demo.wait("▸ Guests↧")
    demo.keys("Down", "Down", "Left")
    demo.wait("Left numpad ▸ 5 ▸ tap ▸ Guests")
    demo.keys("Enter")
    demo.wait("◉hob")
    demo.wait(re.compile(r"waited 180 ms for a\s+second tap").search)
    demo._tmux("send-keys", "Enter")
    demo.wait("◉hob")
    demo.keys("Up", "Up", "Right", "Space")
    demo.wait(lambda screen: "Guests↧" not in screen)
    demo.keys("u", "u")
    demo.wait(lambda screen: "double tap" not in desk_text())


def test_a_clash_is_found_and_repaired_with_a_free_chord(demo: Terminal) -> None:
    demo.keys("K")
    demo.wait("1 conflict")
    demo.wait("Ctrl+Alt+N is “set a marker” in Ovenlight")
    demo.wait("“sweep crumbs, or keep")
    demo.keys("y")
    demo.wait("Easiest to remember")
    demo.wait("Ctrl+Alt+M")
    demo.keys("Enter")
    demo.wait("no conflicts")
    assert 'right = {tap = "Ctrl+Alt+M", label = "marker", far = "mark", tint = "rose"}' in desk_text()
    # A chord is sent once, so that a program's own dialog can learn it.
    demo.keys("Escape")
    demo.wait("Click a key")
    demo.keys("l")
    demo.wait("What each control does now")
    demo.keys("F")
    demo.wait("Ctrl+Shift+R")
    demo.keys("F4")
    demo.wait("is sent in")
    demo.wait(re.compile(r"✓ \S+ was sent").search)
    demo.keys("Escape", "Escape")
    demo.wait("once")


def test_a_chord_is_pressed_instead_of_typed(demo: Terminal) -> None:
    demo.keys("Up", "Right", "Right", "b")
    demo.wait("Chord, macro or action")
    demo.keys("F4")
    demo.wait("● Press the chord")
    demo.keys("C-k")
    demo.wait("tap Ctrl+K once")
    demo.keys("F4")
    demo.wait("● Press the chord")
    demo.keys("Escape")
    demo.wait("Cancelled. F4: listen again.")
    demo.keys("Escape")
    demo.wait("Click a key")


def test_copy_swap_mirror_clear_and_what_is_free(demo: Terminal) -> None:
    open_surface(demo)
    before = desk_text()
    demo.keys("Down", "c")
    demo.wait("Copy Left numpad 7: choose where")
    demo.keys(">")
    demo.wait("RIGHT NUMPAD")
    demo.keys("Right", "Enter")
    demo.wait("copied to Right numpad slash")
    assert 'slash = {tap = "Ctrl+Alt+1", label = "wide", tint = "sky"}' in desk_text()
    undo_to(demo, before)
    demo.keys("y")
    demo.wait("free in any layer")
    demo.wait("controls: c copy")
    demo.keys("Escape", "b")
    demo.wait("Chord, macro or action")
    demo.type("ctrl+alt+n")
    demo.wait("! Ctrl+Alt+N: “set a marker” in Ovenlight and “sweep crumbs, or keep them”")
    demo.keys("Escape", "h")
    demo.wait("left and right exchanged")
    undo_to(demo, before)
    demo.keys("f")
    demo.wait("Find a control")
    demo.type("loaf")
    demo.wait(re.compile(r"macro Loaf reveal \(loaf-reveal\) +Right numpad 2, press, in Stings").search)
    demo.keys("Enter")
    demo.wait("Right numpad ▸ 2")
    demo.keys("v", "Right", "v")
    demo.wait("2 controls:")
    demo.keys("F")
    demo.wait("Free chords for 2 controls")
    demo.wait("F19 … F20")
    demo.keys("Enter")
    demo.wait("2 controls: F19 to F20")
    assert '2 = {tap = "F19"}' in desk_text()
    undo_to(demo, before)
    # Or each key's own letter, in one change.
    demo.keys("v", "Right", "v", "F")
    demo.wait(re.compile(r"Ctrl\+Shift with each control's own key").search)
    demo.keys("Down", "Enter")
    demo.wait(re.compile(r"2 controls: \S+Pad\S+ to \S+Pad\S+").search)
    undo_to(demo, before)
    demo.keys("DC")
    demo.wait("cleared")
    undo_to(demo, before)


def test_the_focus_brings_a_layer_and_a_pin_keeps_it(demo: Terminal) -> None:
    demo.wait("focus: Ovenlight")
    demo.keys("j")
    demo.wait("focus: Crumbcut")
    demo.wait("◆ Class ▸ Cut≈")
    demo.keys("g")
    demo.wait("▣ pinned: Crumbcut")
    demo.keys("j")
    demo.wait("▣ pinned: Ovenlight")
    demo.wait("◆ Class ▸ Cut≈")
    demo.keys("g")
    demo.wait(lambda screen: "Cut≈" not in screen)
    # A click into a program gives it the focus, too.
    x, y = demo.find("Crumbcut ──")
    demo.mouse(x + 2, y + 1, down=True)
    demo.mouse(x + 2, y + 1, down=False)
    demo.wait("Cut≈")


def test_a_latch_is_lit_and_a_blank_control_offers_itself(demo: Terminal) -> None:
    demo.keys("Down", "Down", "Down", "Right", "Right", "Right", "Right", "Right", "Right")
    demo.wait("Right numpad ▸ 3 ▸ press ▸ Stings ▸ latch")
    demo.keys("Enter")
    demo.wait(re.compile(r"3 +◉").search)
    time.sleep(0.3)
    demo.keys("Enter")
    demo.wait("let Ctrl+Alt+D go again")
    demo.wait(lambda screen: not re.search(r"3 +◉", screen))
    demo.keys("Left", "Left", "Enter")
    demo.wait("○ Right numpad 1 is not bound. b: bind.")
    demo.keys("b")
    demo.wait("Right numpad ▸ 1 ▸ press ▸ Stings")


def test_what_is_set_for_a_layer(demo: Terminal) -> None:
    open_surface(demo)
    demo.keys("NPage", "NPage", "l")
    demo.wait("▸ layer Titles")
    demo.keys("Down", "Down", "Down", "Down", "Enter")
    demo.wait("Crumbcut   Crumbcut")
    demo.keys("Down", "Enter")
    demo.wait("the window of class Crumbcut")
    assert re.search(r'\[surface\.left-numpad\.layer\.titles\][^\[]*follows = \{?.*Crumbcut|layer\.titles\.follows\]',
                     desk_text())
    demo.keys("Escape", "o")
    demo.wait("Titles on")
    demo.wait("On now: switched on")


def test_the_views_work_in_a_small_terminal(small: Terminal) -> None:
    small.keys("l")
    small.wait("What each control does")
    small.wait("double tap")
    small.keys("Escape", "K")
    small.wait("1 conflict")


def test_while_a_place_is_chosen_a_press_on_the_device_only_chooses(demo: Terminal) -> None:
    demo.keys("l")
    demo.wait("Press a control to select it")
    demo.keys("Down", "c")
    demo.wait("Copy Left numpad 7: choose where")
    with EngineClient(running_sockets()[0], "test") as client:
        wait_for(lambda: client.ask("desk")["desk"]["hands_off"]["surfaces"])
        for down in (True, False):
            client.ask("press", surface="left-numpad", control="times", down=down)
        demo.wait("Left numpad ▸ ×")
        demo.keys("Enter")
        demo.wait("wide")
        wait_for(lambda: not client.ask("desk")["desk"]["hands_off"]["surfaces"])
        assert "hands off" in client.ask("traces")["traces"][-1]["sentence"]
