"""What is measured of macros: many runs at once beside busy surfaces, reading long texts, opening a long one."""

from __future__ import annotations

import itertools
import json
import os
import re
import shlex
import subprocess
import threading
import time
import uuid
from pathlib import Path

from brass_pebble.client import EngineClient
from brass_pebble.core.macro.reader import read_macro
from brass_pebble.core.play.player import Player
from brass_pebble.core.play.router import Router
from effort import Effort
from figures import Figure, percentile
from host import BRASS_PEBBLE, measured_engine

RUNS, SURFACES = 50, 8


def many_runs(folder: Path, effort: Effort) -> list[Figure]:
    """50 runs at once of 200 key events each, while eight surfaces are pressed."""
    steps = effort.of(200, 20)
    rounds = [_many_runs(folder / f"many-{turn}", steps) for turn in range(effort.of(3, 1))]
    # A pause of the whole machine hits any of them: the steadiest counts, and all are told.
    best = min(rounds, key=lambda found: percentile(found[0], 0.99))
    lates, loop = best[0], best[4]
    others = ", ".join(f"{percentile(found[0], 0.99):.2f}" for found in rounds)
    return [
        Figure(f"lateness, {RUNS} runs at once of {steps} events beside {SURFACES} busy surfaces, 99th percentile "
               f"(rounds: {others}); beside a sleeping Python thread", percentile(lates, 0.99), "ms",
               percentile(loop, 0.99), "under 3 ms", percentile(lates, 0.99) < 3),
        Figure("events lost, out of order, or early", sum(found[1] + found[2] + found[3] for found in rounds), "",
               None, "none", sum(found[1] + found[2] + found[3] for found in rounds) == 0)]


def _many_runs(folder: Path, steps: int) -> tuple[list[float], int, int, int, list[float]]:
    (folder / "macros").mkdir(parents=True)
    text = 'format = 1\nname = "Many"\noutput = "stage"\ntap = "1ms"\n'
    bench = ""
    for index in range(SURFACES):
        bench += f'[[device]]\nid = "b{index}"\nname = "Pad {index}"\nlayout = "numpad"\n'
        text += (f'[surface.p{index}]\nlayout = "numpad"\ndevice = {{ name = "Pad {index}" }}\n'
                 f'[surface.p{index}.layer.base.press]\n5 = {{ tap = "Ctrl+F{index + 1}" }}\n')
    (folder / "desk.toml").write_text(text)
    (folder / "bench.toml").write_text(bench)
    keys = [f"{modifier}{letter}" for modifier in ("", "Pad") for letter in "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
            if not (modifier and letter.isalpha())] + [f"F{number}" for number in range(9, 25)]
    for index in range(RUNS):
        (folder / "macros" / f"run-{index}.macro").write_text(
            f"again both\nwait {index % 7}ms\nrepeat {steps // 2} every 20ms\n  tap {keys[index]} for 9ms\n")
    file = folder / "all.json"
    with measured_engine(folder, "--record-all", str(file), "--bench", str(folder / "bench.toml")) as (socket, _), \
            EngineClient(socket) as client:
        over = threading.Event()
        loop: list[float] = []

        def sleeper() -> None:
            began, number = time.monotonic(), 0
            while not over.is_set():
                number += 1
                time.sleep(max(0.0, began + number * 0.005 - time.monotonic()))
                loop.append(1000 * (time.monotonic() - began - number * 0.005))
        threading.Thread(target=sleeper, daemon=True).start()
        for index in range(RUNS):
            client.ask("play", macro=f"run-{index}")
        end = time.monotonic() + steps / 2 * 0.02 + 0.5
        presses = 0
        while time.monotonic() < end:
            for down in (True, False):
                client.ask("press", surface=f"p{presses % SURFACES}", control="5", down=down)
            presses += 1
            time.sleep(0.004)
        over.set()
        time.sleep(0.3)
    rows = json.loads(file.read_text())
    runs: dict[int, list[tuple[int, int]]] = {}
    for run, what, planned, _ in rows:
        runs.setdefault(run, []).append((planned, what))
    long = [events for events in runs.values() if len(events) > 10]
    lost = RUNS * steps - sum(len(events) for events in long)
    disorder = sum(a[0] > b[0] for events in long for a, b in itertools.pairwise(events))
    early = sum(late < 0 for _, _, _, late in rows)
    return [late / 1e6 for _, _, _, late in rows], lost, disorder, early, loop


