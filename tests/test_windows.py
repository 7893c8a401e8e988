"""Windows and programs from macros: the same macros and the same traces under an X display with a window manager and
under a headless Wayland compositor."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from brass_pebble.client import EngineClient
from brass_pebble.kinds.errands.call import Call
from brass_pebble.kinds.errands.desktop import is_own, processes_of
from brass_pebble.kinds.errands.names import Names
from brass_pebble.kinds.windows.base import SeenWindow, find
from brass_pebble.kinds.windows.table import desktop_kind, open_desktop
from conftest import run_cli, wait_for
from needed import needs
from processes import children
from standstill import took
from test_focus import DESK, Screen, compositor, connected, screen, start

Row = dict[str, Any]
__all__ = ["compositor", "screen"]


@pytest.fixture(params=["screen", "compositor"])
def desktop(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[EngineClient]:
    """An engine on a desktop of either kind, with two windows; what it sends goes nowhere."""
    found = request.getfixturevalue(request.param)
    desk = DESK.replace('output = "x11"', 'output = "uinput"')
    with connected(*start(tmp_path, desk, "--may-lack-output")) as client:
        wait_for(lambda: {window.title for window in look()} == {"On air", "The timeline"}, 30)
        del found
        yield client


def look() -> list[SeenWindow]:
    here = open_desktop()
    try:
        return here.look()
    finally:
        here.close()


def focused() -> str:
    return next((window.title for window in look() if window.focused), "")


def play(client: EngineClient, text: str) -> Row:
    """Play a macro to its end; its trace."""
    client.ask("write_macro", macro="trial", text=text)
    trace = client.ask("play", macro="trial")["trace"]

    def row() -> Row:
        return next(dict(row) for row in client.ask("traces")["traces"] if row["id"] == trace)
    wait_for(lambda: row()["state"] not in ("playing", "queued"), 20)
    return row()


def told(row: Row) -> tuple[str, str, list[str]]:
    return row["state"], row["why"], row["remarks"]


def test_windows_are_waited_for_focused_placed_and_closed(desktop: EngineClient) -> None:
    client = desktop
    text = ('wait until window "air" is there at most 3s\nfocus window "timeline"\n'
            'wait until window "timeline" is focused at most 2s\nfocus window class "OVENLIGHT"\nshow "done"\n')
    assert told(play(client, text)) == ("done", "", ["line 5: showed “done”"])
    assert focused() == "On air"
    assert told(play(client, 'raise window "nowhere"\n')) == (
        "stopped", 'line 1: could not raise the window "nowhere"', ["line 1: there is no window “nowhere”"])
    assert told(play(client, 'focus window "nowhere"\notherwise\n  show "other way"\n'))[2] == [
        "line 1: there is no window “nowhere”", "line 3: showed “other way”"]
    row = play(client, 'place window "air" at 50% 0% size 50% 100%\nplace window "air" at 0 0 size 9 9 on screen 7\n'
                       'otherwise\n  show "no such screen"\n')
    assert told(row) == ("done", "", ["line 2: there is no screen 7: 1 is here", "line 4: showed “no such screen”"])
    here = open_desktop()
    window, area = find(here, "air", by_class=False), here.screens()[0]
    assert window is not None
    wait_for(lambda: abs(place_of(window.key)[0] - area.width // 2) <= 12 and abs(
        place_of(window.key)[2] - area.width // 2) <= 24)
    here.close()
    assert told(play(client, 'close window "air"\nwait until window "air" is gone at most 5s\n')) == ("done", "", [])
    assert {window.title for window in look()} == {"The timeline"}


def place_of(key: int) -> tuple[int, int, int, int]:
    """Where a window is: left, top, width, height."""
    if "SWAYSOCK" in os.environ:
        needs("swaymsg")
        tree = json.loads(subprocess.run(["swaymsg", "-t", "get_tree"], capture_output=True, check=True).stdout)
        waiting = [tree]
        while waiting:
            node = waiting.pop()
            if node.get("id") == key:
                rect = node["rect"]
                return rect["x"], rect["y"], rect["width"], rect["height"]
            waiting += [*node.get("nodes", ()), *node.get("floating_nodes", ())]
        raise AssertionError(key)
    from Xlib import display
    here = display.Display()
    window = here.create_resource_object("window", key)
    size, at = window.get_geometry(), window.translate_coords(here.screen().root, 0, 0)
    here.close()
    return -at.x, -at.y, size.width, size.height


def test_what_a_desktop_cannot_do_is_said(compositor: str, tmp_path: Path) -> None:
    desk = DESK.replace('output = "x11"', 'output = "uinput"')
    with connected(*start(tmp_path, desk, "--may-lack-output")) as client:
        wait_for(lambda: len(look()) == 2, 30)
        state, why, remarks = told(play(client, 'minimise window "air"\n'))
        assert (state, why) == ("stopped", 'line 1: could not minimise the window "air"')
        assert "cannot minimise a window" in remarks[0]


def test_a_window_is_minimised_and_comes_back(screen: Screen, tmp_path: Path) -> None:
    from Xlib import X, display
    desk = DESK.replace('output = "x11"', 'output = "uinput"')
    with connected(*start(tmp_path, desk, "--may-lack-output")) as client:
        here = display.Display()
        window = here.create_resource_object("window", screen.windows["Ovenlight"][1])
        assert told(play(client, 'minimise window class "Ovenlight"\n'))[0] == "done"
        wait_for(lambda: window.get_attributes().map_state != X.IsViewable)
        assert told(play(client, 'focus window "air"\n'))[0] == "done"
        wait_for(lambda: window.get_attributes().map_state == X.IsViewable and focused() == "On air")


@pytest.fixture
def program(tmp_path: Path) -> Iterator[Path]:
    """A program of an odd name that stays; with a file beside it, it ignores being asked to end."""
    file = tmp_path / "bakers-clock"
    file.write_text(f"#!{sys.executable}\nimport os, signal, sys, time\n"
                    f"if os.path.exists({str(tmp_path / 'stubborn')!r}):\n"
                    "    signal.signal(signal.SIGTERM, signal.SIG_IGN)\n"
                    f"open({str(tmp_path / 'started')!r}, 'a').write(' '.join(sys.argv[1:]) + '\\n')\n"
                    "time.sleep(60)\n")
    file.chmod(0o755)
    yield file
    for pid in processes_of("bakers-clock"):
        os.kill(pid, signal.SIGKILL)


def test_a_program_is_opened_once_outlives_the_engine_and_is_closed(
        screen: Screen, program: Path, tmp_path: Path) -> None:
    desk = DESK.replace('output = "x11"', 'output = "uinput"')
    socket, process = start(tmp_path, desk, "--may-lack-output")
    with EngineClient(socket, "test") as client:
        text = f'open "{program}" "half past"\nwait until program "bakers-clock" is there at most 5s\n'
        assert told(play(client, text)) == ("done", "", ["line 1: started bakers-clock"])
        assert told(play(client, text)) == ("done", "", [f"line 1: {program} is already running, without a window"])
        wait_for(lambda: (tmp_path / "started").read_text() == "half past\n")
        named = client.ask("programs")["programs"]
        assert named.index("bakers-clock") < named.index("sh") and len(set(named)) == len(named)
        process.kill()
        process.wait()
        assert len(processes_of("bakers-clock")) == 1


def test_closing_leaves_alone_what_no_macro_has_started(screen: Screen, program: Path, tmp_path: Path) -> None:
    desk = DESK.replace('output = "x11"', 'output = "uinput"')
    mine = subprocess.Popen([str(program)])
    try:
        with connected(*start(tmp_path, desk, "--may-lack-output")) as client:
            wait_for(lambda: processes_of("bakers-clock") == [mine.pid])
            row = play(client, 'close program "bakers-clock"\notherwise\n  show "left"\n')
            assert "was not started by a macro and has no window" in told(row)[2][0] and mine.poll() is None
            # Nor, whatever it is called, anything of this program itself: the engine, and what ends its helpers.
            assert told(play(client, 'run "true"\n'))[0] == "done"
            engine = client.hello["pid"]
            # The macro goes on at once, and so is over before its helper has begun.
            wait_for(lambda: children(engine))
            ours = children(engine)
            assert ours and all(is_own(pid) for pid in (engine, *ours)) and not is_own(mine.pid)
            assert told(play(client, 'close every program "bakers-clock"\n'))[0] == "done"
            wait_for(lambda: mine.poll() is not None)
    finally:
        mine.kill()
        mine.wait()


def test_closing_is_polite_first_and_then_by_force(screen: Screen, program: Path, tmp_path: Path) -> None:
    desk = DESK.replace('output = "x11"', 'output = "uinput"')
    with connected(*start(tmp_path, desk, "--may-lack-output")) as client:
        assert told(play(client, 'close program "bakers-clock"\notherwise\n  show "not there"\n'))[2] == [
            "line 1: bakers-clock does not run", "line 3: showed “not there”"]
        play(client, f'open "{program}"\nwait until program "bakers-clock" is there at most 5s\n')
        assert told(play(client, 'close program "bakers-clock"\nwait until program "bakers-clock" is gone\n')) == (
            "done", "", [])
        (tmp_path / "stubborn").touch()
        play(client, f'open "{program}"\nwait until program "bakers-clock" is there at most 5s\n')
        wait_for(lambda: (tmp_path / "started").read_text().count("\n") == 2)
        row = play(client, 'close program "bakers-clock" at most 300ms\n')
        assert told(row)[2] == ["line 1: bakers-clock did not end by itself within 0.3 s and was ended by force"]
        assert processes_of("bakers-clock") == []


def test_a_window_of_a_program_that_runs_comes_to_the_front(screen: Screen, tmp_path: Path) -> None:
    desk = DESK.replace('output = "x11"', 'output = "uinput"')
    with connected(*start(tmp_path, desk, "--may-lack-output")) as client:
        screen.focus("Crumbcut")
        wait_for(lambda: focused() == "The timeline")
        row = play(client, 'open "no-such-program" as class "Ovenlight"\n')
        assert told(row)[2] == ["line 1: no-such-program is already running: its window was brought to the front"]
        assert focused() == "On air"
        row = play(client, 'open "no-such-program" as class "Nothing"\n')
        assert told(row)[2] == ["line 1: no-such-program could not be started: No such file or directory"]


@pytest.mark.parametrize("way", ["by the protocol", "by programs"])
def test_pasting_under_wayland_gives_the_clipboard_back(way: str, compositor: str, tmp_path: Path,
                                                        monkeypatch: pytest.MonkeyPatch) -> None:
    from brass_pebble.kinds.clipboard import table
    if way == "by programs":
        monkeypatch.setattr(table, "CLIPBOARDS", table.CLIPBOARDS[1:])
    needs("wl-copy", "wl-paste")
    display = next(Path(compositor).parent.glob("wayland-?"))
    monkeypatch.setenv("WAYLAND_DISPLAY", str(display))
    wait_for(lambda: len(look()) == 2, 30)
    picture = bytes(range(256)) * 500
    subprocess.run(["wl-copy", "--type", "image/png"], input=picture, check=True, timeout=5)

    def held(*words: str) -> bytes:
        return subprocess.run(["wl-paste", "--no-newline", *words], capture_output=True, check=False, timeout=5).stdout
    from brass_pebble.core.macro.asks import Errand
    from brass_pebble.kinds.errands.pasting import Pasting
    pasting = Pasting()
    said, chord = pasting.offer(Errand(1, "paste", ("Žluťoučký kůň", ""), wait=True), Call(5, Names()))
    # The focused window is a terminal with a class of its own.
    assert (said, chord) == ("", "Ctrl+V")
    assert held() == "Žluťoučký kůň".encode()
    assert pasting.settle() == ("", True)
    wait_for(lambda: held("--type", "image/png") == picture)
    pasting.offer(Errand(1, "paste", ("nobody wants it", ""), wait=True), Call(5, Names()))
    began = time.monotonic()
    assert pasting.settle() == ("nobody fetched the pasted text within 2 s; what the clipboard held is back", True)
    assert took(began) < 4
    wait_for(lambda: held("--type", "image/png") == picture)
    pasting.close()
    wait_for(lambda: held("--type", "image/png") == picture)


def test_a_paste_that_cannot_be_offered_gives_back_what_was_held(compositor: str, tmp_path: Path,
                                                                 monkeypatch: pytest.MonkeyPatch) -> None:
    needs("wl-copy", "wl-paste")
    from brass_pebble.core.macro.asks import Errand
    from brass_pebble.kinds.clipboard import table, wayland
    from brass_pebble.kinds.errands.pasting import Pasting
    monkeypatch.setattr(table, "CLIPBOARDS", table.CLIPBOARDS[1:])
    # A program that never comes to hold what is offered for one paste.
    slow = tmp_path / "wl-copy"
    slow.write_text('#!/bin/sh\ncase "$*" in *--paste-once*) exec sleep 60 ;; esac\n'
                    f'exec {shutil.which("wl-copy")} "$@"\n')
    slow.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")
    monkeypatch.setattr(wayland, "TAKES_WITHIN", 0.3)
    monkeypatch.setenv("WAYLAND_DISPLAY", str(next(Path(compositor).parent.glob("wayland-?"))))
    wait_for(lambda: len(look()) == 2, 30)
    picture = bytes(range(256)) * 100
    subprocess.run(["wl-copy", "--type", "image/png"], input=picture, check=True, timeout=5)
    pasting = Pasting()
    said, chord = pasting.offer(Errand(1, "paste", ("rye", ""), wait=True), Call(5, Names()))
    assert (said, chord) == ("the clipboard could not be used: the compositor does not let wl-copy hold the clipboard",
                             False)
    assert not pasting.pending
    wait_for(lambda: subprocess.run(["wl-paste", "--no-newline", "--type", "image/png"], capture_output=True,
                                    check=False, timeout=5).stdout == picture)
    pasting.close()


def test_every_form_comes_back_under_wayland(compositor: str, monkeypatch: pytest.MonkeyPatch) -> None:
    needs("wl-paste")
    from brass_pebble.kinds.clipboard.base import Held
    from brass_pebble.kinds.clipboard.data_control import ClipboardOfDataControl
    monkeypatch.setenv("WAYLAND_DISPLAY", str(next(Path(compositor).parent.glob("wayland-?"))))
    wait_for(lambda: len(look()) == 2, 30)
    forms = {"text/plain": "žluť".encode(), "text/html": b"<b>rye</b>", "image/png": bytes(range(256)) * 2_000}
    other, ours = ClipboardOfDataControl(), ClipboardOfDataControl()
    other.give_back("clipboard", Held(forms))
    wait_for(lambda: ours.text(Call(5, Names())) == "žluť")
    kept = ours.keep("clipboard", Call(5, Names()))
    assert {name: kept.forms.get(name) for name in ("text/html", "image/png")} == {
        name: forms[name] for name in ("text/html", "image/png")} and "žluť".encode() in kept.forms.values()
    ours.offer("clipboard", "pasted")
    began = time.monotonic()
    assert subprocess.run(["wl-paste", "--no-newline"], capture_output=True, check=True, timeout=5).stdout == b"pasted"
    assert ours.fetched(began, 2)
    assert ours.give_back("clipboard", kept) == ""
    for name, data in forms.items():
        assert subprocess.run(["wl-paste", "--no-newline", "--type", name], capture_output=True, check=True,
                              timeout=5).stdout == data
    for one in (ours, other):
        one.close()


def test_without_a_display_it_is_said(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "SWAYSOCK", "I3SOCK"):
        monkeypatch.delenv(name, raising=False)
    assert desktop_kind() is None
    desk = DESK.replace('output = "x11"', 'output = "uinput"')
    with connected(*start(tmp_path, desk, "--may-lack-output")) as client:
        row = play(client, 'focus window "air"\notherwise\n  paste "x"\n')
        assert told(row)[2] == ["line 1: no display is known here whose windows can be told",
                                "line 3: the clipboard could not be used: no display is known here"]


def test_the_check_and_the_checkup_tell_what_this_desktop_cannot_do(compositor: str, tmp_path: Path) -> None:
    file = tmp_path / "away.macro"
    file.write_text('focus window "air"\nminimise window "air"\nremember pointer\n')
    done = run_cli("macro", "check", str(file))
    assert done.returncode == 0 and done.stdout.splitlines()[:2] == [
        f"{file}:2: the compositor (sway protocol) cannot minimise a window. Write an otherwise for it, or play it on "
        "another machine",
        f"{file}:3: where the pointer is cannot be told here. Write an otherwise for it, or play it on another machine"]
    assert "it cannot minimise them" in run_cli("checkup", "--desk", str(tmp_path)).stdout


def test_a_compositor_without_the_sway_protocol_is_asked_by_foreign_toplevel(
        compositor: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("WAYLAND_DISPLAY", str(next(Path(compositor).parent.glob("wayland-?"))))
    monkeypatch.delenv("SWAYSOCK")
    desk = DESK.replace('output = "x11"', 'output = "uinput"')
    with connected(*start(tmp_path, desk, "--may-lack-output")) as client:
        assert desktop_kind() is not None and "foreign" in str(desktop_kind())
        wait_for(lambda: {window.title for window in look()} == {"On air", "The timeline"}, 30)
        text = ('wait until window "air" is there at most 3s\nfocus window "timeline"\n'
                'wait until window "timeline" is focused at most 2s\nfocus window class "OVENLIGHT"\nshow "done"\n')
        assert told(play(client, text)) == ("done", "", ["line 5: showed “done”"])
        assert focused() == "On air"
        # Seen from another connection, it is the same window.
        here = open_desktop()
        window = find(here, "air", by_class=False)
        here.close()
        assert window is not None and window.key in {other.key for other in look()}
        # The helper that speaks to the compositor may die at any time: the next step has another one.
        for number in processes_of("python"):
            if b"wayland.helper" in Path(f"/proc/{number}/cmdline").read_bytes():
                os.kill(number, signal.SIGKILL)
        assert told(play(client, text)) == ("done", "", ["line 5: showed “done”"])
        row = play(client, 'place window "air" at 0% 0% size 50% 50%\n')
        assert "the compositor (foreign toplevel protocol)" in row["remarks"][0] and row["state"] == "stopped"
        row = play(client, 'close window "air"\nwait until window "air" is gone at most 5s\n')
        assert told(row) == ("done", "", [])
        assert {window.title for window in look()} == {"The timeline"}
