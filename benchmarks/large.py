"""A desk of 40 surfaces, 5,000 bindings and 2,000 macros, a history of a million presses: opened, edited, looked at."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from big_desk import BINDINGS, MACROS, SURFACES, write_big_desk
from brass_pebble import paths
from brass_pebble.client import EngineClient, start_engine
from brass_pebble.core.desk.look.rows import surface_row
from brass_pebble.core.usage.counter import Counter
from brass_pebble.core.usage.simulate import make_habit, play
from brass_pebble.engine.disk.history import HistoryStore
from brass_pebble.engine.disk.store import DeskStore
from effort import Effort
from figures import Figure, percentile

YEAR = 365
# What stands on the desk as long as nobody pressed anything.
DESK = "No press yet"
# A key of the desk, the view that it opens, and what stands on it when it is there.
VIEWS = (("l", "the Surface view", "What each control does now"),
         ("L", "the Labels view", "every text fits|is printed as"),
         ("V", "the Versions view", "what this version changed"), ("K", "the Clashes view", "shortcuts known"))
PAGES = (("1", "late "), ("2", "used in this time|○ "), ("3", "probably meant|No likely mis-hits"), ("4", "▸"),
         ("5", "of its time"), ("6", "less finger travel|well arranged"))


def large_desk(folder: Path, effort: Effort) -> list[Figure]:
    """Everything of it, in a terminal."""
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    from terminal import Terminal
    os.environ["XDG_DATA_HOME"] = str(folder / "data")
    big, small = folder / "big", folder / "small"
    bindings, macros = effort.of(BINDINGS, 500), effort.of(MACROS, 60)
    write_big_desk(big, bindings=bindings, macros=macros)
    write_big_desk(small, surfaces=6, bindings=80, macros=7)

    def opened(desk: Path) -> tuple[float, Terminal]:
        began = time.perf_counter()
        terminal = Terminal("--desk", str(desk))
        terminal.wait("SURFACE 0", seconds=60)
        return time.perf_counter() - began, terminal

    def close(terminal: Terminal) -> None:
        terminal.keys("q")
        terminal.wait("ended with", seconds=30)
        terminal.close()
    first, terminal = opened(big)
    close(terminal)
    later: list[float] = []
    beside: list[float] = []
    for _ in range(effort.of(5, 1)):
        for desk, waits in ((big, later), (small, beside)):
            took, terminal = opened(desk)
            waits.append(took)
            close(terminal)
    best = min(later)
    figures = [
        Figure(f"opening {SURFACES} surfaces, {bindings:,} bindings, {macros:,} macros, program to drawn desk, best of "
               f"{len(later)}; beside 6 surfaces, 80 bindings, 7 macros", best, "s", min(beside), "under 1.5 s",
               best < 1.5),
        Figure("the same, median", percentile(later, 0.5), "s", percentile(beside, 0.5)),
        Figure("the same, for the very first time", first, "s")]
    figures += _edits(big, small, effort)
    _, terminal = opened(big)
    figures += _views(terminal, effort)
    close(terminal)
    return [*figures, *_million(big, opened, close, effort)]


# Follows the desk as a screen does, but takes nothing apart; asks, and tells how long each answer took.
_READER = """
import socket, sys
s = socket.socket(socket.AF_UNIX)
s.connect(sys.argv[1])
s.sendall(b'{"id":1,"do":"hello","protocol":1}\\n{"id":2,"do":"follow","topics":["desk"]}\\n')
while s.recv(1 << 20):
    pass
"""
_ASKER = """
import json, sys, time
from pathlib import Path
from brass_pebble.client import EngineClient
client, waits = EngineClient(Path(sys.argv[1])), []
end = time.monotonic() + float(sys.argv[2])
while time.monotonic() < end:
    began = time.perf_counter()
    client.ask("stop")
    waits.append(1000 * (time.perf_counter() - began))
    time.sleep(0.001)