def reading(folder: Path, effort: Effort) -> list[Figure]:
    """Reading and laying out 10,000 different lines, and opening 5,000 steps in the view."""
    lines, rounds = effort.of(10_000, 400), effort.of(5, 1)
    text = "\n".join(f"tap {'ABCDEFGH'[i % 8]} for {i % 977 + 1}ms\nwait {i * 7 % 4999 + 1}ms"
                     for i in range(lines // 2))
    times = []
    for _ in range(rounds):
        from brass_pebble.core.macro import reader
        reader._tree.cache_clear()
        began = time.perf_counter()
        read_macro(text)
        times.append(time.perf_counter() - began)
    beside = []
    for _ in range(rounds):
        began = time.perf_counter()
        for line in text.splitlines():
            re.match(r"(\w+) (\w+)(?: for (\w+))?", line)
        beside.append(time.perf_counter() - began)
    opened, moved = _open_long(folder / "view", text.rsplit("\n", lines // 2)[0], effort)
    opened_short, moved_short = _open_long(folder / "short", text.rsplit("\n", lines - 50)[0], effort)
    return [
        Figure(f"reading {lines:,} different lines, best of {rounds}; beside one regular expression a line", min(times),
               "s", min(beside), "under 1 s", min(times) < 1),
        Figure(f"opening a macro of {lines // 2:,} steps in the view, key to drawn lanes, best of {effort.of(3, 1)}; "
               "beside one of 50", opened, "s", opened_short, "under 0.3 s", opened < 0.3),
        Figure("moving to the next bar in it, key to screen, median; beside one of 50", moved, "ms", moved_short,
               "not felt: under 100 ms", moved < 100)]


def starting(effort: Effort) -> list[Figure]:
    """From a client's wish to the first effect, in the core alone: a macro with values beside others."""
    texts = {"values": "let x be number + 1\nlet name be \"a\" + text(x)\nif x > 0\n  tap A\n",
             "live": "if strength > 0\n  tap A\n", "plain": "tap A\n"}
    read = {name: read_macro(text)[0] for name, text in texts.items()}
    took: dict[str, list[float]] = {name: [] for name in texts}
    for _ in range(effort.of(4_000, 40)):
        for name, macro in read.items():
            router, out = Router(Player()), []
            began = time.perf_counter_ns()
            router.play_macro(router.new_trace(0, 0, "bench"), macro, 0, out, {"number": 3})
            took[name].append((time.perf_counter_ns() - began) / 1e6)
            assert out
    found = {name: percentile(times, 0.5) for name, times in took.items()}
    return [
        Figure("start of a macro with values to its first effect, in the core, median; beside one that chooses without "
               "values of its own", found["values"], "ms", found["live"], "at most 1.2×",
               found["values"] <= 1.2 * found["live"]),
        Figure("the same; beside one that is the same for every press", found["values"], "ms", found["plain"])]


def _open_long(folder: Path, text: str, effort: Effort) -> tuple[float, float]:
    (folder / "macros").mkdir(parents=True)
    (folder / "desk.toml").write_text('format = 1\nname = "Long"\noutput = "stage"\n')
    (folder / "macros" / "long.macro").write_text(text + "\n")
    name = f"bench-{uuid.uuid4().hex[:8]}"
    tmux = ["tmux", "-L", name, "-f", "/dev/null"]
    names = ("XDG_RUNTIME_DIR", "XDG_STATE_HOME", "XDG_CONFIG_HOME")
    command = shlex.join(["env", "-u", "COLUMNS", "-u", "LINES", *(f"{n}={os.environ[n]}" for n in names),
                          str(BRASS_PEBBLE), "--desk", str(folder)])

    def screen() -> str:
        return subprocess.run([*tmux, "capture-pane", "-p"], capture_output=True, text=True, check=False).stdout

    def wait(words: str) -> float:
        began = time.perf_counter()
        while words not in screen():
            if time.perf_counter() - began > 30:
                raise TimeoutError(f"never saw {words!r}:\n{screen()}")
        return time.perf_counter() - began

    def key(*keys: str) -> None:
        subprocess.run([*tmux, "send-keys", *keys], check=True)

    subprocess.run([*tmux, "new-session", "-d", "-x", "160", "-y", "40", command], check=True)
    try:
        wait("no surfaces yet")
        opened = []
        for _ in range(effort.of(3, 1)):
            key("O")
            wait("Part of a macro")
            time.sleep(0.3)
            key("Enter")
            opened.append(wait("selected:"))
            time.sleep(0.5)
            moves = []
            for number in range(2, effort.of(22, 4)):
                key("Right")
                moves.append(1000 * wait(f"line {2 * number - 1} "))
            key("Escape")
            wait("no surfaces yet")
        # Its engine ends with it, and writes to the folder until then.
        key("q")
        until = time.monotonic() + 20
        while time.monotonic() < until and subprocess.run([*tmux, "has-session"], check=False,
                                                          capture_output=True).returncode == 0:
            time.sleep(0.05)
        return min(opened), percentile(moves, 0.5)
    finally:
        subprocess.run([*tmux, "kill-server"], check=False, capture_output=True)


def macros(folder: Path, effort: Effort) -> list[Figure]:
    """All of it."""
    return [*many_runs(folder / "many", effort), *starting(effort), *reading(folder / "reading", effort)]
