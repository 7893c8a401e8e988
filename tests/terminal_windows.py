"""The demo in windows of real terminals, typed into and looked at: pictures of what a person would see.

Each kind of terminal is one row of `KINDS`; each draws characters in its own way, and tells other things of itself.
"""

from __future__ import annotations

import contextlib
import os
import re
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from PIL import Image

from conftest import wait_for
from displays import display_server, wayland_compositor
from needed import needs
from terminal import BRASS_PEBBLE
from typed_in import type_into

# What would tell a program of a terminal that is not the one it runs in.
TOLD = ("COLORTERM", "TERM", "BRASS_PEBBLE_SIGNS", "COLUMNS", "LINES", "TMUX", "STY", "NO_COLOR", "VTE_VERSION")
# Less than this share of ink is an empty window, or what another program says first.
LEAST_INK = 0.02
DEJAVU = "DejaVu Sans Mono"
LXTERMINAL = f"""[general]
fontname={DEJAVU} 10
hidemenubar=true
hidescrollbar=true
"""


@dataclass(frozen=True)
class Kind:
    """A terminal: what it needs, how it is opened, and what it sets.

    `{columns}`, `{rows}`, `{folder}` and `{name}` are filled in; what it runs is put behind `opens`, behind what
    `within` is.  `ends` ends what is left of it when its window is gone: some go on without one.
    """

    opens: tuple[str, ...]
    needs: tuple[str, ...] = ()
    within: tuple[str, ...] = ()
    ends: tuple[str, ...] = ()
    wayland: bool = False
    # What signs are used until somebody chooses.
    signs: str = "plain"


_XTERM = ("xterm", "-geometry", "{columns}x{rows}+0+0", "-b", "0", "-bw", "0")
_DEJAVU = (*_XTERM, "-fa", DEJAVU, "-fs", "10")
_ROOM = "{columns}x{rows}"
KINDS = {
    "xterm": Kind((*_XTERM, "-e")),
    "xterm in reverse": Kind((*_XTERM, "-rv", "-e")),
    "xterm with DejaVu": Kind((*_DEJAVU, "-e")),
    # The console's characters and colours; its own letters are the kernel's.
    "console": Kind((*_XTERM, "-rv", "-tn", "linux", "-e")),
    "screen": Kind((*_DEJAVU, "-e"), ("screen",), ("screen", "-c", "/dev/null", "-S", "{name}"),
                   ("screen", "-S", "{name}", "-X", "quit")),
    "tmux": Kind((*_DEJAVU, "-e"), ("tmux",), ("tmux", "-f", "{folder}/tmux.conf", "-L", "{name}", "new-session"),
                 ("tmux", "-L", "{name}", "kill-server")),
    "foot": Kind(("foot", "-c", "/dev/null", "-o", f"font={DEJAVU}:size=8", "-o", "pad=0x0", "-W", _ROOM),
                 ("foot", "grim", "sway", "swaymsg", "setpriv"), wayland=True, signs="full"),
    "VTE": Kind(("lxterminal", "--no-remote", f"--geometry={_ROOM}", "-e"), ("lxterminal",)),
}


def _ink(picture: Image.Image) -> float:
    """The share of what is not the ground."""
    counts = [count for count, _ in picture.getcolors(256) or ()]
    return 1 - max(counts) / sum(counts)


@dataclass
class Shown:
    """A window with the demo in it: how many pixels a cell is wide and high, and what stands there now.

    `read` is how much of what was sent to the terminal was looked at.
    """

    wide: float
    high: float
    look: Callable[[], Image.Image]
    pipe: Path
    read: int = 0

    def still(self) -> Image.Image:
        """The picture as soon as it is drawn, and the same twice: nothing moves any more."""
        before: list[Image.Image] = []

        def stands() -> bool:
            before.append(self.look())
            time.sleep(0.5)
            return (len(before) > 1 and before[-1].tobytes() == before[-2].tobytes()
                    and _ink(before[-1]) > LEAST_INK)
        wait_for(stands, seconds=60)
        return before[-1]

    def says(self, words: str) -> Image.Image:
        """The picture when these words were sent to the terminal, from the start or since it was asked last."""
        sent = Path(f"{self.pipe}.sent")
        wait_for(lambda: words.encode() in sent.read_bytes()[self.read:], seconds=60)
        self.read = len(sent.read_bytes())
        return self.still()

    def after(self, keys: str, words: str = "") -> Image.Image:
        """What stands there when these keys were typed, and these words came of it."""
        before = self.look().tobytes()
        type_into(self.pipe, keys.encode())
        wait_for(lambda: self.look().tobytes() != before)
        return self.says(words)

    def cells(self, picture: Image.Image, x: int, y: int, columns: int, rows: int = 1) -> Image.Image:
        """A part of the picture, by cells."""
        return picture.crop((round(x * self.wide), round(y * self.high), round((x + columns) * self.wide),
                             round((y + rows) * self.high)))


