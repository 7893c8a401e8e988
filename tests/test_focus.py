"""Layers that follow the focus: real windows under Xvfb with a window manager, and under a headless compositor."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from brass_pebble.client import EngineClient, EngineError, start_engine
from conftest import run_cli, wait_for
from displays import display_server, wayland_compositor
from needed import needs
from standstill import took

Row = dict[str, Any]
WINDOW = """
import sys
from Xlib import X, display
d = display.Display(); s = d.screen()
w = s.root.create_window(0, 0, 300, 200, 0, s.root_depth, event_mask=X.KeyPressMask)
w.set_wm_class(sys.argv[1].lower(), sys.argv[1]); w.set_wm_name(sys.argv[2]); w.map(); d.sync()
print(w.id, flush=True)
for line in sys.stdin:
    w.set_wm_name(line.rstrip("\\n")); d.sync()
    w.change_property(d.intern_atom("_NET_WM_NAME"), d.intern_atom("UTF8_STRING"), 8, line.rstrip("\\n").encode())
    d.sync()
"""
DESK = """
format = 1
name = "Focus desk"
output = "x11"
[surface.pad]
layout = "grid-3x2"
device = { port = "bench hub" }
[surface.pad.layer.base.press]
1 = { tap = "A" }
[surface.pad.layer.cut]
name = "Cut"
follows = { class = "Crumbcut" }
[surface.pad.layer.cut.press]
1 = { tap = "B" }
[surface.pad.layer.export]
follows = { class = "Crumbcut", title = "*export*" }
"""
BENCH = '[[device]]\nid = "bench/pad"\nname = "Pad"\nport = "bench hub"\nlayout = "grid-3x2"\n'


def start(tmp_path: Path, desk: str = DESK, *options: str) -> tuple[Path, subprocess.Popen[bytes]]:
    folder = tmp_path / "desk"
    folder.mkdir(mode=0o700)
    (folder / "desk.toml").write_text(desk)
    (tmp_path / "bench.toml").write_text(BENCH)
    return start_engine(folder, "--bench", str(tmp_path / "bench.toml"), "--bench-only", *options)


@contextlib.contextmanager
def connected(socket: Path, process: subprocess.Popen[bytes]) -> Iterator[EngineClient]:
    with EngineClient(socket, "test") as client:
        client.set_timeout(15)
        yield client
        with contextlib.suppress(EngineError):
            client.ask("quit")
    assert process.wait(timeout=15) == 0


class Screen:
    """A virtual display with a window manager, and windows on it."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.windows: dict[str, tuple[subprocess.Popen[str], int]] = {}
        self.start()

    def start(self) -> None:
        needs("Xvfb", "openbox")
        self.server = display_server(self.name)
        self.manager = subprocess.Popen(["openbox"], stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
        from Xlib import display
        self.display = display.Display(self.name)
        root = self.display.screen().root
        wait_for(lambda: root.get_full_property(self.display.intern_atom("_NET_SUPPORTING_WM_CHECK"), 0), 20)

    def open(self, cls: str, title: str) -> None:
        process = subprocess.Popen([sys.executable, "-c", WINDOW, cls, title], stdout=subprocess.PIPE,
                                   stdin=subprocess.PIPE, text=True)
        assert process.stdout
        self.windows[cls] = (process, int(process.stdout.readline()))

    def focus(self, cls: str) -> None:
        """As a click on it, or a pager, would."""
        from Xlib import X
        from Xlib.protocol import event
        root = self.display.screen().root
        window = self.display.create_resource_object("window", self.windows[cls][1])
        message = event.ClientMessage(window=window, client_type=self.display.intern_atom("_NET_ACTIVE_WINDOW"),
                                      data=(32, [2, X.CurrentTime, 0, 0, 0]))
        root.send_event(message, event_mask=X.SubstructureRedirectMask | X.SubstructureNotifyMask)
        self.display.sync()

    def title(self, cls: str, title: str) -> None:
        stream = self.windows[cls][0].stdin
        assert stream
        stream.write(title + "\n")
        stream.flush()

    def close(self) -> None:
        for process, _ in self.windows.values():
            process.kill()
            process.wait()
        self.windows.clear()
        self.manager.kill()
        self.manager.wait()
        with contextlib.suppress(Exception):
            self.display.close()
        self.server.terminate()
        self.server.wait()


@pytest.fixture
def screen(monkeypatch: pytest.MonkeyPatch) -> Iterator[Screen]:
    monkeypatch.setenv("DISPLAY", f":{500 + os.getpid() % 300}")
    monkeypatch.delenv("WAYLAND_DISPLAY", raising=False)
    monkeypatch.delenv("SWAYSOCK", raising=False)
    found = Screen(os.environ["DISPLAY"])
    found.open("Ovenlight", "On air")
    found.open("Crumbcut", "The timeline")
    yield found
    found.close()


def on(client: EngineClient) -> list[str]:
    return list(client.ask("focus")["on"]["pad"])


def follow_layers(client: EngineClient, told: list[tuple[float, Row]]) -> None:
    """Write down when which layers were told to be on."""
    client.ask("follow", topics=["layers"])
    client.set_timeout(60)

    def listen() -> None:
        # Ends with the engine, or with the silence after it.
        with contextlib.suppress(Exception):
            for message in client.news():
                told.append((time.monotonic(), message))
    threading.Thread(target=listen, daemon=True).start()


def test_a_layer_comes_and_goes_with_a_real_window(screen: Screen, tmp_path: Path) -> None:
    socket, process = start(tmp_path)
    with connected(socket, process) as client:
        told: list[tuple[float, Row]] = []
        follow_layers(EngineClient(socket, "listener"), told)
        screen.focus("Crumbcut")
        wait_for(lambda: on(client) == ["base", "cut"])
        waits = []
        for cls in ("Ovenlight", "Crumbcut") * 6:
            before, began = len(told), time.monotonic()
            screen.focus(cls)
            wait_for(lambda c=cls: told and (told[-1][1]["window"] or {}).get("class") == c)  # type: ignore[misc]
            waits.append(next(at for at, message in told[before:]
                              if message["window"] and message["window"]["class"] == cls) - began)
            assert ("cut" in told[-1][1]["on"]["pad"]) == (cls == "Crumbcut")
        # Each way takes a moment of the window manager, too; a machine that pauses takes more for some of them.
        assert sorted(waits)[len(waits) // 4] < 0.3, waits
        client.ask("press", surface="pad", control="1", down=True)
        client.ask("press", surface="pad", control="1", down=False)
        assert client.ask("traces")["traces"][-1]["words"] == "B"
        screen.title("Crumbcut", "Export, 40 %")
        wait_for(lambda: on(client) == ["base", "cut", "export"])
        screen.title("Crumbcut", "")
        wait_for(lambda: on(client) == ["base", "cut"])
        screen.title("Crumbcut", "x" * 200_000 + " export")
        time.sleep(0.3)
        assert on(client) == ["base", "cut"]
        assert {window["class"] for window in client.ask("windows")["windows"]} == {"Ovenlight", "Crumbcut"}
        client.ask("focus", pin=True)
        screen.focus("Ovenlight")
        wait_for(lambda: (client.ask("focus")["window"] or {}).get("class") == "Ovenlight")
        assert on(client) == ["base", "cut"] and client.ask("focus")["pinned"]
        client.ask("focus", pin=False)
        assert on(client) == ["base"]


def test_the_next_window_that_is_clicked(screen: Screen, tmp_path: Path) -> None:
    with connected(*start(tmp_path)) as client:
        screen.focus("Ovenlight")
        wait_for(lambda: (client.ask("focus")["window"] or {}).get("class") == "Ovenlight")
        threading.Timer(0.4, lambda: screen.focus("Crumbcut")).start()
        assert client.ask("next_window")["class"] == "Crumbcut"


def test_focus_flapping_and_a_display_that_goes_away_and_comes_back(screen: Screen, tmp_path: Path) -> None:
    with connected(*start(tmp_path)) as client:
        screen.focus("Crumbcut")
        wait_for(lambda: on(client) == ["base", "cut"])
        slowest = 0.0
        for index in range(100):
            screen.focus(("Ovenlight", "Crumbcut")[index % 2])
            began = time.monotonic()
            client.ask("press", surface="pad", control="1", down=not index % 2)
            slowest = max(slowest, took(began))
            time.sleep(0.02)
        assert slowest < 1
        screen.focus("Ovenlight")
        wait_for(lambda: on(client) == ["base"])
        screen.focus("Crumbcut")
        wait_for(lambda: on(client) == ["base", "cut"])
        screen.close()
        wait_for(lambda: on(client) == ["base"])
        client.ask("press", surface="pad", control="1", down=True)
        client.ask("press", surface="pad", control="1", down=False)
        wait_for(lambda: any("did not arrive" in p["what"] for p in client.ask("desk")["problems"]))
        screen.start()
        screen.open("Crumbcut", "The timeline")
        screen.focus("Crumbcut")
        wait_for(lambda: on(client) == ["base", "cut"])
        client.ask("press", surface="pad", control="1", down=True)
        client.ask("press", surface="pad", control="1", down=False)
        wait_for(lambda: client.ask("traces")["traces"][-1]["count"] == 2)


def test_without_a_display_the_person_is_told_what_works(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "SWAYSOCK", "I3SOCK"):
        monkeypatch.delenv(name, raising=False)
    desk = DESK.replace('output = "x11"', 'output = "stage"\n[stage.none]')
    socket, process = start(tmp_path, desk)
    with connected(socket, process) as client:
        folder = str(tmp_path / "desk")
        done = run_cli("focus", "Crumbcut", "--desk", folder)
        assert done.stdout.splitlines() == ["focus: Crumbcut", "pad: base (always), cut (follows the focus)"]
        assert run_cli("focus", "--pin", "--desk", folder).stdout.splitlines()[1].startswith("Layers are pinned")
        run_cli("focus", "Ovenlight", "--desk", folder)
        assert on(client) == ["base", "cut"]
        run_cli("focus", "--follow", "--desk", folder)
        assert on(client) == ["base"]
        assert run_cli("layer", "pad", "Cut", "--desk", folder).stdout == "Cut on\n"
        assert run_cli("layer", "pad", "--desk", folder).stdout.splitlines()[1] == "on  cut: Cut, switched on"
        assert "no layer “nothing”" in run_cli("layer", "pad", "nothing", "--desk", folder).stderr


@pytest.fixture
def compositor(monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """A headless compositor with two windows."""
    needs("foot", "swaymsg")
    with wayland_compositor("set $mod Mod4\nbindsym $mod+Return exec true\n") as shown:
        clients = [subprocess.Popen([*shown.prefix, "foot", "-a", app, "-T", title, "sleep", "60"], env={
            **shown.environment, "WAYLAND_DISPLAY": shown.display.name}, stderr=subprocess.DEVNULL)
            for app, title in (("ovenlight", "On air"), ("Crumbcut", "The timeline"))]
        monkeypatch.setenv("SWAYSOCK", str(shown.socket))
        monkeypatch.delenv("DISPLAY", raising=False)
        yield str(shown.socket)
        for child in clients:
            child.terminate()
            child.wait()


def test_a_layer_follows_windows_of_a_wayland_compositor(compositor: str, tmp_path: Path) -> None:
    desk = DESK.replace('output = "x11"', 'output = "uinput"')
    with connected(*start(tmp_path, desk, "--may-lack-output")) as client:
        def names() -> set[str]:
            return {window["class"] for window in client.ask("windows")["windows"]}
        wait_for(lambda: names() == {"ovenlight", "Crumbcut"}, 30)

        def focus(app: str) -> None:
            done = subprocess.run(["swaymsg", f'[app_id="{app}"] focus'], capture_output=True, text=True, check=True)
            assert json.loads(done.stdout)[0]["success"]
        for app in ("ovenlight", "Crumbcut") * 4:
            focus(app)
            wait_for(lambda a=app: (client.ask("focus")["window"] or {}).get("class") == a)  # type: ignore[misc]
            assert ("cut" in on(client)) == (app == "Crumbcut")
        tables = {program["id"]: program for program in client.ask("clashes")["programs"]}
        assert {"chord": "Super+Enter", "does": "exec true"} in tables["desktop"]["shortcuts"]
        subprocess.run(["swaymsg", "workspace 2"], check=True, capture_output=True)
        wait_for(lambda: on(client) == ["base"])