print(json.dumps(waits))
"""


def _edits(big: Path, small: Path, effort: Effort) -> list[Figure]:
    """Edits, saved and live; and how long the engine kept somebody else waiting meanwhile."""
    found = {}
    for desk in (big, small):
        socket, _ = start_engine(desk, "--until-left", "--bench-only")
        reader = subprocess.Popen([sys.executable, "-c", _READER, str(socket)])
        asker = subprocess.Popen([sys.executable, "-c", _ASKER, str(socket), str(effort.of(6, 2))],
                                 stdout=subprocess.PIPE, text=True)
        with EngineClient(socket, "editor") as client:
            client.set_timeout(60)
            time.sleep(1)
            edits = []
            for number in range(effort.of(20, 4)):
                began = time.perf_counter()
                client.ask("bind", surface="s1", layer="l0", control=str(number % 9 + 1), kind="tap",
                           target=f"F{number % 12 + 1}")
                edits.append(1000 * (time.perf_counter() - began))
                time.sleep(0.05)
            waits = json.loads(asker.communicate()[0])
            found[desk] = percentile(edits, 0.5), max(waits)
        reader.terminate()
        time.sleep(1)
    (edit, longest), (other_edit, other_longest) = found[big], found[small]
    return [Figure(f"an edit of it, saved and live, median of {effort.of(20, 4)}", edit, "ms", other_edit,
                   "not felt: under 200 ms", edit < 200),
            Figure("the longest that another client waited meanwhile", longest, "ms", other_longest)]


def _timed(terminal: object, key: str, says: str, seconds: float = 30) -> float:
    began = time.perf_counter()
    terminal.keys(key)  # type: ignore[attr-defined]
    terminal.wait(lambda text: any(part in text for part in says.split("|")), seconds=seconds)  # type: ignore[attr-defined]
    return 1000 * (time.perf_counter() - began)


def _views(terminal: object, effort: Effort) -> list[Figure]:
    """Views of the large desk, key to screen; tmux is a part of every number."""
    figures = []
    moves = []
    rounds = effort.of(3, 1)
    for _ in range(rounds * 4):
        began = time.perf_counter()
        before = terminal.screen()  # type: ignore[attr-defined]
        terminal.keys("Right")  # type: ignore[attr-defined]
        terminal.wait(lambda text, before=before: text != before)  # type: ignore[attr-defined]
        moves.append(1000 * (time.perf_counter() - began))
    figures.append(Figure("selecting the next control on it, key to screen, median", percentile(moves, 0.5), "ms", None,
                          "not felt: under 200 ms", percentile(moves, 0.5) < 200))
    for key, name, says in VIEWS:
        looks = []
        for _ in range(rounds):
            looks.append(_timed(terminal, key, says))
            terminal.keys("Escape")  # type: ignore[attr-defined]
            terminal.wait(DESK)  # type: ignore[attr-defined]
        figures.append(Figure(f"opening {name} on it, key to screen, best of {rounds}", min(looks), "ms"))
    return figures


def _million(big: Path, opened: Callable[[Path], tuple[float, object]], close: Callable[..., None],
             effort: Effort) -> list[Figure]:
    """The Usage view over a year with a million presses."""
    desk = DeskStore(big, paths.state_folder() / "versions" / paths.desk_key(big), paths.user_layouts()).load().desk
    surfaces = [surface_row(desk, surface) for surface in desk.surfaces.values()]
    today = int(time.time() // 86_400)
    file = paths.history_file(big)
    made = 0
    for week in range(YEAR // 7):
        counter, store = Counter(), HistoryStore(file)
        for number, surface in enumerate(surfaces):
            share = effort.of(1_000_000, 20_000) // len(surfaces) // (YEAR // 7) + 1
            for press in play(make_habit(surface, number), share, week * 100 + number, start=today - YEAR + 7 * week,
                              days=7):
                counter.begin(press)
                counter.finish(press)
                made += 1
        store.add(counter.take(), int(time.time()) - 86_400 * (YEAR - 7 * week))
    began = time.perf_counter()
    HistoryStore(file).read(0, surfaces[0].id)
    read = 1000 * (time.perf_counter() - began)
    began = time.perf_counter()
    HistoryStore(file).read()
    whole = 1000 * (time.perf_counter() - began)
    _, terminal = opened(big)
    figures = [Figure(f"reading what concerns one of 40 surfaces in a history of {made:,} presses", read, "ms", None,
                      "under 500 ms", read < 500),
               Figure("reading all of it, as for charts of every surface", whole, "ms")]
    first = _timed(terminal, "U", "presses of")
    for _ in range(4):
        terminal.keys("i")  # type: ignore[attr-defined]
    terminal.wait("a year")  # type: ignore[attr-defined]
    looks = []
    for key, says in (*PAGES, *PAGES):
        looks.append(_timed(terminal, key, says))
    next_one = [_timed(terminal, "Tab", f"Usage   Surface {number}") for number in (1, 2, 3)]
    close_usage = max(looks)
    figures += [Figure("the Usage view over it, key to screen", first, "ms", None, "under 500 ms", first < 500),
                Figure("each of its six lists, key to screen, longest of 12", close_usage, "ms", None, "under 500 ms",
                       close_usage < 500),
                Figure("another surface in it, longest of 3", max(next_one), "ms", None, "under 500 ms",
                       max(next_one) < 500)]
    terminal.keys("Escape")  # type: ignore[attr-defined]
    terminal.wait(DESK)  # type: ignore[attr-defined]
    close(terminal)
    return figures