def _largest_window(display: str) -> tuple[int, int]:
    """Of a display, as soon as there is one: how wide and how high it is."""
    found: list[tuple[int, int]] = []

    def there() -> bool:
        told = subprocess.run(["xwininfo", "-display", display, "-root", "-children"], capture_output=True, text=True,
                              check=True).stdout
        found[:] = [(int(wide), int(high)) for wide, high in re.findall(r" (\d{3,})x(\d{3,})\+0\+0 ", told)]
        return bool(found)
    wait_for(there)
    return max(found)


@contextlib.contextmanager
def window_of(kind: str, size: tuple[int, int], folder: Path, *words: str, **given: str) -> Iterator[Shown]:
    """The demo, or what these words start, in a terminal of that kind, with so many columns and rows.

    Nothing is set in its environment but what is given.
    """
    row = KINDS[kind]
    needs("Xvfb", "xterm", "import", "xwininfo", f"font {DEJAVU}", *row.needs)
    environment = {key: value for key, value in os.environ.items() if key not in TOLD} | given
    pipe, picture = folder / "pipe", folder / "window.png"
    os.mkfifo(pipe)
    (folder / "tmux.conf").write_text("set -g status off\n")
    config = folder / "terminal" / "lxterminal"
    config.mkdir(parents=True)
    (config / "lxterminal.conf").write_text(LXTERMINAL)
    fill = {"columns": str(size[0]), "rows": str(size[1]), "folder": str(folder), "name": f"reading-{os.getpid()}"}
    runs = ["env", *(f"{key}={value}" for key, value in given.items()), BRASS_PEBBLE, *(words or ("demo",))]
    command = [word.format(**fill) for word in (*row.opens, sys.executable, str(Path(__file__).parent / "typed_in.py"),
                                                str(pipe), *row.within)] + runs
    with contextlib.ExitStack() as stack:
        if row.wayland:
            place = stack.enter_context(wayland_compositor())
            environment["WAYLAND_DISPLAY"] = str(place.display)
            takes = ["grim", "-t", "png", str(picture)]
        else:
            name = f":{560 + os.getpid() % 300}"
            server = display_server(name, "1400x900x24")
            stack.callback(server.wait, timeout=10)
            stack.callback(server.terminate)
            environment["DISPLAY"] = name
            takes = ["import", "-display", name, "-window", "root", "-strip", str(picture)]
            # Where GTK looks for what was set; what runs in the window keeps its own place.
            if kind == "VTE":
                command[-len(runs):] = ["env", f"XDG_CONFIG_HOME={environment.get('XDG_CONFIG_HOME', '')}", *runs[1:]]
                environment["XDG_CONFIG_HOME"] = str(folder / "terminal")
        window = subprocess.Popen(command, env=environment, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)

        def look() -> Image.Image:
            subprocess.run(takes, check=True, env=environment, stderr=subprocess.DEVNULL)
            whole = Image.open(picture).convert("L")
            return whole.crop((0, 0, wide, high))

        told: tuple[int, ...] = ()

        def has_its_size() -> bool:
            nonlocal told
            assert window.poll() is None, f"the window of {kind} has closed"
            with contextlib.suppress(OSError):
                told = tuple(int(part) for part in (folder / "pipe.size").read_text().split())
            return told[2:] == size
        try:
            wait_for(has_its_size)
            wide, high, columns, rows = told
            # VTE tells no pixels.
            wide, high = (wide, high) if wide else _largest_window(environment["DISPLAY"])
            yield Shown(wide / columns, high / rows, look, pipe)
        finally:
            # Back from whatever view it is, and out.
            for key in (b"\x1b", b"q"):
                type_into(pipe, key)
                time.sleep(0.8)
            with contextlib.suppress(subprocess.TimeoutExpired):
                window.wait(timeout=30)
            window.kill()
            window.wait()
            if row.ends:
                subprocess.run([word.format(**fill) for word in row.ends], env=environment, capture_output=True,
                               check=False)
