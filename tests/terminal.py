"""A real terminal: the program in tmux, keys sent to it, its screen read back."""

from __future__ import annotations

import contextlib
import os
import shlex
import signal
import subprocess
import sys
import time
import uuid
from collections.abc import Callable
from pathlib import Path

from needed import needs

BRASS_PEBBLE = str(Path(sys.executable).parent / "brass-pebble")


def plain_labels() -> None:
    """Have the screen show labels in letters that can be read back, if it does not remember anything else."""
    memory = Path(os.environ["XDG_STATE_HOME"]) / "brass-pebble" / "screen.json"
    if not memory.exists():
        memory.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        memory.write_text('{"theme": "basalt", "letters": "plain", "tour": false}')


class Terminal:
    """`brass-pebble …` in a tmux of its own."""

    def __init__(self, *words: str, size: tuple[int, int] = (160, 40), after: str = "", large: bool = False,
                 **environment: str) -> None:
        needs("tmux", "ps")
        if not large:
            plain_labels()
        self._socket = f"bp-{uuid.uuid4().hex[:8]}"
        names = ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_DOCUMENTS_DIR",
                 "XDG_RUNTIME_DIR")
        settings = {name: os.environ[name] for name in names if name in os.environ}
        # All signs: tmux does not tell what the terminal around it can draw.
        settings |= {"COLORTERM": "truecolor", "BRASS_PEBBLE_SIGNS": "full"} | environment
        # The size is the terminal's, not what somebody exported.
        command = shlex.join(["env", "-u", "COLUMNS", "-u", "LINES", *(f"{k}={v}" for k, v in settings.items()),
                              BRASS_PEBBLE, *words])
        self._tmux("-f", "/dev/null", "new-session", "-d", "-x", str(size[0]), "-y", str(size[1]),
                   f"{command} {after}; echo ended with $?; sleep 60")
        self._tmux("set", "-g", "status", "off")
        self._tmux("set", "-sg", "escape-time", "0")

    def _tmux(self, *words: str) -> str:
        done = subprocess.run(["tmux", "-L", self._socket, *words], capture_output=True, text=True, check=True)
        return done.stdout

    def keys(self, *keys: str) -> None:
        """Send keys by tmux's names, one after the other."""
        for key in keys:
            self._tmux("send-keys", key)
            # A letter right behind Escape would be the letter with Alt.
            time.sleep(0.3 if key == "Escape" else 0.08)

    def type(self, text: str) -> None:
        """Send text, once the keys before it have done what they do: they may move the cursor to another field."""
        time.sleep(0.35)
        self._tmux("send-keys", "-l", text)
        time.sleep(0.1)

    def mouse(self, x: int, y: int, *, down: bool, button: int = 0) -> None:
        """A button (0 left, 2 right), at a cell counted from 0, as a terminal reports it (SGR, mode 1006)."""
        self._tmux("send-keys", "-l", f"\x1b[<{button};{x + 1};{y + 1}{'M' if down else 'm'}")
        time.sleep(0.1)

    def asks(self, format: str) -> str:
        """What tmux says of the terminal, by its formats."""
        return self._tmux("display-message", "-p", format).strip()

    def kill(self) -> None:
        """End everything in it at once, as by a power cut of the window."""
        for pid in reversed(self._below()):
            with contextlib.suppress(OSError):
                os.kill(pid, signal.SIGKILL)
        self.close()

    def screen(self) -> str:
        """What stands there now."""
        return self._tmux("capture-pane", "-p")

    def resize(self, width: int, height: int) -> None:
        """Make the window another size."""
        self._tmux("resize-window", "-x", str(width), "-y", str(height))

    def find(self, text: str) -> tuple[int, int]:
        """Where a text stands: column and row, from 0."""
        for row, line in enumerate(self.screen().splitlines()):
            if text in line:
                return line.index(text), row
        raise AssertionError(f"{text!r} is not on the screen:\n{self.screen()}")

    def wait(self, what: str | Callable[[str], bool], seconds: float = 45) -> str:
        """Wait until a text is there, or until a function of the screen is true; returns the screen."""
        end = time.monotonic() + seconds
        while True:
            screen = self.screen()
            if (what in screen) if isinstance(what, str) else what(screen):
                return screen
            if time.monotonic() > end:
                raise AssertionError(f"never saw {what!r}; the screen is:\n{screen}")
            time.sleep(0.05)

    def close(self) -> None:
        """Close the window; nothing that ran in it outlives it."""
        below = self._below()
        subprocess.run(["tmux", "-L", self._socket, "kill-server"], capture_output=True, check=False)
        end = time.monotonic() + 15
        while left := [pid for pid in below if _lives(pid)]:
            if time.monotonic() > end:
                for pid in left:
                    os.kill(pid, signal.SIGKILL)
                raise AssertionError(f"{len(left)} processes outlived their terminal")
            time.sleep(0.02)

    def _below(self) -> list[int]:
        with contextlib.suppress(subprocess.CalledProcessError):
            pid = self.asks("#{pane_pid}")
            if not pid:
                # The pane has just ended.
                return []
            below = subprocess.run(["ps", "-o", "pid=", "--ppid", pid], capture_output=True, text=True, check=False)
            return [int(pid), *map(int, below.stdout.split())]
        return []


def _lives(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(") ")[2][0] != "Z"
    except OSError:
        return False
