"""What the screen sends to a pseudo-terminal of 160 × 40, and how soon; beside a bare Textual application."""

from __future__ import annotations

import fcntl
import os
import pty
import select
import signal
import struct
import sys
import termios
import time
from pathlib import Path

from big_desk import write_big_desk
from effort import Effort
from figures import Figure, percentile

SIZE = (160, 40)
BRASS_PEBBLE = str(Path(sys.executable).parent / "brass-pebble")
BARE = """
from textual.app import App
from textual.widgets import Static
class Bare(App):
    def compose(self):
        yield Static("0", id="count")
    def on_key(self):
        label = self.query_one("#count")
        label.update(str(int(str(label.render())) + 1))
Bare().run()
"""
SURFACES, BINDINGS = 40, 2000
# Right and left, in turn: where no key is at that side, nothing changes, and nothing would be measured.
ARROWS = ("\x1b[C", "\x1b[D")
# What is done, by the bytes that a terminal sends for it in turn, and the most that may come back.
DEEDS = (("an arrow on the Desk", ARROWS, 2000), ("a press", ("\r",), 6000))
VIEWS = {"Surface": "l", "Usage": "U", "Labels": "L", "Phrases": "J", "Meet": "M", "Clashes": "K", "Checkup": "C",
         "Network": "N", "Values": "S", "Versions": "V"}
MOST_OF_A_VIEW, MOST_OF_A_LETTER = 60_000, 3000
# Nothing more is expected after so long without a byte, in s; and the first byte of what certainly changes something.
QUIET, PATIENCE = 1.2, 10.0


class Watched:
    """A program on a pseudo-terminal, of which every byte is counted."""

    def __init__(self, folder: Path, *command: str) -> None:
        self.pid, self._file = pty.fork()
        if self.pid == 0:
            os.environ.update(TERM="xterm-256color", COLORTERM="truecolor", BRASS_PEBBLE_SIGNS="full",
                              XDG_RUNTIME_DIR=str(folder))
            for name in ("DATA", "STATE", "CONFIG"):
                os.environ[f"XDG_{name}_HOME"] = str(folder / name.lower())
            for name in ("COLUMNS", "LINES", "NO_COLOR"):
                os.environ.pop(name, None)
            os.execvp(command[0], command)
        fcntl.ioctl(self._file, termios.TIOCSWINSZ, struct.pack("HHHH", SIZE[1], SIZE[0], 0, 0))

    def drain(self, quiet: float = QUIET, longest: float = 4.0, patience: float = 0.0) -> tuple[int, float]:
        """Read until nothing comes any more: how many bytes, and how long until the first of them, in ms.

        The first is waited for as long as `patience`, in s.
        """
        count, began, first = 0, time.perf_counter(), 0.0
        last = began
        while ((time.perf_counter() - last < quiet and time.perf_counter() - began < longest)
               or (not first and time.perf_counter() - began < patience)):
            if select.select([self._file], [], [], 0.05)[0]:
                count += len(os.read(self._file, 65536))
                last = time.perf_counter()
                first = first or (last - began) * 1000
        return count, first

    def key(self, key: str, quiet: float = QUIET, patience: float = 0.0) -> tuple[int, float]:
        """Type something: what comes back, and how soon."""
        os.write(self._file, key.encode())
        return self.drain(quiet, patience=patience)

    def end(self) -> None:
        """Close it."""
        os.kill(self.pid, signal.SIGTERM)
        while select.select([self._file], [], [], 5)[0]:
            try:
                if not os.read(self._file, 65536):
                    break
            except OSError:
                break
        os.waitpid(self.pid, 0)
        os.close(self._file)


def screen_sends(folder: Path, effort: Effort) -> list[Figure]:
    """Bytes for each deed, and the time from a key to the first byte beside the bare application, in turn."""
    folder.mkdir(mode=0o700, exist_ok=True)
    (folder / "bare.py").write_text(BARE)
    write_big_desk(folder / "big", surfaces=SURFACES, bindings=BINDINGS, macros=20)
    screen, bare = Watched(folder, BRASS_PEBBLE, "demo"), Watched(folder, sys.executable, str(folder / "bare.py"))
    large = Watched(folder, BRASS_PEBBLE, "--desk", str(folder / "big"))
    figures = []
    try:
        screen.drain(6, 30)
        bare.drain(3)
        large.drain(3)
        beside, _ = bare.key("a")
        times: list[float] = []
        bare_times: list[float] = []
        large_times: list[float] = []
        for turn in range(effort.of(40, 3)):
            times.append(screen.key(ARROWS[turn % 2], 0.3, PATIENCE)[1])
            bare_times.append(bare.key("a", 0.3, PATIENCE)[1])
            large_times.append(large.key(ARROWS[turn % 2], 0.3, PATIENCE)[1])
        assert min(*times, *bare_times, *large_times) > 0, "a key changed nothing"
        for what, keys, most in DEEDS:
            sent = max(screen.key(keys[turn % len(keys)], 2.5)[0] for turn in range(effort.of(4, 2)))
            figures.append(_bytes(what, sent, most, beside))
        sent, _ = screen.drain(effort.of(10, 2), 12)
        figures.append(_bytes("an idle screen", sent, 0))
        largest, which = 0, ""
        for name, key in [*VIEWS.items()][:effort.of(len(VIEWS), 2)]:
            sent, _ = screen.key(key)
            largest, which = max((largest, which), (sent, name))
            screen.key("\x1b")
        figures.append(_bytes(f"opening a view, at most ({which})", largest, MOST_OF_A_VIEW))
        screen.key("O", 2)
        screen.key("\r", 2)
        sent = max(screen.key(letter)[0] for letter in "wait"[:effort.of(4, 1)])
        figures.append(_bytes("a letter in the Macro view", sent, MOST_OF_A_LETTER))
        median, other = percentile(times, 0.5), percentile(bare_times, 0.5)
        figures.append(Figure("a key to the first byte on the screen, median; beside a bare Textual application",
                              median, "ms", other, "at most 1.5×", median <= 1.5 * other))
        median = percentile(large_times, 0.5)
        figures.append(Figure(f"the same with {SURFACES} surfaces", median, "ms", other, "at most 1.5×",
                              median <= 1.5 * other))
    finally:
        for each in (screen, bare, large):
            each.end()
    return figures


def _bytes(what: str, sent: int, most: int, beside: int | None = None) -> Figure:
    name = f"sent to the terminal for {what}"
    name += "; beside a bare Textual application that changes a label" if beside else ""
    return Figure(name, sent / 1000, "kB", beside / 1000 if beside else None, f"at most {most / 1000:g} kB",
                  sent <= most)
