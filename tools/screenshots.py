"""Makes the pictures in docs/screenshots anew: the demo in a terminal window under a virtual display."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from given_parcel import PARCEL, pack
from network_peers import connect

PROJECT = Path(__file__).parent.parent
TARGET = PROJECT / "docs" / "screenshots"
BRASS_PEBBLE = Path(sys.executable).parent / "brass-pebble"
SCREEN = "1280x800x24"



def play_guest_title(desk: Path, runtime: Path) -> None:
    """Have a macro ask something."""
    subprocess.run([BRASS_PEBBLE, "play", "guest-title"], check=True,
                   env={**os.environ, "XDG_RUNTIME_DIR": str(runtime)})


def keep_guests(desk: Path, runtime: Path) -> None:
    """Have a macro keep a value."""
    for guest in ("Ada Reed", "Bo Marsh", "Cy Tern"):
        subprocess.run([BRASS_PEBBLE, "play", "guest-title", "--answer", f"guest={guest}"], check=True,
                       env={**os.environ, "XDG_RUNTIME_DIR": str(runtime)})
        time.sleep(2.5)


# The way to the drawing of the pad that the demo has not met yet.
MET: list[str | float] = ["M", 1.5, "Tab", "Enter", 0.6, "BTab", "Down", "Down", "Down", "Down", 0.6, "Enter", 1.2]
Steps = list[Any]
# A function is called with the desk's folder and the engine's runtime folder; what it returns is kept till the end.
# name: (columns, rows), then what is sent: a key by tmux's name, a text in quotes, or seconds to wait.
SHOTS: dict[str, tuple[tuple[int, int], Steps]] = {
    "desk": ((160, 40), ["W", 12.2]),
    "desk-80x24": ((80, 24), ["Down", "Enter", 0.8]),
    "meet": ((160, 40), ["M", 1.5, "Tab", "Enter", 0.6, "BTab", "Down", "Down", "Down", "Down", "Tab", "Enter", 0.2]),
    "meet-draw": ((160, 40), [*MET, "w", 0.3, "Tab", "Enter", 0.3, "Right", "Enter", 0.3, "Right", "Enter", 0.3, "r",
                              "Down", "Enter", 0.3, "Left", "Enter", 0.3, "Escape", 0.3, "+", "+", 0.3]),
    "macro": ((160, 40), ["Down", "Right", "Right", "Right", "O", 1.5, *["Right"] * 6, 0.5]),
    "rehearsal": ((160, 40), ["Down", "Right", "Right", "Right", "O", 1.5, "F5", 3.0]),
    "checkup": ((160, 40), ["C", 2.5, *["Down"] * 6, 0.5]),
    "bind": ((160, 40), ["Down", "Down", "Right", "b", "'ctrl+alt+f", 0.5]),
    "surface": ((160, 40), ["l", 1.0, "Down", "Right", "Right", 0.5]),
    "question": ((160, 40), [play_guest_title, 1.2, "'Ada Reed", 0.5]),
    "values": ((160, 40), [keep_guests, 1.0, "S", 1.2]),
    "pads": ((160, 40), ["NPage", 0.5, "]", "]", "Down", "Right", "Enter", 0.4, *["Right"] * 6, "]", 0.2, "]", 1.0]),
    "curve": ((160, 40), ["NPage", "NPage", 0.5, *["Down"] * 4, "Y", 0.8, "Down", "Down", *["Right"] * 5, "Up", "Up",
                          *["Right"] * 8, *["]"] * 11, 1.0]),
    "clashes": ((160, 40), ["K", 1.5]),
    "phrases": ((160, 40), ["J", 1.2, "Down", "Down", "Down", "Enter", 0.8, "Enter", 2.5]),
    "network": ((160, 40), [connect, "N", 2.0]),
    "labels": ((160, 40), ["L", 1.5, "Right", "Right", "Down", 0.5]),
    "usage": ((160, 40), ["U", 1.5, "i", "i", "i", "i", 0.5, "6", 1.0]),
    "take-in": ((160, 40), [pack, "I", 1.0, "C-u", f"'{PARCEL}", "Enter", 2.5]),
}


def until_drawn(tmux: list[str], seconds: float = 60) -> None:
    """Wait until the desk stands on the screen."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        shown = subprocess.run([*tmux, "capture-pane", "-p"], capture_output=True, text=True, check=False).stdout
        if "No press yet" in shown and "armed" in shown:
            time.sleep(1)
            return
        time.sleep(0.1)
    sys.exit("the demo was never drawn")


def take(name: str, size: tuple[int, int], keys: Steps, display: str) -> None:
    """One picture."""
    tmux = ["tmux", "-L", f"shot-{os.getpid()}", "-f", "/dev/null"]
    columns, rows = size
    with tempfile.TemporaryDirectory(prefix="bps", ignore_cleanup_errors=True) as folder:
        settings = [f"XDG_{kind}_HOME={folder}/{kind.lower()}" for kind in ("DATA", "STATE", "CONFIG")]
        os.mkdir(f"{folder}/run", 0o700)
        command = ["env", "-u", "COLUMNS", "-u", "LINES", *settings, f"XDG_RUNTIME_DIR={folder}/run",
                   "COLORTERM=truecolor", "BRASS_PEBBLE_SIGNS=full", "TZ=UTC", str(BRASS_PEBBLE), "demo"]
        subprocess.run([*tmux, "new-session", "-d", "-x", str(columns), "-y", str(rows), *command], check=True)
        subprocess.run([*tmux, "set", "-g", "status", "off"], check=True)
        subprocess.run([*tmux, "set", "-ga", "terminal-overrides", ",*:Tc"], check=True)
        window = subprocess.Popen(
            ["xterm", "-fa", "JetBrains Mono", "-fs", "10", "-geometry", f"{columns}x{rows}+0+0", "-b", "0", "-bw", "0",
             "-bg", "black", "-e", *tmux, "attach"], env={**os.environ, "DISPLAY": display, "COLORTERM": "truecolor"},
            stderr=subprocess.DEVNULL)
        until_drawn(tmux)
        kept = []
        # Every way below begins at the first control.
        for key in ["Up", *keys]:
            if isinstance(key, float):
                time.sleep(key)
            elif callable(key):
                desk = next(Path(folder, "data").rglob("desk.toml")).parent
                kept.append(key(desk, Path(folder, "run")))
            elif key.startswith("'"):
                subprocess.run([*tmux, "send-keys", "-l", key[1:]], check=True)
            else:
                subprocess.run([*tmux, "send-keys", key], check=True)
            time.sleep(0.3)
        crop = f"{columns * 8}x{rows * 20}+0+0"
        subprocess.run(["import", "-display", display, "-window", "root", "-crop", crop, "+repage", "-strip",
                        "-define", "png:exclude-chunks=date,time", str(TARGET / f"{name}.png")], check=True)
        subprocess.run([*tmux, "kill-server"], check=False, capture_output=True)
        window.wait(timeout=10)
    print(TARGET / f"{name}.png")


def main() -> int:
    wanted = sys.argv[1:] or list(SHOTS)
    TARGET.mkdir(parents=True, exist_ok=True)
    if shutil.which("import") is None:
        sys.exit("import is missing: apt-get install imagemagick")
    display = f":{90 + os.getpid() % 100}"
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    server = subprocess.Popen(["Xvfb", display, "-screen", "0", SCREEN], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        for name in wanted:
            take(name, *SHOTS[name], display)
    finally:
        server.terminate()
    return 0


if __name__ == "__main__":
    sys.exit(main())
